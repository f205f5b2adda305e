package ports

import (
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

func TestAPortThatFailsAtManySitesOfAProviderIsCounted(t *testing.T) {
	s := site.Service{Reach: site.ByForward, ExternalFrom: 8443, Transport: probe.TCP}
	other := s
	other.ExternalFrom = 22
	link := func(id int64) site.Link { return site.Link{ID: id, Provider: "Kettle Cable"} }
	round := func(before Seen) Seen {
		now := Seen{}
		now.Note(before, s, link(1), probe.Silent)
		now.Note(before, s, link(2), probe.Silent)
		now.Note(before, s, link(3), probe.Silent) // where nothing else works
		now.Note(before, s, link(4), probe.Opened)
		now.Note(before, s, link(5), probe.Refused) // which is an answer of somebody, and no work
		now.Note(before, s, site.Link{ID: 6, Provider: "Gannet Fibre"}, probe.Opened)
		now.Note(before, other, link(4), probe.Opened)
		return now.Without(map[int64]bool{1: true, 2: true, 4: true})
	}
	p := round(round(nil))
	works, silent := p.Elsewhere(s, link(1))
	require.Equal(t, []int{1, 1}, []int{works, silent}, "its own link does not count")
	works, silent = p.Elsewhere(s, link(9))
	require.Equal(t, []int{1, 2}, []int{works, silent})
	require.Len(t, p, 1, "ports that fail nowhere are not kept")
	works, silent = p.Elsewhere(s, site.Link{ID: 1})
	require.Zero(t, works+silent, "without a provider, nothing is known of others")
}

package record

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/record/recordtest"
)

// Hostnames and aliases are added, edited and removed one by one, each read back alone: that has to give what reading everything gives, and
// to say that nothing differs but at that name.
func TestANameThatIsReadAloneGivesWhatReadingAllGives(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 19))
	rows := &recordtest.Rows{SiteRows: []site.Site{{ID: 1, Code: "KET-07"}, {ID: 2, Code: "OYS-03"}},
		LinkRows: []site.Link{{ID: 10, SiteID: 1, Label: "main", Position: 1}}, ZoneRows: []names.Zone{{ID: 1, Apex: "isles.example"}}}
	var r Record
	_, err := r.Load(t.Context(), rows)
	require.NoError(t, err)
	removed := 0
	for n := range 400 {
		name := names.Name(fmt.Sprintf("n%02d.isles.example", random.IntN(20)))
		parts := Hostnames
		if random.IntN(2) == 0 {
			name, parts = "to-"+name, Aliases
		}
		without := func() bool {
			hostnames, aliases := len(rows.HostnameRows), len(rows.AliasRows)
			rows.HostnameRows = slices.DeleteFunc(slices.Clone(rows.HostnameRows), func(h site.Hostname) bool { return h.Name == name })
			rows.AliasRows = slices.DeleteFunc(slices.Clone(rows.AliasRows), func(a site.Alias) bool { return a.Name == name })
			return hostnames+aliases > len(rows.HostnameRows)+len(rows.AliasRows)
		}
		was := without()
		switch {
		case was && random.IntN(3) == 0:
			removed++
		case parts == Hostnames:
			rows.HostnameRows = append(rows.HostnameRows, site.Hostname{ID: int64(100 + n), SiteID: 1, ZoneID: 1, LinkID: 10, Name: name,
				TTL: n, Extras: []string{"www"}})
			slices.SortFunc(rows.HostnameRows, func(a, b site.Hostname) int { return strings.Compare(string(a.Name), string(b.Name)) })
		default:
			rows.AliasRows = append(rows.AliasRows, site.Alias{ID: int64(100 + n), SiteID: 1, ZoneID: 1, Name: name, TTL: n})
			slices.SortFunc(rows.AliasRows, func(a, b site.Alias) int { return strings.Compare(string(a.Name), string(b.Name)) })
		}
		d, err := r.Reload(t.Context(), rows, Touched{Sites: []int64{1}, Parts: parts, At: []names.Name{name}})
		require.NoError(t, err)
		require.Contains(t, d.Names(1), name)
		for _, at := range d.Names(1) {
			require.Contains(t, []names.Name{name, "www." + name}, at)
		}
		var all Record
		_, err = all.Load(t.Context(), rows)
		require.NoError(t, err)
		want, got := mustSite(t, &all), mustSite(t, &r)
		require.Equal(t, want.Hostnames, append([]site.Hostname{}, got.Hostnames...))
		require.Equal(t, all.Aliases(), r.Aliases())
		require.Equal(t, all.hostnames, r.hostnames)
	}
	require.Greater(t, removed, 20)
}

func mustSite(t *testing.T, r *Record) Site {
	t.Helper()
	p, ok := r.Site(1)
	require.True(t, ok)
	return p
}

package site

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestATagStandsForOneRevisionOfOneResource(t *testing.T) {
	seen := map[string]bool{}
	for _, id := range []int64{1, 2, 11} {
		for _, revision := range []int64{1, 2, 11} {
			tags := []string{Site{ID: id, Revision: revision}.Tag(), Link{ID: id, Revision: revision}.Tag(),
				Device{ID: id, Revision: revision}.Tag(),
				Service{ID: id, Revision: revision}.Tag(), Hostname{ID: id, Revision: revision}.Tag(),
				Alias{ID: id, Revision: revision}.Tag(), Redirect{ID: id, Revision: revision}.Tag()}
			for _, tag := range tags {
				require.Equal(t, tags[0], tag, "every kind of resource is tagged the same way")
			}
			require.False(t, seen[tags[0]], "1 and 11 are not 11 and 1: %s", tags[0])
			seen[tags[0]] = true
		}
	}
	moved := Link{ID: 1, Revision: 3, Source: "stun"}
	require.Equal(t, Link{ID: 1, Revision: 3}.Tag(), moved.Tag(), "an address that moves is no edit")
}

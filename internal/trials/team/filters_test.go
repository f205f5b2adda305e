package team_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/testbed"
)

func TestFiltersArePeoplesOwn(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	_, hanna := s.Join(t, "hanna", team.Viewer)
	kept, err := s.Client.KeepSiteFilter(t.Context(), "tag=museum&need=&find=key")
	require.NoError(t, err)
	require.Equal(t, "find=key&tag=museum", kept.Query, "written in one way")
	again, err := s.Client.KeepSiteFilter(t.Context(), "find=key&tag=museum")
	require.NoError(t, err)
	require.Equal(t, kept, again)
	list, err := hanna.SiteFilters(t.Context())
	require.NoError(t, err)
	require.Empty(t, list)
	require.True(t, client.IsStatus(hanna.DropSiteFilter(t.Context(), kept.ID), 404), "somebody else's")
	for _, bad := range []string{"", "need=", "colour=red", "tag=a&tag=b", "%zz", "find=" + fmt.Sprintf("%0400d", 1)} {
		_, err = hanna.KeepSiteFilter(t.Context(), bad)
		require.True(t, client.IsStatus(err, 422), "%q: %v", bad, err)
	}
	for i := range 50 {
		_, err = hanna.KeepSiteFilter(t.Context(), fmt.Sprintf("tag=t%d", i))
		require.NoError(t, err)
	}
	_, err = hanna.KeepSiteFilter(t.Context(), "tag=one-more")
	require.ErrorContains(t, err, "drop one first")
	require.NoError(t, s.Client.DropSiteFilter(t.Context(), kept.ID))
	require.True(t, client.IsStatus(s.Client.DropSiteFilter(t.Context(), kept.ID), 404))
}

package team_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/testbed"
)

func TestLikeFaultsOfManySitesAreOneLine(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	ctx := t.Context()
	const sites = 25
	for i := range sites {
		code := fmt.Sprintf("KETTLE-EAST-%03d", i)
		_, err := s.Client.AddSite(ctx, contract.SiteInput{Code: code, Name: "Kettle East", Tags: []string{[]string{"odd", "even"}[i%2]}})
		require.NoError(t, err)
		_, err = s.Client.AddLink(ctx, code, contract.LinkInput{Label: "main", Mode: "static", IPv4: fmt.Sprintf("127.110.3.%d", 1+i)})
		require.NoError(t, err)
		_, err = s.Client.AddDevice(ctx, code, contract.DeviceInput{Name: "recorder", Address: "192.168.1.20"})
		require.NoError(t, err)
		_, err = s.Client.AddService(ctx, code, contract.ServiceInput{Name: "page", Device: "recorder", Kind: "http", External: "8081",
			Interval: 10,
			InUse:    true})
		require.NoError(t, err)
	}
	_, even := s.Join(t, "dispatch", team.Technician, "even")
	var o contract.Overview
	require.Eventually(t, func() bool {
		var err error
		o, err = s.Client.Overview(ctx)
		return err == nil && o.FaultCount == sites
	}, 60*time.Second, 200*time.Millisecond)
	require.Len(t, o.Groups, 1)
	require.Empty(t, o.Faults)
	g := o.Groups[0]
	require.Equal(t, []int{sites, sites, 20}, []int{g.Count, g.Sites, len(g.Faults)})
	require.NotContains(t, g.Summary, "{")
	all, err := s.Client.FaultsOf(ctx, "", g.Cause, true)
	require.NoError(t, err)
	require.Len(t, all, sites)
	_, err = s.Client.FaultsOf(ctx, "", "gremlins", true)
	require.ErrorContains(t, err, "is no cause")
	theirs, err := even.Overview(ctx)
	require.NoError(t, err)
	require.Equal(t, sites/2, theirs.FaultCount, "a team's groups have its own sites only")
	require.Equal(t, sites/2, theirs.Groups[0].Sites)
	require.Len(t, theirs.Sites, sites/2)
}

package daemon_test

import (
	"context"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/testbed"
)

func TestAFaultSaysHowItsCausesWereWeighedAndIsJudgedAfterwards(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	d := &door{t: t, at: "127.110.1.61:8443"}
	d.open()
	exposed(t, s, "127.110.1.61", "8443", "")
	awaitState(t, s, probe.Opened, probe.StateReachable, 3*time.Second)
	w, err := s.Client.Why(t.Context(), "KET-07")
	require.NoError(t, err)
	require.Empty(t, w.Rankings, "nothing fails")
	d.close()
	awaitState(t, s, probe.Refused, probe.StateUnreachable, 12*time.Second)
	var f contract.Fault
	require.EventuallyWithT(t, func(c *assert) {
		list, err := s.Client.Faults(context.Background(), "KET-07", true)
		require.NoError(c, err)
		require.Len(c, list, 1)
		require.NotZero(c, list[0].ID, "it is written")
		f = list[0]
	}, 5*time.Second, 20*time.Millisecond)
	require.Equal(t, causes.Open, f.Finding.Sure, "the agent is silent, and somebody refuses")
	require.Contains(t, f.Finding.Between, causes.Slug("service-stopped"))
	require.NotNil(t, f.Finding.Check)
	w, err = s.Client.Why(t.Context(), "KET-07")
	require.NoError(t, err)
	require.Len(t, w.Rankings, 1)
	r := w.Rankings[0]
	require.Equal(t, []string{"page"}, r.Services)
	require.Equal(t, f.Finding.Cause, r.Causes[0].Cause)
	require.NotEmpty(t, r.Causes[0].For)
	require.Contains(t, r.Unknown, causes.LookInside)
	excluded := 0
	for _, one := range r.Causes {
		if one.Excluded {
			excluded++
			require.NotEmpty(t, one.Against, "%s is excluded by something", one.Cause)
		}
	}
	require.Positive(t, excluded)

	_, err = s.Client.JudgeFault(t.Context(), f.ID, contract.FaultJudgementInput{Actual: "gremlins"})
	require.ErrorContains(t, err, "is no cause")
	_, err = s.Client.JudgeFault(t.Context(), f.ID, contract.FaultJudgementInput{})
	require.ErrorContains(t, err, "say what it was")
	_, err = s.Client.JudgeFault(t.Context(), f.ID, contract.FaultJudgementInput{Right: true, Actual: "device-off"})
	require.ErrorContains(t, err, "leave it out")
	_, err = s.Client.JudgeFault(t.Context(), f.ID+1000, contract.FaultJudgementInput{Right: true})
	require.True(t, client.IsStatus(err, http.StatusNotFound), "%v", err)
	j, err := s.Client.JudgeFault(t.Context(), f.ID, contract.FaultJudgementInput{Actual: "router-refuses",
		Note: " the router was swapped "})
	require.NoError(t, err)
	require.Equal(t, "the router was swapped", j.Note)
	list, err := s.Client.Faults(t.Context(), "KET-07", false)
	require.NoError(t, err)
	require.Equal(t, causes.Slug("router-refuses"), list[0].Judged.Actual)
	a, err := s.Client.Accuracy(t.Context())
	require.NoError(t, err)
	require.Equal(t, []contract.Accuracy{{Cause: f.Finding.Cause, Told: 1, Judged: 1, Instead: []contract.Instead{{Cause: "router-refuses",
		Count: 1}}}}, a)
	_, err = s.Client.JudgeFault(t.Context(), f.ID, contract.FaultJudgementInput{Right: true})
	require.NoError(t, err)
	a, err = s.Client.Accuracy(t.Context())
	require.NoError(t, err)
	require.Equal(t, 1, a[0].Right, "the last word counts")
	require.Empty(t, a[0].Instead)

	all, err := s.Client.Causes(t.Context())
	require.NoError(t, err)
	require.Len(t, all, len(causes.Table()))
}

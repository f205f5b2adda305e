package seen_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/probing/seen"
)

func TestAServiceIsJudgedByThoseThatCount(t *testing.T) {
	rule := probe.Rule{Expected: probe.ExpectReachable, Stale: time.Hour}
	now := failing.At
	open := probe.View{Outcome: probe.Opened, InRow: 1, Since: now, At: now}
	good := seen.Result{Vantage: 1, View: open, Latency: time.Millisecond, Message: "connection accepted"}
	bad := seen.Result{Vantage: 2, View: failing, Message: "nothing came back"}
	before := seen.Status{State: probe.StateUnknown, Since: morning}

	st := before.Judged([]seen.Result{good}, rule, nil, now)
	require.Equal(t, seen.Status{State: probe.StateReachable, Since: now, Proven: now, View: open, Latency: time.Millisecond,
		Message: "connection accepted"}, st)

	down := st.Judged([]seen.Result{bad}, rule, nil, now.Add(time.Minute))
	require.Equal(t, probe.StateUnreachable, down.State)
	require.Equal(t, now, down.Proven, "it was seen once")
	require.Equal(t, "nothing came back", down.Message)

	unfit := map[int64]string{2: "nothing answers it"}
	require.Equal(t, probe.StateReachable, st.Judged([]seen.Result{bad}, rule, unfit, now.Add(time.Minute)).State,
		"who sees nothing anywhere changes nothing")
	require.Equal(t, probe.StateUnknown, st.Judged([]seen.Result{bad}, rule, unfit, now.Add(2*time.Hour)).State, "but not for ever")

	half := st
	half.Ways = []seen.Way{{Reach: site.ByForward, Outcome: probe.Opened}, {Reach: site.ByPinhole, Outcome: probe.Silent}}
	require.Equal(t, probe.StateImpaired, half.Judged([]seen.Result{bad}, rule, nil, now.Add(time.Minute)).State)
}

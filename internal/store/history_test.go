package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/store"
)

func TestSpansGrowInTheirPartition(t *testing.T) {
	f := furnish(t, open(t), "KET")
	ctx := t.Context()
	vantage, err := f.OwnVantage(ctx, "server", true)
	require.NoError(t, err)
	same, err := f.OwnVantage(ctx, "server", true)
	require.NoError(t, err)
	require.Equal(t, vantage, same)
	span := ledger.Span{ServiceID: f.service.ID, VantageID: vantage, Vantage: "server", Outcome: probe.Opened,
		From: morning.AddDate(0, -2, 0), Until: morning, Count: 5, Timed: 4, Fastest: 10, Total: 100, Slowest: 40}
	later := span
	later.Outcome, later.From, later.Until, later.Count = probe.Silent, morning.Add(time.Minute), morning.Add(time.Hour), 60
	require.NoError(t, f.PutSpans(ctx, []ledger.Span{span, later}))
	span.Until, span.Count = morning.Add(30*time.Second), 6
	require.NoError(t, f.PutSpans(ctx, []ledger.Span{span}))
	got, err := f.Spans(ctx, f.service.ID, morning.AddDate(-1, 0, 0), morning.AddDate(0, 0, 1))
	require.NoError(t, err)
	require.Equal(t, []ledger.Span{span, later}, got)
	got, err = f.Spans(ctx, f.service.ID, morning.Add(40*time.Second), morning.Add(50*time.Second))
	require.NoError(t, err)
	require.Empty(t, got, "nothing touches the gap")
	newest, err := f.NewestSpans(ctx)
	require.NoError(t, err)
	require.Equal(t, []ledger.Span{later}, newest)
	require.NoError(t, f.EnsurePartitions(ctx, morning.AddDate(0, 3, 0)))
	require.NoError(t, f.PutServiceStates(ctx, []store.ServiceState{{ServiceID: f.service.ID, State: probe.StateReachable,
		Since: morning}, {ServiceID: 999, State: probe.StateUnknown, Since: morning}}))
	standings, err := f.ServiceStates(ctx)
	require.NoError(t, err)
	require.Equal(t, []store.ServiceState{{ServiceID: f.service.ID, State: probe.StateReachable, Since: morning}}, standings,
		"that of a service that is gone is left out")
}

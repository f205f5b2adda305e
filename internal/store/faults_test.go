package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/store"
)

func TestAFaultIsKeptWithItsTimeline(t *testing.T) {
	f := furnish(t, open(t), "KET")
	ctx := t.Context()
	one := store.Fault{SiteID: f.site.ID, Began: morning.Add(-20 * time.Second), Opened: morning, Finding: diagnose.Finding{
		Cause: "forward-missing", Hop: diagnose.HopForward, Subject: "service page", Summary: "first", Next: "do this"}}
	opened := store.FaultEvent{At: morning, Kind: fault.Opened, Words: "first"}
	id, err := f.SaveFault(ctx, one, []store.FaultEvent{opened})
	require.NoError(t, err)
	again, err := f.SaveFault(ctx, one, []store.FaultEvent{opened})
	require.NoError(t, err)
	require.Equal(t, id, again, "an answer that got lost: it is written once")

	one.ID, one.Finding.Cause, one.Finding.Summary = id, "router-refuses", "second"
	changed := store.FaultEvent{At: morning.Add(time.Minute), Kind: fault.Changed, Words: "second"}
	_, err = f.SaveFault(ctx, one, []store.FaultEvent{changed})
	require.NoError(t, err)
	noted := store.FaultEvent{At: morning.Add(2 * time.Minute), Kind: fault.Assigned, By: "dispatch", Words: "for field technician"}
	taken := store.Taking{Acknowledged: noted.At, By: "dispatch", Assigned: "field technician"}
	take := func(store.Taking) (store.Taking, store.FaultEvent) { return taken, noted }
	_, err = f.TakeFault(ctx, id, take)
	require.NoError(t, err)
	_, err = f.TakeFault(ctx, id+1, take)
	require.ErrorContains(t, err, "fault")
	one.Closed, one.Turned, one.Returns = morning.Add(time.Hour), morning.Add(time.Hour), 2
	_, err = f.SaveFault(ctx, one, nil)
	require.NoError(t, err)

	list, err := f.Faults(ctx, store.FaultFilter{Since: morning.Add(time.Hour), Limit: 10})
	require.NoError(t, err)
	require.Len(t, list, 1)
	one.Taken, one.Site, one.SiteName = taken, list[0].Site, list[0].SiteName
	require.Equal(t, one, list[0], "what people said of it stays")
	list, err = f.Faults(ctx, store.FaultFilter{Since: morning.Add(2 * time.Hour), Limit: 10})
	require.NoError(t, err)
	require.Empty(t, list)
	timeline, err := f.Timeline(ctx, id)
	require.NoError(t, err)
	require.Equal(t, []store.FaultEvent{opened, changed, noted}, timeline)

	area := store.Fault{Opened: morning, Finding: diagnose.Finding{Cause: "provider-outage", Subject: "provider Kettle Cable"}}
	area.ID, err = f.SaveFault(ctx, area, nil)
	require.NoError(t, err)
	one.Under = area.ID
	_, err = f.SaveFault(ctx, one, nil)
	require.NoError(t, err)

	for by, want := range map[string]store.FaultTimes{
		"site": {Site: "", Faults: 1, Open: 1}, "provider": {Provider: "Kettle Cable", Faults: 1, Open: 1},
		"cause": {Cause: "provider-outage", Faults: 1, Open: 1}} {
		times, err := f.FaultTimes(ctx, by, morning.Add(-time.Hour), nil)
		require.NoError(t, err)
		require.Equal(t, []store.FaultTimes{want}, times, "what the outage explains counts with it")
	}
	one.Under = 0
	_, err = f.SaveFault(ctx, one, nil)
	require.NoError(t, err)
	times, err := f.FaultTimes(ctx, "cause", morning.Add(-time.Hour), nil)
	require.NoError(t, err)
	require.Equal(t, store.FaultTimes{Cause: "router-refuses", Faults: 1, Notice: 20, Mend: 3600, Longest: 3600}, times[1])
}

func TestPlannedWorkIsKept(t *testing.T) {
	f := furnish(t, open(t), "KET")
	ctx := t.Context()
	w := fault.Work{Scope: fault.Scope{Site: f.site.Code}, Starts: morning, Minutes: 90, Zone: "Europe/London", Repeats: fault.Weekly,
		Last: morning.AddDate(0, 2, 0), Reason: "the provider swaps its modem", By: "dispatch"}
	var err error
	w.ID, err = f.PlanWork(ctx, f.site.ID, w)
	require.NoError(t, err)
	list, err := f.PlannedWork(ctx)
	require.NoError(t, err)
	require.Equal(t, []fault.Work{w}, list)
	require.NoError(t, f.EndWork(ctx, w.ID))
	require.ErrorContains(t, f.EndWork(ctx, w.ID), "planned work")
}

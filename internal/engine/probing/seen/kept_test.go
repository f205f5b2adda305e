package seen_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/probing/seen"
)

var (
	morning = time.Date(2026, 11, 23, 8, 0, 0, 1, time.UTC)
	address = netip.MustParseAddr("198.51.100.7")
	failing = probe.View{Outcome: probe.Silent, InRow: 3, Since: morning, At: morning.Add(time.Minute)}
)

func TestWhatIsKeptComesBackAsItWas(t *testing.T) {
	status := seen.Status{State: probe.StateUnreachable, Since: morning, Proven: morning.Add(-time.Hour), View: failing, Probed: failing.At,
		Address: address, Latency: time.Second, Message: "nothing came back", Shown: &seen.Shown{Fingerprint: "key 1"}, Settling: true,
		Ways:   []seen.Way{{Reach: site.ByForward, Target: netip.AddrPortFrom(address, 443), Outcome: probe.Silent}},
		Lately: probe.Lately{}.Note(probe.Answered, 20*time.Millisecond)}
	results := []seen.Result{{Vantage: 1, View: failing, Latency: time.Second, Message: "nothing came back", Known: true},
		{Vantage: 2, View: failing, LeftOut: "it is on the same LAN", ICMP: probe.ICMP{Type: 3, From: address}, Hung: true,
			Series: &probe.Series{At: morning}}}

	var k seen.Kept
	k.SetStatus(status)
	k.SetResults(results)
	require.Equal(t, status, k.Status())
	require.Equal(t, results, k.Results(nil))
	require.Equal(t, status.State, k.State())

	results[1] = seen.Result{}
	require.NotEqual(t, results, k.Results(nil), "the list is the caller's")
	k.SetResults(results[:1])
	require.Equal(t, results[:1], k.Results(nil))

	k.StartOver()
	require.Zero(t, k.Status().View.InRow)
	require.Zero(t, k.Results(nil)[0].InRow)
	require.Equal(t, failing.Since, k.Status().View.Since)

	k.SetStatus(seen.Status{})
	require.Equal(t, seen.Status{}, k.Status(), "the zero time stays the zero time")
}

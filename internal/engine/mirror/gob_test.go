package mirror

import (
	"bytes"
	"encoding/gob"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/history"
	"inkpost.example/inkpost/internal/engine/moves"
	"inkpost.example/inkpost/internal/engine/probing/named"
	"inkpost.example/inkpost/internal/engine/probing/seen"
	"inkpost.example/inkpost/internal/engine/siteside"
	"inkpost.example/inkpost/internal/engine/vantages"
	"inkpost.example/inkpost/internal/engine/verify"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/speak"
)

// What is told arrives as it was: nothing of it is a field that cannot be sent.
func TestNewsArrivesAsItWas(t *testing.T) {
	at, address := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC), netip.MustParseAddr("198.51.100.7")
	view := probe.View{Outcome: probe.Silent, InRow: 3, Since: at, At: at}
	status := seen.Status{State: probe.StateUnreachable, Since: at, Proven: at, View: view, Probed: at, Address: address,
		Latency: 8 * time.Millisecond, Message: "nothing came back", Settling: true,
		Shown: &seen.Shown{Fingerprint: "key SHA256:x",
			Certificate: &speak.Certificate{Names: []string{"ket-07.example"}, Expires: at},
			Named:       &named.Result{Hostname: "ket-07.example", Given: wan.PairOf(address), At: at}},
		Ways: []seen.Way{{Reach: site.ByForward, Target: netip.AddrPortFrom(address, 8443), Outcome: probe.Silent}}}
	finding := diagnose.Finding{Cause: "device-off", Subject: "device recorder", Services: []string{"cameras"},
		Evidence: []string{"silent"}}
	in := News{Whole: true, Areas: []store.Fault{{ID: 9, Finding: finding, Opened: at}},
		Own: &Own{Vantages: []vantages.Vantage{{ID: 2, Name: "gannet", Heard: at, Self: vantages.Self{Version: "1"}}},
			Unfit: map[int64]string{2: "blind"}, Since: at,
			Asks: verify.Servers{Name: "127.0.0.1:53", Resolvers: []string{"127.0.0.1:5353"}}},
		Events: []Event{{ID: "17", Kind: "fault-opened", Site: "KET-07", At: at}},
		Moves: &moves.Waiting{Changes: []store.Change{{ID: 4, LinkID: 3, New: wan.PairOf(address)}},
			Stages: []store.Stages{{MoveID: 4, Answered: at}}, First: 2, Oldest: 4, Settled: 1},
		Sites: []Site{{ID: 1, Services: []Service{{ID: 5, Status: statusOf(status),
			Results: []seen.Result{{Vantage: 1, View: view,
				ICMP: probe.ICMP{Type: 3, From: address}, Series: &probe.Series{Answers: []probe.HopAnswer{{}}, At: at}}},
			Spans: []ledger.Span{{ServiceID: 5, VantageID: 1, Outcome: probe.Silent, From: at, Until: at, Count: 3}},
			Today: history.Today{Start: at, Hours: []byte{0, 1, 2, 3}, Latency: []byte{7, 1}},
			Trial: site.Trial{At: at, Came: site.CameNot}, Trying: true}},
			Links: []Link{{ID: 3, Heard: at, Known: true, Report: site.LinkReport{NAT: wan.NAT{Verdict: wan.NATDouble}, Rhythm: time.Minute,
				Own: wan.PairOf(address), Refused: []site.Refusal{{Reason: "static", Last: at}}},
				Router: site.RouterWord{At: at, Ports: map[string]site.ListedPort{"cameras": {Lease: time.Hour}}}}},
			Devices: []Device{{ID: 6, Seen: siteside.DeviceReport{Device: "recorder", Present: true, At: at,
				Ports: []siteside.PortSeen{{Service: "cameras", State: "open"}}, Hours: diagnose.Hours{3: {There: 4}}}}},
			Names: []Name{{ID: 7, Known: verify.NameKnown{Published: at, Given: wan.PairOf(address), Asked: true,
				Resolvers: map[string]verify.ResolverGave{"127.0.0.1:53": {Given: wan.PairOf(address), At: at}}},
				Pushed: []store.RemoteName{{ZoneID: 8, Name: "ket-07.example", Given: []names.Record{{}}}}}},
			Aliases: []Alias{{ID: 8, Answers: []verify.AliasAnswer{{Server: "127.0.0.1:53", Given: wan.PairOf(address)}}}},
			Faults:  []store.Fault{{ID: 9, SiteID: 1, Finding: finding, Opened: at, Taken: store.Taking{By: "owner"}}},
			Paths:   []diagnose.Path{{Service: "cameras", Finding: &finding, Stations: []diagnose.Station{{}}}}}}}
	var over bytes.Buffer
	require.NoError(t, gob.NewEncoder(&over).Encode(in))
	var out News
	require.NoError(t, gob.NewDecoder(&over).Decode(&out))
	require.Equal(t, in, out)
	require.Equal(t, status, out.Sites[0].Services[0].Status.status())
}

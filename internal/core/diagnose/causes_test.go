package diagnose

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
)

func views(outcomes ...probe.Outcome) (out []VantageResult) {
	for i, o := range outcomes {
		out = append(out, VantageResult{Vantage: []string{"server", "harbour", "island"}[i], Outcome: o})
	}
	return out
}

func held(problem PushProblem, zone names.Name, name names.Name) HostnameEvidence {
	return HostnameEvidence{Hostname: site.Hostname{Name: name, Zone: zone}, State: names.StateHeld,
		Push: PushEvidence{Problem: problem, Primary: "198.51.100.53:53", Detail: "it said no", Tries: 4, Since: now.Add(-time.Hour)}}
}

// lookFromInside has an agent look at a device just now.
func lookFromInside(e *Evidence, device string, d DeviceReport) {
	d.At = now.Add(-time.Second)
	e.Seen = map[string]DeviceReport{device: d}
}

func TestCausesThatNeedMoreThanOneLook(t *testing.T) {
	for name, c := range map[string]struct {
		edit     func(*Evidence)
		want     causes.Slug
		hop      Hop
		subject  string
		services []string
		evidence string
		next     string
	}{
		"another key at a proven link": {func(e *Evidence) {
			fail(e, probe.Stranger, 0)
			e.Services[0].Fingerprint, e.Services[0].Service.Fingerprint = "tls-key new", "tls-key old"
		}, "service-changed", HopService, "service page", []string{"page"}, "page shows tls-key new; pinned is tls-key old",
			"inkpost service pin KET-07 page"},
		"another key where nobody was heard for long": {func(e *Evidence) {
			fail(e, probe.Stranger, 0, 1)
			fail(e, probe.Refused, 2)
			e.Services[0].Quarantine = "a stranger answers"
			e.Links[0].Overdue, e.Links[0].Heard = true, now.Add(-time.Hour)
		}, "moved-unannounced", HopAddress, "link main", []string{"page", "playback", "shell"}, "a stranger answers",
			"call someone there, or look at the customer page of Kettle Cable"},
		"reached from one side": {func(e *Evidence) {
			fail(e, probe.Silent, 0, 2)
			for _, i := range []int{0, 2} {
				e.Services[i].State, e.Services[i].Results = probe.StateImpaired, views(probe.Silent, probe.Answered, probe.Answered)
			}
			e.Services[0].Results[2].LeftOut = "it stands inside"
		}, "one-side-only", HopVantage, "link main", []string{"page", "shell"},
			"page (TCP port 8443): silent from server, answered from harbour",
			"Look whether the router or recorder, desk blocks some networks"},
		"refused inside, answered outside": {func(e *Evidence) {
			e.Services[0].Outcome, e.Services[0].Probed = probe.Answered, now
			lookFromInside(e, "recorder", DeviceReport{Present: true, Ports: map[string]string{"page": "refused"}})
		}, "router-answers", HopForward, "service page", []string{"page"}, "from inside, TCP port 8443 of 192.168.7.20 is refused",
			"move one of the two to another port"},
		"a certificate that runs out": {func(e *Evidence) { e.Services[0].Expires = now.Add(8*24*time.Hour + time.Hour) },
			"certificate-expiring", HopService, "service page", []string{"page"},
			"it is valid until 2026-12-01", "Renew it on recorder"},
		"a certificate of last week": {func(e *Evidence) { e.Services[0].Expires = now.Add(-7 * 24 * time.Hour) }, "certificate-expired",
			HopService, "service page", []string{"page"},
			"it is valid until 2026-11-16", "Renew it on recorder"},
		"the primary says no": {func(e *Evidence) { e.Hostnames[0] = held(PushRefused, "quay.example", "tickets.quay.example") },
			"primary-refuses", HopHostname, "zone quay.example", nil,
			"its primary 198.51.100.53:53: it said no", "inkpost zone push quay.example"},
		"the primary is away": {func(e *Evidence) { e.Hostnames[0] = held(PushUnreachable, "quay.example", "tickets.quay.example") },
			"primary-away", HopHostname, "zone quay.example", nil,
			"tried 4 times in 1 h", "Nothing is lost"},
		"no resolver at the site": {func(e *Evidence) { e.Links[0].Resolver = "192.168.7.1 does not answer" }, "site-resolver",
			HopAddress, "link main", nil,
			"192.168.7.1 does not answer", "Set a working resolver"},
		"a wrong key, again and again": {func(e *Evidence) {
			e.Links[0].Refused = []RefusedEvidence{{From: "203.0.113.9", Reason: "a slip", Count: 1},
				{From: "203.0.113.4", Reason: "the key was revoked", Count: 5}}
		}, "key-refused", HopAddress, "link main", nil, "5 times, from 203.0.113.4: the key was revoked",
			"inkpost agent router-url KET-07 main"},
		"carrier-grade NAT": {func(e *Evidence) {
			fail(e, probe.Silent, 0, 1, 2)
			e.Links[0].NAT = wan.NAT{Verdict: wan.NATCarrier, Words: "the router has 100.64.0.9",
				Remedies: []string{"Ask for a public address.", "Use IPv6."},
				Chain:    []netip.Addr{netip.MustParseAddr("192.168.7.1"), netip.MustParseAddr("100.64.0.1")}}
		}, "carrier-nat", HopUpstream, "link main", []string{"page", "playback", "shell"},
			"on the way out: 192.168.7.1, then 100.64.0.1", "Ask for a public address."},
		"a router in front of the router": {func(e *Evidence) {
			fail(e, probe.Silent, 0, 1, 2)
			e.Links[0].NAT = wan.NAT{Verdict: wan.NATDouble, Words: "the router has 192.168.0.2", Remedies: []string{"Bridge it."}}
		}, "double-nat", HopUpstream, "link main", []string{"page", "playback", "shell"}, "the router has 192.168.0.2", "Bridge it."},
		"a router that announced, and stopped": {func(e *Evidence) {
			l := &e.Links[0]
			l.Agent, l.Rhythm, l.Overdue, l.Heard = false, 5*time.Minute, true, now.Add(-time.Hour)
		}, "updater-overdue", HopAddress, "link main", nil, "it announced every 5 minutes, and was heard last 1 hour ago",
			"does it still have the URL and the key"},
		"another protocol": {func(e *Evidence) {
			fail(e, probe.Garbled, 0)
			e.Services[0].Message = "it said SSH-2.0"
		}, "other-protocol", HopService, "service page", []string{"page"}, "it said SSH-2.0", "goes to recorder and to no other device"},
		"an address that the router may give away": {func(e *Evidence) {
			e.Links[0].Dynamic = site.RangeOf(netip.MustParseAddr("192.168.7.21"), netip.MustParseAddr("192.168.7.99"))
		}, "in-dynamic-range", HopDevice, "device desk", nil, "desk has no reservation", "reserve an address outside"},
	} {
		t.Run(name, func(t *testing.T) {
			e := scene()
			c.edit(&e)
			list := Site(e)
			require.Len(t, list, 1, "one problem, one finding")
			f := list[0]
			require.Equal(t, c.want, f.Cause)
			require.Equal(t, c.hop, f.Hop)
			require.Equal(t, c.subject, f.Subject)
			require.ElementsMatch(t, c.services, f.Services)
			require.Contains(t, joinedLines(f.Evidence), c.evidence)
			require.Contains(t, f.Next, c.next)
			require.NotEmpty(t, f.Summary)
			if len(c.services) > 0 {
				for _, p := range Paths(e) {
					if p.Service == c.services[0] {
						require.NotNil(t, p.Finding)
						require.Equal(t, f.Key(), p.Finding.Key(), "the path of the service shows it")
					}
				}
			}
		})
	}
}

func joinedLines(list []string) (out string) {
	for _, l := range list {
		out += l + "\n"
	}
	return out
}

func TestWhatOneFindingGathers(t *testing.T) {
	e := scene()
	e.Hostnames = []HostnameEvidence{held(PushRefused, "quay.example", "tickets.quay.example"),
		held(PushUnreachable, "pier.example", "gate.pier.example"), held(PushRefused, "quay.example", "kiosk.quay.example")}
	list := Site(e)
	require.Len(t, list, 2, "one a primary")
	require.Contains(t, list[0].Summary, "tickets.quay.example, kiosk.quay.example")
	require.Contains(t, list[1].Summary, "gate.pier.example")

	e = scene()
	e.Services[0].Expires = now.Add(3 * 24 * time.Hour)
	fail(&e, probe.Refused, 2)
	require.Len(t, Site(e), 2, "a certificate explains no other service")
	require.False(t, Finding{Cause: "certificate-expiring"}.Serious())
	require.True(t, Finding{Cause: "service-changed"}.Serious())
}

func TestALinkWithNothingComingThroughSaysWhereNamesLead(t *testing.T) {
	e := scene()
	e.Links[0].ID, e.Links[0].Position, e.Links[0].Failing = 1, 1, true
	e.Links = append(e.Links, LinkEvidence{Link: site.Link{ID: 2, Position: 2, Label: "spare",
		IPv4: netip.MustParseAddr("203.0.113.9"), Agent: true, Heard: now}})
	list := Site(e)
	require.Len(t, list, 1)
	require.EqualValues(t, "link-failing", list[0].Cause)
	require.Contains(t, joinedLines(list[0].Evidence), "lead to link spare (203.0.113.9) meanwhile")
	require.Contains(t, list[0].Next, "report the line to Kettle Cable")
	e.Links = e.Links[:1]
	require.NotContains(t, joinedLines(Site(e)[0].Evidence), "meanwhile", "there is no other")
}

func TestAPathShowsWhatIsKnownFromInside(t *testing.T) {
	e := scene()
	e.Links[0].NAT = wan.NAT{Verdict: wan.NATDirect}
	e.Services[0].State, e.Services[0].Outcome, e.Services[0].Probed = probe.StateUnknown, "", time.Time{}
	lookFromInside(&e, "recorder", DeviceReport{Present: true, Ports: map[string]string{"page": "open"}})
	p := Paths(e)[0]
	require.Nil(t, p.Finding)
	require.Equal(t, Unproven, p.Stations[0].Verdict, "nobody looked from outside")
	require.Equal(t, "not probed yet", p.Stations[0].Detail)
	require.Equal(t, []Verdict{Proven, Unproven, Proven, Proven},
		[]Verdict{p.Stations[3].Verdict, p.Stations[4].Verdict, p.Stations[5].Verdict, p.Stations[6].Verdict},
		"no NAT in front, and the device is there with its port open; of the forward nothing is known")
	require.Equal(t, "no NAT in front", p.Stations[3].Value)

	e.Links[0].NAT.Verdict = wan.NATDouble
	p = Paths(e)[0]
	require.Equal(t, Unsettled, p.Stations[3].Verdict)
	require.Equal(t, "double NAT", p.Stations[3].Value)

	e.Services[0].Turned = now
	p = Paths(e)[0]
	require.Equal(t, Unproven, p.Stations[5].Verdict, "a look from before the change counts for nothing")

	for state, want := range map[names.State]Verdict{names.StatePointed: Proven, names.StateSettling: Unsettled,
		names.StateStale: Broken, names.StateHeld: Broken, names.StateIdle: Unproven} {
		e.Hostnames[0].State = state
		require.Equal(t, want, Paths(e)[0].Stations[1].Verdict, string(state))
	}
}

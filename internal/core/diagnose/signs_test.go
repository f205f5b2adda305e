package diagnose

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
)

func icmp(kind, code uint8, from string) probe.ICMP {
	return probe.ICMP{Type: kind, Code: code, From: netip.MustParseAddr(from)}
}

func measured(d probe.Distance, nats int) *probe.Series {
	return &probe.Series{Distance: d, At: now.Add(-10 * time.Second), Calibration: probe.Calibration{Router: 5, NATs: nats, Open: 5 + nats},
		Answers: []probe.HopAnswer{{Limit: 4, Reply: probe.HopNotice, ICMP: icmp(11, 0, "203.0.113.1")}}}
}

func TestWhoSaidItAndFromHowFarDecides(t *testing.T) {
	for name, c := range map[string]struct {
		edit    func(*Evidence)
		want    causes.Slug
		subject string
	}{
		"host unreachable, said by the router": {func(e *Evidence) {
			fail(e, probe.Unroutable, 2)
			e.Services[2].ICMP = icmp(3, 1, "198.51.100.7")
		}, "device-off", "device desk"},
		"host unreachable, said on the way, and the agent is silent": {func(e *Evidence) {
			fail(e, probe.Unroutable, 0, 1, 2)
			for i := range e.Services {
				e.Services[i].ICMP = icmp(3, 1, "203.0.113.1")
			}
			e.Links[0].Overdue, e.Links[0].Heard = true, now.Add(-time.Minute)
		}, "site-dark", "link main"},
		"host unreachable, said on the way, and nobody announces": {func(e *Evidence) {
			fail(e, probe.Silent, 0, 1, 2)
			for i := range e.Services {
				e.Services[i].ICMP = icmp(3, 1, "203.0.113.1")
			}
			e.Links[0].Agent, e.Links[0].Heard = false, time.Time{}
		}, "site-dark", "link main"},
		"net unreachable, said on the way, and the agent is heard": {func(e *Evidence) {
			fail(e, probe.Unroutable, 0, 1, 2)
			for i := range e.Services {
				e.Services[i].ICMP = icmp(3, 0, "203.0.113.1")
			}
		}, "no-route", "link main"},
		"silent now, and net unreachable before": {func(e *Evidence) {
			fail(e, probe.Silent, 0, 1, 2)
			e.Services[1].ICMP = icmp(3, 0, "203.0.113.1")
		}, "no-route", "link main"},
		"silent, and a packet of limited hops is told": {func(e *Evidence) {
			fail(e, probe.Silent, 2)
			e.Services[2].Series = measured(probe.DistanceUnknown, 1)
			e.Services[2].Series.Answers = append(e.Services[2].Series.Answers, probe.HopAnswer{Limit: 6, Reply: probe.HopNotice,
				ICMP: icmp(3, 1, "198.51.100.7")})
		}, "device-off", "device desk"},
		"prohibited on the way": {func(e *Evidence) {
			fail(e, probe.Unroutable, 2)
			e.Services[2].ICMP = icmp(3, 13, "203.0.113.1")
		}, "port-blocked", "service shell"},
		"passed on, and open inside": {func(e *Evidence) {
			fail(e, probe.Silent, 2)
			e.Services[2].Series = measured(probe.PassedOn, 1)
			lookFromInside(e, "desk", DeviceReport{Present: true, Ports: map[string]string{"shell": "open"}})
		}, "device-lan-only", "service shell"},
		"it ends before the site": {func(e *Evidence) {
			fail(e, probe.Silent, 2)
			e.Services[2].Series = measured(probe.EndsBefore, 1)
		}, "port-blocked", "service shell"},
		"it ends at the modem": {func(e *Evidence) {
			fail(e, probe.Silent, 2)
			e.Services[2].Series = measured(probe.EndsAtFirst, 2)
			e.Links[0].NAT.Verdict = wan.NATDouble
		}, "modem-forward-missing", "service shell"},
		"it ends at the router behind the modem": {func(e *Evidence) {
			fail(e, probe.Silent, 2)
			e.Services[2].Series = measured(probe.EndsAtInner, 2)
			e.Links[0].NAT.Verdict = wan.NATDouble
		}, "forward-missing", "service shell"},
		"refused at the router": {func(e *Evidence) {
			fail(e, probe.Refused, 2)
			e.Services[2].Series = measured(probe.RefusedByFirst, 1)
		}, "router-refuses", "service shell"},
		"refused behind it, and open inside": {func(e *Evidence) {
			fail(e, probe.Refused, 2)
			e.Services[2].Series = measured(probe.RefusedBehind, 1)
			lookFromInside(e, "desk", DeviceReport{Present: true, Ports: map[string]string{"shell": "open"}})
		}, "forward-wrong-port", "service shell"},
		"a key of another device of the site": {func(e *Evidence) {
			fail(e, probe.Stranger, 2)
			e.Services[0].Service.Fingerprint = "key SHA256:recorder"
			e.Services[2].Fingerprint = "key SHA256:recorder"
		}, "forward-astray", "service shell"},
		"three other sites of the provider": {func(e *Evidence) {
			fail(e, probe.Silent, 0, 1, 2)
			e.Links[0].Overdue, e.Links[0].Heard, e.Links[0].DarkWith, e.Links[0].ProviderSites = true, now.Add(-time.Minute), 3, 9
		}, "provider-outage", "link main"},
		"no other site of the provider": {func(e *Evidence) {
			fail(e, probe.Silent, 0, 1, 2)
			e.Links[0].Overdue, e.Links[0].Heard, e.Links[0].ProviderSites = true, now.Add(-time.Minute), 9
		}, "site-dark", "link main"},
		"the router loops back, and answers": {func(e *Evidence) {
			fail(e, probe.Silent, 2)
			e.Seen = map[string]DeviceReport{
				"desk": {At: now, Present: true, Ports: map[string]string{"shell": "open"},
					Loop: map[string]string{"shell": "answers"}},
				"recorder": {At: now, Present: true, Loop: map[string]string{"page": "answers"}}}
			e.Links[0].NAT.Verdict = wan.NATDirect
			e.Services[2].Series = measured(probe.EndsAtFirst, 1)
		}, "port-blocked", "service shell"},
		"a device whose only service proves nothing by silence": {func(e *Evidence) {
			e.Services[2].Kind, e.Services[2].Transport = probe.KindUDP, probe.UDP
			e.Services[2].State, e.Services[2].Outcome = probe.StateUnknown, probe.Silent
			lookFromInside(e, "desk", DeviceReport{Missed: 2})
		}, "device-off", "device desk"},
	} {
		t.Run(name, func(t *testing.T) {
			e := scene()
			c.edit(&e)
			list := Site(e)
			require.NotEmpty(t, list)
			require.Equal(t, c.want, list[0].Cause, "%+v", list[0])
			require.Equal(t, c.subject, list[0].Subject)
			require.Len(t, list, 1, "%+v", list)
			for _, p := range Paths(e) {
				for i, s := range p.Stations {
					require.False(t, p.Finding != nil && s.Hop == p.Finding.Hop && s.Verdict != Broken, "the path breaks at station %d", i)
				}
			}
		})
	}
}

func TestSilenceTakesAsLongAsAnAnnouncement(t *testing.T) {
	e := scene()
	fail(&e, probe.Silent, 0, 1, 2)
	l := &e.Links[0]
	l.Announced, l.Heard = true, now.Add(-31*time.Second) // a second before it began
	l.Every = time.Minute
	require.NotEqualValues(t, "certain", Site(e)[0].Sure, "it may yet announce")
	require.Equal(t, causes.Unseen, l.alive(e.Services, now))
	l.Every = 15 * time.Second
	require.Equal(t, causes.Quiet, l.alive(e.Services, now))
	require.EqualValues(t, "site-dark", Site(e)[0].Cause)
}

func TestEvidenceIsBoundInTime(t *testing.T) {
	look := DeviceReport{Present: true, Ports: map[string]string{"shell": "refused"}}
	for name, c := range map[string]struct {
		at      time.Time
		counted bool
	}{
		"just now":                    {now, true},
		"from before it failed":       {now.Add(-time.Minute), false},
		"from the future":             {now.Add(time.Hour), false},
		"from a clock a little ahead": {now.Add(2 * time.Second), true},
	} {
		e := scene()
		fail(&e, probe.Refused, 2)
		look.At = c.at
		e.Seen = map[string]DeviceReport{"desk": look}
		f := Site(e)[0]
		require.Equal(t, c.counted, f.Sure == causes.Certain, "%s: %+v", name, f)
	}
}

func TestADeviceThatIsNotKnownToBeThereIsNotTakenForThere(t *testing.T) {
	e := scene()
	fail(&e, probe.Silent, 2)
	lookFromInside(&e, "desk", DeviceReport{Present: true, Unsure: true, Ports: map[string]string{"shell": "silent"}})
	f := Site(e)[0]
	require.Equal(t, causes.Open, f.Sure)
	require.Contains(t, f.Between, causes.Slug("device-off"))
}

func TestTwoCausesAtOnceAreTwoFindings(t *testing.T) {
	e := scene()
	fail(&e, probe.Silent, 2)
	e.Links[0].NAT.Verdict = wan.NATDirect
	e.Services[2].Series = measured(probe.EndsAtFirst, 1)
	lookFromInside(&e, "desk", DeviceReport{Present: true, Ports: map[string]string{"shell": "refused"}})
	list := Site(e)
	require.Len(t, list, 2)
	require.Equal(t, []causes.Slug{"forward-missing", "service-stopped"}, []causes.Slug{list[0].Cause, list[1].Cause})
	require.Equal(t, []string{"shell"}, list[1].Services)
}

func TestContradictionIsToldAsWhatItIs(t *testing.T) {
	e := scene()
	fail(&e, probe.Unroutable, 2)
	e.Services[2].ICMP, e.Services[2].Series = icmp(3, 1, "198.51.100.7"), measured(probe.EndsBefore, 1)
	lookFromInside(&e, "desk", DeviceReport{Present: true, Ports: map[string]string{"shell": "open"}})
	f := Site(e)[0]
	require.Equal(t, causes.Slug("unexplained"), f.Cause)
	require.Equal(t, causes.Open, f.Sure)
	require.Len(t, f.Also, 2)
	require.Contains(t, f.Also[0], "against it speaks")
	require.Contains(t, f.Next, "inkpost why KET-07 --all")
}

func TestNothingRecordedGivesAnHonestAnswer(t *testing.T) {
	e := Evidence{Now: now, Site: site.Site{Code: "KET-07"}, Links: []LinkEvidence{{Link: site.Link{Label: "main",
		IPv4: netip.MustParseAddr("198.51.100.7")}}}, Services: []ServiceEvidence{{Service: site.Service{Name: "page", Transport: probe.TCP,
		ExternalFrom: 443, ExternalTo: 443, Expected: probe.ExpectReachable}, OnLink: "main", State: probe.StateUnreachable,
		Outcome: probe.Silent, InRow: 3}}}
	f := Site(e)[0]
	require.Equal(t, causes.Open, f.Sure)
	require.Greater(t, len(f.Between), 3)
	require.NotNil(t, f.Check)
	require.Contains(t, f.Check.Ask, "agent")
	require.LessOrEqual(t, len(f.Also), 4, "what is told is bounded")
	list := Rankings(e)
	require.Len(t, list, 1)
	require.NotEmpty(t, list[0].Unknown)
	require.Empty(t, Site(Evidence{Now: now}))
}

func TestATroubleThatSpreadsIsToldWhenItIsKnownHowFar(t *testing.T) {
	e := scene()
	for i := range e.Services {
		e.Services[i].Interval = 60
	}
	fail(&e, probe.Silent, 0)
	e.Services[1].Outcome, e.Services[1].InRow = probe.Silent, 2 // not confirmed yet
	require.Empty(t, Site(e))
	fail(&e, probe.Silent, 1)
	require.Len(t, Site(e), 1)
	require.EqualValues(t, "device-off", Site(e)[0].Cause)

	e = scene()
	e.Services[0].Interval = 10
	fail(&e, probe.Silent, 0)
	e.Services[1].Outcome = probe.Silent
	require.Len(t, Site(e), 1, "two intervals are enough")
	e.Services[0].Interval = 60
	e.Services[1].Turned = now
	require.Len(t, Site(e), 1, "what begins later closes nothing")
}

func TestALookFromInsideIsWaitedFor(t *testing.T) {
	e := scene()
	fail(&e, probe.Silent, 2)
	e.Services[2].Interval = 60
	e.Seen = map[string]DeviceReport{"desk": {At: now.Add(-40 * time.Second), Present: true, Ports: map[string]string{"shell": "open"}}}
	require.Empty(t, Site(e), "it was made before the failure: the next one is under way")
	e.Seen["desk"] = DeviceReport{At: now, Unsure: true}
	require.Empty(t, Site(e), "it is not sure yet")
	e.Services[2].Interval = 10
	require.Len(t, Site(e), 1, "an interval and a half is enough")
	e.Services[2].Interval = 30
	e.Links[0].Overdue = true
	require.EqualValues(t, "forward-missing", Site(e)[0].Cause, "nobody is there to look")
	e.Links[0].Overdue = false
	e.Services[2].ICMP, e.Services[2].Outcome = icmp(3, 13, "203.0.113.1"), probe.Unroutable
	require.NotEmpty(t, Site(e), "what is certain is told at once")
	e.Seen = nil
	require.Len(t, Site(e), 1, "this agent does not look at devices")
}

func TestALinkThatIsDownTakesItsServicesWithIt(t *testing.T) {
	e := scene()
	fail(&e, probe.Silent, 0, 1, 2)
	e.Links[0].Failing = true
	list := Site(e)
	require.Len(t, list, 1, "the agent is heard by another link: that does not make this one alive")
	require.EqualValues(t, "link-failing", list[0].Cause)
	require.Equal(t, []string{"page", "playback", "shell"}, list[0].Services)

	other := e.Links[0]
	other.Label, other.Provider, other.IPv4 = "backup", "Gannet Mobile", netip.MustParseAddr("203.0.113.9")
	e.Links = append(e.Links, other)
	list = Site(e)
	require.Len(t, list, 1, "all links down are one dark site")
	require.EqualValues(t, "site-dark", list[0].Cause)
	require.Contains(t, list[0].Summary, "198.51.100.7 and 203.0.113.9")
	e.Links[1].Failing = false
	require.EqualValues(t, "link-failing", Site(e)[0].Cause, "the other link works")
}

func TestVantagePointsThatHaveNotLookedAtOneMomentDisagreeWithNobody(t *testing.T) {
	e := scene()
	fail(&e, probe.Silent, 2)
	e.Services[2].Results = views(probe.Answered, probe.Silent)
	require.NotEqualValues(t, "one-side-only", Site(e)[0].Cause, "it is over, and one has not seen that yet")
	e.Services[2].State = probe.StateImpaired
	require.EqualValues(t, "one-side-only", Site(e)[0].Cause)
}

package diagnose

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
)

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

// scene is a site with one link, a recorder with two services and a desk with one, all as it should be.
func scene() Evidence {
	address := netip.MustParseAddr("198.51.100.7")
	service := func(id int64, name, device string, port int) ServiceEvidence {
		return ServiceEvidence{Service: site.Service{ID: id, Name: name, Device: device, Kind: probe.KindTCP, Transport: probe.TCP,
			ExternalFrom: port, ExternalTo: port,
			InternalFrom: port, Expected: probe.ExpectReachable}, OnLink: "main", Address: address, State: probe.StateReachable,
			Outcome: probe.Opened, InRow: 9, Probed: now.Add(-2 * time.Second)}
	}
	return Evidence{
		Now: now, Site: site.Site{Code: "KET-07"},
		Links: []LinkEvidence{{Link: site.Link{Label: "main", Provider: "Kettle Cable", Mode: site.Dynamic, IPv4: address,
			Agent: true, Heard: now.Add(-time.Second)}, Reported: now}},
		Hostnames: []HostnameEvidence{{Hostname: site.Hostname{Name: "ket-07.isles.example", Zone: "isles.example"}, Want: address,
			Given: address, State: names.StatePointed}},
		Devices: []site.Device{{Name: "recorder", MAC: "02:00:5e:07:00:01", Address: netip.MustParseAddr("192.168.7.20"), Reserved: true},
			{Name: "desk", Address: netip.MustParseAddr("192.168.7.21")}},
		Services: []ServiceEvidence{service(1, "page", "recorder", 8443), service(2, "playback", "recorder", 8554),
			service(3, "shell", "desk", 8022)},
	}
}

func fail(e *Evidence, o probe.Outcome, services ...int) {
	for _, i := range services {
		e.Services[i].State, e.Services[i].Outcome, e.Services[i].InRow = probe.StateUnreachable, o, probe.Confirmations
		e.Services[i].Turned = now.Add(-30 * time.Second)
	}
}

func TestOneCauseForManySymptoms(t *testing.T) {
	for name, c := range map[string]struct {
		edit func(*Evidence)
		want string // "cause subject" of each finding
		hop  Hop
		next string
	}{
		"all is well": {func(*Evidence) {}, "", "", ""},
		"one silent, its neighbour answers": {func(e *Evidence) { fail(e, probe.Silent, 1) }, "forward-missing service playback",
			HopForward, "external 8554, to 192.168.7.20, internal 8554"},
		"one silent, alone on its device": {func(e *Evidence) { fail(e, probe.Silent, 2) }, "forward-missing service shell",
			HopForward, "external 8022"},
		"one refused": {func(e *Evidence) { fail(e, probe.Refused, 2) }, "service-stopped service shell",
			HopService, "start what should listen on TCP port 8022"},
		"all of a device silent": {func(e *Evidence) { fail(e, probe.Silent, 0, 1) }, "device-off device recorder",
			HopDevice, "look in the router's list of devices for 02:00:5e:07:00:01"},
		"all silent, the agent is heard": {func(e *Evidence) { fail(e, probe.Silent, 0, 1, 2) }, "router-reset link main",
			HopForward, "Load the router's saved settings"},
		"all silent, the agent is not": {func(e *Evidence) { fail(e, probe.Silent, 0, 1, 2); e.Links[0].Overdue = true },
			"site-dark link main", HopAddress, "Call the site"},
		"all refused, the agent is not heard": {func(e *Evidence) { fail(e, probe.Refused, 0, 1, 2); e.Links[0].Overdue = true },
			"moved-unannounced link main", HopAddress, "call someone there"},
		"no route": {func(e *Evidence) { fail(e, probe.Unroutable, 0, 1, 2) }, "no-route link main",
			HopAddress, "Report it to Kettle Cable"},
		"agent overdue, services answer": {func(e *Evidence) { e.Links[0].Overdue = true }, "updater-overdue link main",
			HopAddress, "Check the agent's log"},
		"address never known": {func(e *Evidence) {
			e.Links[0].IPv4, e.Links[0].Heard, e.Links[0].Agent = netip.Addr{}, time.Time{}, false
		}, "address-unknown link main", HopAddress, "inkpost agent invite KET-07 main"},
		"an agent that has just begun": {func(e *Evidence) {
			e.Links[0].IPv4, e.Links[0].Reported = netip.Addr{},
				time.Time{}
		}, "", "", ""},
		"address unknown to an agent that is heard": {func(e *Evidence) {
			e.Links[0].IPv4, e.Links[0].Reported = netip.Addr{},
				e.Now
		}, "address-unknown link main", HopAddress, "inkpost link show KET-07 main"},
		"address unknown as it is refused": {func(e *Evidence) {
			e.Links[0].IPv4, e.Links[0].Reported = netip.Addr{}, e.Now
			e.Links[0].Refused = []RefusedEvidence{{Reason: "it is not the address that this comes from", From: "198.51.100.9", Count: 1}}
		}, "address-unknown link main", HopAddress, "the reason says what to correct"},
		"another address is not followed": {func(e *Evidence) {
			e.Links[0].Held = "the address changed 4 times within 5 minutes"
			fail(e, probe.Silent, 0, 2)
		}, "address-held link main", HopAddress, "inkpost link show KET-07 main"},
		"somebody answers since the agent is silent": {func(e *Evidence) {
			fail(e, probe.Refused, 0, 1, 2)
			fail(e, probe.Stranger, 1)
			e.Links[0].Announced, e.Links[0].Heard = true, now.Add(-40*time.Second)
		}, "moved-unannounced link main", HopAddress, "why the agent does not announce it"},
		"nobody answers since the agent is silent": {func(e *Evidence) {
			fail(e, probe.Silent, 0, 1, 2)
			e.Links[0].Announced, e.Links[0].Heard = true, now.Add(-40*time.Second)
		}, "site-dark link main", HopAddress, "is the power on"},
		"the agent was heard since": {func(e *Evidence) {
			fail(e, probe.Refused, 2)
			e.Links[0].Announced, e.Links[0].Heard = true, now.Add(-20*time.Second)
		}, "service-stopped service shell", HopService, "start what should listen"},
		"a name gives another address": {func(e *Evidence) {
			e.Hostnames[0].State, e.Hostnames[0].Given = names.StateStale, netip.MustParseAddr("198.51.100.8")
		}, "name-stale hostname ket-07.isles.example", HopHostname, "publishes the address again"},
		"a resolver keeps an old address": {func(e *Evidence) {
			e.Hostnames[0].State, e.Hostnames[0].Behind = names.StateStale, []string{"198.51.100.53:53 gives 198.51.100.8"}
		}, "resolver-behind hostname ket-07.isles.example", HopHostname, "Ask whoever runs the resolver"},
		"must be closed, is open": {func(e *Evidence) {
			e.Services[2].Expected, e.Services[2].State = probe.ExpectClosed, probe.StateExposed
		}, "exposed service shell", HopForward, "Remove the forward of TCP port 8022"},
		"not confirmed yet": {func(e *Evidence) { e.Services[1].Outcome, e.Services[1].InRow = probe.Silent, 1 }, "", "", ""},
		"two causes at once": {func(e *Evidence) { fail(e, probe.Silent, 1); fail(e, probe.Refused, 2) },
			"forward-missing service playback, service-stopped service shell", HopForward, ""},
		"something else answers": {func(e *Evidence) { fail(e, probe.Garbled, 2) }, "other-protocol service shell", HopService,
			"goes to desk"},
	} {
		t.Run(name, func(t *testing.T) {
			e := scene()
			c.edit(&e)
			found := Site(e)
			var keys []string
			for _, f := range found {
				keys = append(keys, f.Key())
				require.NotEmpty(t, f.Evidence)
				require.NotEmpty(t, f.Next)
			}
			require.Equal(t, c.want, strings.Join(keys, ", "))
			if len(found) > 0 {
				require.Equal(t, c.hop, found[0].Hop)
				require.Contains(t, found[0].Next, c.next)
			}
		})
	}
}

func TestAWayOverIPv6IsExplainedForItself(t *testing.T) {
	both := func(forward, pinhole probe.Outcome) Evidence {
		e := scene()
		e.Services[2].Reach, e.Services[2].State = site.ByBoth, probe.StateImpaired
		e.Services[2].Ways = []Way{{site.ByForward, "198.51.100.7:8022", forward}, {site.ByPinhole, "[2001:db8:7::21]:8022", pinhole}}
		e.Services[2].Outcome, e.Services[2].InRow, e.Services[2].Turned = pinhole, 3, now.Add(-time.Minute)
		return e
	}
	e := both(probe.Answered, probe.Silent)
	f := Site(e)
	require.Len(t, f, 1)
	require.EqualValues(t, "pinhole-missing", f[0].Cause)
	require.Equal(t, HopForward, f[0].Hop)
	require.Contains(t, f[0].Next, "allow TCP port 8022 to 2001:db8:7::21 (desk)")
	require.Equal(t, causes.Open, f[0].Sure, "nobody looked from inside")
	require.Contains(t, f[0].Between, causes.Slug("device-firewall"))
	require.Equal(t, causes.LookInside, f[0].Check.Name)
	e.Seen = map[string]DeviceReport{"desk": {At: now, Present: true, Ports: map[string]string{"shell": "open"}}}
	require.NotContains(t, Site(e)[0].Between, causes.Slug("device-firewall"))
	e.Seen["desk"] = DeviceReport{At: now, Ports: map[string]string{"shell": "silent"}}
	require.EqualValues(t, "pinhole-missing", Site(e)[0].Cause, "it answers over the other way, and so is on")
	e.Services[2].Reach, e.Services[2].State, e.Services[2].Ways = site.ByPinhole, probe.StateUnreachable, e.Services[2].Ways[1:]
	require.EqualValues(t, "device-off", Site(e)[0].Cause, "a device that is away is told of as that")
	require.Subset(t, Site(both(probe.Answered, probe.Refused))[0].Between, []causes.Slug{"pinhole-missing", "service-stopped"},
		"the router or the device refuses it: who it is takes a look")

	e = both(probe.Answered, probe.Skipped)
	e.Services[2].State, e.Services[2].Outcome = probe.StateReachable, probe.Answered
	require.Empty(t, Site(e))
	p := Paths(e)[2]
	require.Equal(t, Unsettled, p.Stations[4].Verdict, "the forward proves nothing of the pinhole")
	require.Contains(t, p.Stations[4].Value, "and pinhole TCP 8022")
}

func TestAMachineWithADevicesAddressIsNamed(t *testing.T) {
	e := scene()
	e.Seen = map[string]DeviceReport{"recorder": {At: now, MAC: "02:00:5e:99:00:01"}}
	fail(&e, probe.Refused, 0)
	f := Site(e)
	require.Len(t, f, 1)
	require.EqualValues(t, "address-taken", f[0].Cause)
	require.Contains(t, f[0].Next, "see which machine 02:00:5e:99:00:01 is")
	e.Seen["recorder"] = DeviceReport{At: now, MAC: "02:00:5e:99:00:01", Found: "192.168.7.33", Present: true}
	f = Site(e)
	require.Len(t, f, 1)
	require.EqualValues(t, "device-drifted", f[0].Cause)
	require.Contains(t, joinedLines(f[0].Evidence), "another machine, 02:00:5e:99:00:01, has 192.168.7.20")
}

func TestAFailureThatSettlesIsShownAtTheAddress(t *testing.T) {
	e := scene()
	e.Services[0].Outcome, e.Services[0].Settling, e.Services[0].Turned = probe.Stranger, true, e.Now.Add(-4*time.Second)
	p := Paths(e)[0]
	require.Nil(t, p.Finding)
	require.Equal(t, Unsettled, p.Stations[2].Verdict)
	require.Contains(t, p.Stations[2].Detail, "settling: it failed 4 seconds ago")
}

func TestDeviceWithoutReservationIsNamedAsAnotherCause(t *testing.T) {
	e := scene()
	fail(&e, probe.Silent, 2)
	require.Contains(t, strings.Join(Site(e)[0].Also, " "), "desk has no reservation")
}

func TestPathBreaksAtTheHopOfItsFinding(t *testing.T) {
	verdicts := func(p Path) string {
		var out []string
		for _, s := range p.Stations {
			out = append(out, string(s.Verdict))
		}
		return strings.Join(out, " ")
	}
	e := scene()
	fail(&e, probe.Silent, 1)
	fail(&e, probe.Refused, 2)
	paths := Paths(e)
	require.Equal(t, "proven proven proven proven proven proven proven", verdicts(paths[0]))
	require.Equal(t, "proven proven proven unproven broken unproven unproven", verdicts(paths[1]))
	require.Equal(t, "proven proven proven unproven unproven unproven broken", verdicts(paths[2]),
		"nobody knows who refused it")
	require.Nil(t, paths[0].Finding)
	require.EqualValues(t, "forward-missing", paths[1].Finding.Cause)

	e = scene()
	e.Services[0].Outcome, e.Services[0].InRow = probe.Silent, 1
	e.Hostnames[0].State = names.StateSettling
	require.Equal(t, "proven unsettled proven unproven unproven unproven unsettled", verdicts(Paths(e)[0]))

	e = scene()
	e.Links[0].IPv4 = netip.Addr{}
	p := Paths(e)[0]
	require.Equal(t, Broken, p.Stations[2].Verdict)
	require.Equal(t, "unknown", p.Stations[2].Value)
}

func TestSpoken(t *testing.T) {
	for d, want := range map[time.Duration]string{500 * time.Millisecond: "a moment", time.Second: "1 second",
		59 * time.Second: "59 seconds", 61 * time.Minute: "1 hour", 50 * time.Hour: "2 days"} {
		require.Equal(t, want, spoken(d))
	}
}

func TestADeviceThatSleepsAtNightIsTold(t *testing.T) {
	var h Hours
	day := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
	for minute := range 3 * 24 * 60 {
		at := day.Add(time.Duration(minute) * time.Minute)
		h.Note(at, at.Hour() >= 6 && at.Hour() < 22)
	}
	from, until, ok := h.Asleep(day.Add(23*time.Hour + 30*time.Minute))
	require.True(t, ok)
	require.Equal(t, 22, from)
	require.Equal(t, 6, until)
	_, _, ok = h.Asleep(day.Add(12 * time.Hour))
	require.False(t, ok, "it should be there now")
	var never, seldom Hours
	for range 100 {
		for hour := range 24 {
			never.Note(day.Add(time.Duration(hour)*time.Hour), false)
		}
	}
	_, _, ok = never.Asleep(day)
	require.False(t, ok, "one that is never there does not sleep")
	seldom.Note(day, false)
	_, _, ok = seldom.Asleep(day)
	require.False(t, ok, "one look says nothing")
	require.Contains(t, DeviceReport{Hours: h}.pattern(day.Add(2 * time.Hour))[0], "from 22:00 to 06:00 UTC")
}

func TestWhatAnAgentSeesFromInsideSaysWhichHopItIs(t *testing.T) {
	at := netip.MustParseAddr("198.51.100.7")
	base := func() Evidence {
		return Evidence{Now: now, Site: site.Site{Code: "KET-07"},
			Links: []LinkEvidence{{Link: site.Link{ID: 1, Label: "main", IPv4: at, Agent: true, Heard: now}}},
			Devices: []site.Device{{Name: "recorder", MAC: "02:00:5e:07:00:01", Address: netip.MustParseAddr("192.168.7.20"),
				Reserved: true}},
			Services: []ServiceEvidence{{Service: site.Service{Name: "page", Device: "recorder", Transport: "tcp", ExternalFrom: 8443,
				ExternalTo: 8443, InternalFrom: 443, Expected: probe.ExpectReachable},
				OnLink: "main", Address: at, State: probe.StateUnreachable, Outcome: probe.Silent, InRow: 3, Probed: now,
				Turned: now.Add(-time.Minute)}}}
	}
	for name, c := range map[string]struct {
		seen  DeviceReport
		cause causes.Slug
		words string
	}{
		"open inside": {DeviceReport{Present: true, Ports: map[string]string{"page": "open"}}, "forward-missing",
			"has TCP port 443 open"},
		"refused inside": {DeviceReport{Present: true, Ports: map[string]string{"page": "refused"}}, "service-stopped",
			"even from inside"},
		"silent inside": {DeviceReport{Present: true, Ports: map[string]string{"page": "silent"}}, "device-firewall",
			"own firewall"},
		"not there": {DeviceReport{Ports: map[string]string{"page": "silent"}}, "device-off", "nobody answers at 192.168.7.20"},
		"at another address": {DeviceReport{Present: true, Found: "192.168.7.33", Ports: map[string]string{"page": "open"}},
			"device-drifted", "reserve 192.168.7.20 for 02:00:5e:07:00:01"},
	} {
		e := base()
		if name == "refused inside" {
			e.Services[0].Outcome = probe.Refused
		}
		c.seen.At = now.Add(-30 * time.Second)
		e.Seen = map[string]DeviceReport{"recorder": c.seen}
		list := Site(e)
		require.Len(t, list, 1, name)
		require.Equal(t, c.cause, list[0].Cause, name)
		require.Contains(t, list[0].Summary+strings.Join(list[0].Evidence, " ")+list[0].Next, c.words, name)
		c.seen.At = now.Add(-2 * time.Minute)
		if e.Seen["recorder"] = c.seen; c.seen.Found == "" {
			require.NotContains(t, strings.Join(Site(e)[0].Evidence, " "), "from inside", "a look from before it failed says nothing")
		}
	}
	e := base()
	dynamic, err := site.ParseRange("192.168.7.10 - 192.168.7.99")
	require.NoError(t, err)
	e.Links[0].Dynamic = dynamic
	list := Site(e)
	require.Len(t, list, 2, "beside what fails")
	require.EqualValues(t, "in-dynamic-range", list[1].Cause)
	require.Contains(t, list[1].Next, "outside 192.168.7.10-192.168.7.99")
	require.False(t, list[1].Serious())
	for _, wrong := range []string{"192.168.7.99-192.168.7.10", "192.168.7.10", "2001:db8::1-192.168.7.9", "x-y"} {
		_, err := site.ParseRange(wrong)
		require.ErrorContains(t, err, "is not a range of addresses", wrong)
	}
	for verdict, cause := range map[wan.Verdict]causes.Slug{wan.NATCarrier: "carrier-nat"} {
		e := base()
		e.Links[0].NAT = wan.NAT{Verdict: verdict, Words: "what stands in front", Remedies: []string{"do this", "or that"}}
		list := Site(e)
		require.Len(t, list, 1)
		require.Equal(t, cause, list[0].Cause)
		require.Equal(t, "do this or that", list[0].Next)
	}
}

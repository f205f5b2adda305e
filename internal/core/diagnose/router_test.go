package diagnose

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
)

// asked is a site whose shell is silent outside and open inside, and ends at the router; its router was asked about the ports.
func asked(edit func(*Evidence, map[string]site.ListedPort)) Evidence {
	e := scene()
	fail(&e, probe.Silent, 2)
	e.Links[0].NAT.Verdict = wan.NATDirect
	e.Services[2].Series = measured(probe.EndsAtFirst, 1)
	lookFromInside(&e, "desk", DeviceReport{Present: true, Ports: map[string]string{"shell": "open"}})
	ports := map[string]site.ListedPort{}
	e.Links[0].Word = site.RouterWord{At: now.Add(-2 * time.Second), Ports: ports}
	edit(&e, ports)
	return e
}

func listed(to string, lease time.Duration) site.ListedPort {
	return site.ListedPort{To: netip.MustParseAddrPort(to), Lease: lease}
}

func TestWhatTheRouterListsDecides(t *testing.T) {
	for name, c := range map[string]struct {
		edit func(*Evidence, map[string]site.ListedPort)
		want causes.Slug
		sure causes.Sure
		says string
	}{
		"it lists what persons have entered, and not this": {func(_ *Evidence, p map[string]site.ListedPort) {
			p["page"], p["shell"] = listed("192.168.7.20:8443", 0), site.ListedPort{}
		}, "forward-missing", causes.Certain, "lists forwards, and none of TCP port 8022"},
		"it lists only what machines have asked for": {func(_ *Evidence, p map[string]site.ListedPort) {
			p["page"], p["shell"] = listed("192.168.7.20:8443", time.Hour), site.ListedPort{}
		}, "forward-missing", causes.Open, ""},
		"it has begun anew and lists nothing": {func(e *Evidence, p map[string]site.ListedPort) {
			fail(e, probe.Silent, 0, 1)
			for i := range e.Services {
				e.Services[i].Series = measured(probe.EndsAtFirst, 1)
			}
			e.Seen["recorder"] = DeviceReport{At: now, Present: true, Ports: map[string]string{"page": "open", "playback": "open"}}
			e.Links[0].Word.Began = now.Add(-time.Minute)
		}, "router-reset", causes.Likely, "began anew 1 minute ago"},
		"a word from before it failed says nothing": {func(e *Evidence, p map[string]site.ListedPort) {
			p["page"], p["shell"] = listed("192.168.7.20:8443", 0), site.ListedPort{}
			e.Links[0].Word.At = now.Add(-time.Minute)
		}, "forward-missing", causes.Open, ""},
		"a trial that arrives": {func(e *Evidence, _ map[string]site.ListedPort) {
			e.Services[2].Trial = site.Trial{At: now, Came: site.CameThrough, Why: "the router granted port 8022, and what was sent " +
				"arrived"}
		}, "forward-missing", causes.Certain, "what was sent arrived"},
		"a trial that does not": {func(e *Evidence, _ map[string]site.ListedPort) {
			e.Services[2].Trial = site.Trial{At: now, Came: site.CameNot, Why: "nothing arrived"}
		}, "port-blocked", causes.Certain, "nothing arrived"},
		"the same port is silent at other sites of the provider": {func(e *Evidence, _ map[string]site.ListedPort) {
			e.Services[2].SilentElsewhere = 4
		}, "port-blocked", causes.Open, "TCP port 8022 is silent at 4 other sites of Kettle Cable"},
		"the same port works at other sites of the provider": {func(e *Evidence, _ map[string]site.ListedPort) {
			e.Services[2].WorksElsewhere = 4
		}, "forward-missing", causes.Likely, "works at 4 other sites"},
		"a trial that was refused says nothing": {func(e *Evidence, _ map[string]site.ListedPort) {
			e.Services[2].Trial = site.Trial{At: now, Came: site.CameRefused, Why: "not allowed"}
		}, "forward-missing", causes.Open, ""},
	} {
		t.Run(name, func(t *testing.T) {
			f := Site(asked(c.edit))[0]
			require.Equal(t, c.want, f.Cause, "%+v", f)
			require.Equal(t, c.sure, f.Sure, "%+v", f)
			require.Contains(t, strings.Join(f.Evidence, "\n"), c.says)
		})
	}
}

func TestAPortThatLeadsElsewhereIsNamed(t *testing.T) {
	e := asked(func(e *Evidence, p map[string]site.ListedPort) {
		e.Services[2].Series = nil
		p["shell"] = site.ListedPort{To: netip.MustParseAddrPort("192.168.7.44:8022"), Lease: time.Hour, Description: "games"}
	})
	f := Site(e)[0]
	require.EqualValues(t, "port-conflict", f.Cause, "%+v", f)
	require.Contains(t, strings.Join(f.Evidence, "\n"),
		`passes TCP port 8022 on to 192.168.7.44:8022 ("games"), as a machine there has asked for`)
	require.Contains(t, f.Next, "delete the mapping that 192.168.7.44 asked for")

	e = asked(func(e *Evidence, p map[string]site.ListedPort) {
		e.Services[2].Series = nil
		p["page"], p["shell"] = listed("192.168.7.20:8443", 0), listed("192.168.7.21:9022", 0)
	})
	f = Site(e)[0]
	require.EqualValues(t, "forward-astray", f.Cause, "%+v", f)
	require.Contains(t, f.Summary, "leads elsewhere than to TCP port 8022 of desk")
}

func TestATrialIsProposedWhereTheLinkDoesNotAllowItYet(t *testing.T) {
	e := asked(func(*Evidence, map[string]site.ListedPort) {})
	f := Site(e)[0]
	require.NotNil(t, f.Check)
	require.Equal(t, causes.TryMapping, f.Check.Name)
	require.Contains(t, f.Check.Ask, "inkpost link edit KET-07 main --may-map")
	e.Links[0].MayMap = true
	require.NotEqual(t, causes.TryMapping, Site(e)[0].Check.Name, "it is made by itself")
	e.Services[2].Trying, e.Services[2].Interval = true, 60
	require.Empty(t, Site(e), "it is waited for")
	e.Services[2].Interval = 10
	require.Len(t, Site(e), 1, "for two intervals at most")
}

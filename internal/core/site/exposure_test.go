package site

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func shown(name string, kind probe.Kind, port int, state probe.State) Shown {
	return Shown{State: state, Service: Service{Name: name, Kind: kind, Transport: probe.TCP, ExternalFrom: port, ExternalTo: port,
		Expected: probe.ExpectReachable}}
}

func TestAReviewLooksAtPortsOnceAndInOrder(t *testing.T) {
	ports := RiskyPorts()
	require.True(t, slices.IsSorted(ports))
	require.Len(t, slices.Compact(slices.Clone(ports)), len(ports))
	require.Contains(t, ports, 3389)
}

func TestAReviewSaysWhatIsOpenAndWhatToDo(t *testing.T) {
	for name, c := range map[string]struct {
		open     []int
		services []Shown
		grave    bool
		what     string
		advice   string
	}{
		"a port that nobody recorded": {[]int{443}, nil, true, "which is not on the site's record",
			"Find out in the router where it leads."},
		"a port on record": {[]int{443}, []Shown{shown("page", probe.KindHTTPS, 443, probe.StateUnknown)}, false,
			"web page", "meant to be public"},
		"a door that should be shut by now": {[]int{22}, []Shown{func() Shown {
			s := shown("console", probe.KindSSH, 22, probe.StateUnknown)
			s.OpenUntil = noon.Add(-time.Hour)
			return s
		}()}, true, "which has to be closed", "keys only"},
		"a port that stands for no risk": {[]int{12345}, nil, false, "", ""},
		"expected closed and open": {nil, []Shown{func() Shown {
			s := shown("old-page", probe.KindHTTP, 8123, probe.StateExposed)
			s.Expected = probe.ExpectClosed
			return s
		}()}, true, "has to be closed, yet anyone can open it", "nothing outside the site needs it"},
		"in the clear": {nil, []Shown{shown("page", probe.KindHTTP, 8123, probe.StateReachable)}, false,
			"without encryption", "can be read on the way"},
		"a remote desktop": {nil, []Shown{shown("desk", probe.KindRDP, 33890, probe.StateReachable)}, true,
			"on the open internet", "VPN"},
		"a standard port": {nil, []Shown{shown("console", probe.KindSSH, 22, probe.StateReachable)}, false,
			"on its standard port", "another external port"},
		"what does not answer is quiet": {nil, []Shown{shown("page", probe.KindHTTP, 8123, probe.StateUnreachable)}, false, "", ""},
		"unsafe ways": {nil, []Shown{func() Shown {
			s := shown("broker", probe.KindHTTPS, 8883, probe.StateReachable)
			s.Weakness = "it lets anyone in without a password"
			return s
		}()}, true, "without a password", "service's settings, or close"},
		"a certificate of yesterday": {nil, []Shown{func() Shown {
			s := shown("page", probe.KindHTTPS, 8444, probe.StateReachable)
			s.Expires = noon.Add(-24 * time.Hour)
			return s
		}()}, true, "has expired", "Renew"},
		"a certificate of next week": {nil, []Shown{func() Shown {
			s := shown("page", probe.KindHTTPS, 8444, probe.StateReachable)
			s.Expires = noon.Add(8*24*time.Hour + time.Hour)
			return s
		}()}, false, "expires in 8 days", "renews itself"},
		"a certificate of next year": {nil, []Shown{func() Shown {
			s := shown("page", probe.KindHTTPS, 8444, probe.StateReachable)
			s.Expires = noon.AddDate(1, 0, 0)
			return s
		}()}, false, "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			list := Review(c.open, c.services, noon)
			if c.what == "" {
				require.Empty(t, list)
				return
			}
			require.Len(t, list, 1)
			require.Contains(t, list[0].What, c.what)
			require.Contains(t, list[0].Advice, c.advice)
			require.Equal(t, c.grave, list[0].Severe)
			if len(c.services) > 0 {
				require.Equal(t, c.services[0].Name, list[0].Service)
				require.Equal(t, c.services[0].ExternalFrom, list[0].Port)
			}
		})
	}
}

func TestTheGravestComesFirst(t *testing.T) {
	list := Review([]int{80, 445, 23}, []Shown{shown("page", probe.KindHTTPS, 80, probe.StateUnknown)}, noon)
	require.Len(t, list, 3)
	require.Equal(t, []int{23, 445, 80}, []int{list[0].Port, list[1].Port, list[2].Port})
}

func TestADoorThatWasOpenedForAWhile(t *testing.T) {
	s := Service{Kind: probe.KindSSH, Transport: probe.TCP, Expected: probe.ExpectReachable, Interval: 60, OpenUntil: noon}
	require.Equal(t, probe.ExpectReachable, s.ExpectedAt(noon.Add(-time.Second)))
	require.Equal(t, probe.ExpectClosed, s.ExpectedAt(noon), "from that moment on")
	require.Equal(t, probe.ExpectClosed, s.RuleAt(noon).Expected)
	s.OpenUntil = time.Time{}
	require.Equal(t, probe.ExpectReachable, s.ExpectedAt(noon))
	require.False(t, s.Mute(), "a server of that kind answers")
	require.True(t, Service{Kind: probe.KindUDP, Transport: probe.UDP}.Mute(), "nobody has to answer a datagram of no protocol")
}

func TestALinkFailsBySignsOnly(t *testing.T) {
	const every = 15 * time.Second
	long := noon.Add(-time.Hour)
	for name, c := range map[string]struct {
		signs LinkSigns
		want  bool
	}{
		"heard on time":  {LinkSigns{Agent: true, Every: every, Heard: noon.Add(-10 * time.Second)}, false},
		"a little late":  {LinkSigns{Agent: true, Every: every, Heard: noon.Add(-18 * time.Second)}, false},
		"a check missed": {LinkSigns{Agent: true, Every: every, Heard: noon.Add(-20 * time.Second)}, true},
		"silent, but a service was reached": {LinkSigns{Agent: true, Every: every, Heard: noon.Add(-40 * time.Second),
			Proven: noon.Add(-5 * time.Second)}, false},
		"silent, reached before that only": {LinkSigns{Agent: true, Every: every, Heard: noon.Add(-40 * time.Second),
			Proven: noon.Add(-50 * time.Second)}, true},
		"no agent":                       {LinkSigns{Every: every, Heard: noon.Add(-time.Hour)}, false},
		"told to be down":                {LinkSigns{Every: every, Heard: noon.Add(-time.Minute), Down: noon.Add(-time.Second)}, true},
		"told to be down, heard since":   {LinkSigns{Every: every, Heard: noon, Down: noon.Add(-time.Second)}, false},
		"told to be down, reached since": {LinkSigns{Every: every, Proven: noon, Down: noon.Add(-time.Second)}, false},
	} {
		require.Equal(t, c.want, c.signs.Fails(noon, long), name)
	}
	silent := LinkSigns{Agent: true, Every: every, Heard: noon.Add(-time.Hour)}
	require.False(t, silent.Fails(noon, noon.Add(-5*time.Second)), "the server has only just begun to listen")
}

func TestRedirectsLeadNowhereElse(t *testing.T) {
	r, err := Redirect{Hostname: "ket-07.isles.example", Port: 8443, Scheme: "https", KeepPath: true}.Checked()
	require.NoError(t, err)
	require.Equal(t, 307, r.Status)
	require.Equal(t, "https://ket-07.isles.example:8443/", r.Base())
	for path, want := range map[string]string{
		"/view":            "https://ket-07.isles.example:8443/view?camera=2",
		"//elsewhere.test": "https://ket-07.isles.example:8443/elsewhere.test?camera=2",
		"/@elsewhere.test": "https://ket-07.isles.example:8443/@elsewhere.test?camera=2",
	} {
		require.Equal(t, want, r.Location(path, "camera=2"))
	}
	r.KeepPath, r.Path, r.Port = false, "/view?camera=2", 443
	require.Equal(t, "https://ket-07.isles.example/view?camera=2", r.Location("/other", "x=1"), "the scheme's own port is left out")
	for field, bad := range map[string]Redirect{
		"scheme": {Scheme: "ftp"}, "port": {Port: 65536}, "status": {Status: 302}, "path": {Path: "//elsewhere.test"},
	} {
		_, err := bad.Checked()
		flawed(t, err, field, "")
	}
	for _, path := range []string{"view", "/a b", "/a\\b", "/a#b", "/%zz", "/\r\nX: y"} {
		_, err := Redirect{Path: path}.Checked()
		flawed(t, err, "path", "")
	}
	_, err = Redirect{Path: "/view?x=1", KeepPath: true}.Checked()
	flawed(t, err, "path", "has a query")
}

func TestTheRoutersOwnPortsCannotBePassedOn(t *testing.T) {
	own := Service{ID: 1, Name: "management", Device: "router", Transport: probe.TCP, ExternalFrom: 443, ExternalTo: 443, OnRouter: true}
	err := Conflicts(Service{ID: 2, Name: "page", Device: "recorder", Transport: probe.TCP, ExternalFrom: 443, ExternalTo: 443},
		[]Service{own})
	flawed(t, err, "external", "answered by the router itself (management, TCP port 443): it cannot be passed on to recorder")
	err = Conflicts(own, []Service{{ID: 2, Name: "page", Device: "recorder", Transport: probe.Both, ExternalFrom: 440, ExternalTo: 450}})
	flawed(t, err, "external", "port 440-450 of page is answered by the router itself")
}

package site

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/wan"
)

var policy = wan.Policy{StandIns: []netip.Prefix{netip.MustParsePrefix("198.51.100.0/24")}}

func flawed(t *testing.T, err error, field, detail string) {
	t.Helper()
	var f Flaws
	require.ErrorAs(t, err, &f)
	for _, flaw := range f {
		if flaw.Field == field && strings.Contains(flaw.Detail, detail) {
			return
		}
	}
	t.Fatalf("no flaw of %s that says %q in: %v", field, detail, err)
}

func TestSiteChecked(t *testing.T) {
	s, err := Site{Code: " ket-07 ", Name: " Lighthouse Museum "}.Checked()
	require.NoError(t, err)
	require.Equal(t, "KET-07", s.Code)
	require.Equal(t, "Lighthouse Museum", s.Name)
	for _, code := range []string{"kettle-east-001", "07", "isles.ket-07", strings.Repeat("k", 32)} {
		s, err = Site{Code: code, Name: "x"}.Checked()
		require.NoError(t, err)
		require.Equal(t, strings.ToUpper(code), s.Code)
	}
	for _, code := range []string{"", "7", "K", "KET_07", "KET-", ".KET", "..", strings.Repeat("k", 33), "KET 07", "KET/07", "ÆR-01"} {
		_, err := Site{Code: code, Name: "x"}.Checked()
		flawed(t, err, "code", "is not a site code")
	}
	_, err = Site{Code: "KET-07"}.Checked()
	flawed(t, err, "name", "is required")
	_, err = Site{Code: "KET-07", Name: "a\x00b"}.Checked()
	flawed(t, err, "name", "control character")
	_, err = Site{Code: "KET-07", Name: "x", Note: strings.Repeat("n", 201)}.Checked()
	flawed(t, err, "note", "201 characters")
}

func TestLinkChecked(t *testing.T) {
	l, err := Link{Label: "Main"}.Checked(policy)
	require.NoError(t, err)
	require.Equal(t, Link{Label: "main", Mode: Dynamic, Position: 1}, l)
	_, err = Link{Label: "main", Mode: Static}.Checked(policy)
	flawed(t, err, "ipv4", "needs its address")
	_, err = Link{Label: "main", Mode: Static, IPv4: netip.MustParseAddr("10.0.0.1")}.Checked(policy)
	flawed(t, err, "ipv4", "private")
	_, err = Link{Label: "main", Mode: Static, IPv6: netip.MustParseAddr("198.51.100.1")}.Checked(policy)
	flawed(t, err, "ipv6", "is not an IPv6 address")
	_, err = Link{Label: "-", Mode: "floating", Position: 12}.Checked(policy)
	flawed(t, err, "label", "is not a label")
	flawed(t, err, "mode", "dynamic or static")
	flawed(t, err, "position", "out of range")
}

func TestDeviceChecked(t *testing.T) {
	d, err := Device{Name: "Recorder", MAC: "02-00-5E-07-00-01", Address: netip.MustParseAddr("192.168.7.20")}.Checked(wan.Policy{})
	require.NoError(t, err)
	require.Equal(t, "02:00:5e:07:00:01", d.MAC)
	_, err = Device{Name: "x", MAC: "02:00", Address: netip.MustParseAddr("192.168.7.20")}.Checked(wan.Policy{})
	flawed(t, err, "mac", "is not a MAC address")
	_, err = Device{Name: "x"}.Checked(wan.Policy{})
	flawed(t, err, "lan_address", "is missing")
	_, err = Device{Name: "x", Address: netip.MustParseAddr("224.0.0.1")}.Checked(wan.Policy{})
	flawed(t, err, "lan_address", "which no device of a LAN has")
}

func TestServiceChecked(t *testing.T) {
	base := Service{Name: "web", Transport: "tcp", ExternalFrom: 8443}
	s, err := base.Checked(pace.MinInterval)
	require.NoError(t, err)
	require.Equal(t, []int{8443, 8443, 8443, 60}, []int{s.ExternalFrom, s.ExternalTo, s.InternalFrom, s.Interval})
	for name, c := range map[string]struct {
		edit          func(*Service)
		field, detail string
	}{
		"port 0":             {func(s *Service) { s.ExternalFrom = 0 }, "external", "port 0 is out of range"},
		"port 65536":         {func(s *Service) { s.ExternalFrom = 65536 }, "external", "port 65536 is out of range"},
		"negative":           {func(s *Service) { s.InternalFrom = -1 }, "internal", "port -1"},
		"reversed":           {func(s *Service) { s.ExternalTo = 8000 }, "external", "is reversed"},
		"too wide":           {func(s *Service) { s.ExternalTo = 8443 + MaxRange }, "external", "at most 64"},
		"inside past 65535":  {func(s *Service) { s.ExternalTo, s.InternalFrom = 8450, 65530 }, "internal", "65535 is the last"},
		"unknown transport":  {func(s *Service) { s.Transport = "pigeon" }, "transport", "it is tcp, udp or both"},
		"too often":          {func(s *Service) { s.Interval = 1 }, "interval_seconds", "out of range"},
		"not a name":         {func(s *Service) { s.Name = "a b" }, "name", "is not a label"},
		"less than once day": {func(s *Service) { s.Interval = 86401 }, "interval_seconds", "out of range"},
	} {
		t.Run(name, func(t *testing.T) {
			s := base
			c.edit(&s)
			_, err := s.Checked(pace.MinInterval)
			flawed(t, err, c.field, c.detail)
		})
	}
}

func TestParsePorts(t *testing.T) {
	for in, want := range map[string][2]int{"443": {443, 443}, "5000-5003": {5000, 5003}, " 5000 - 5003 ": {5000, 5003}, "0": {0, 0},
		"9-1": {9, 1}} {
		from, to, err := ParsePorts(in)
		require.NoError(t, err, in)
		require.Equal(t, want, [2]int{from, to}, in)
	}
	for _, in := range []string{"", "http", "80-", "-80", "80,81", "8o"} {
		_, _, err := ParsePorts(in)
		require.ErrorContains(t, err, "neither a port nor a range", in)
	}
}

func TestConflicts(t *testing.T) {
	have := []Service{{ID: 1, Name: "playback", Device: "recorder", Transport: "tcp", ExternalFrom: 5000, ExternalTo: 5003, LinkID: 7}}
	clash := func(s Service) error { return Conflicts(s, have) }
	err := clash(Service{ID: 2, Name: "other", Transport: "tcp", ExternalFrom: 5003, ExternalTo: 5009})
	flawed(t, err, "external", "TCP port 5003-5009 of other overlaps 5000-5003 of playback on device recorder")
	require.NoError(t, clash(Service{ID: 2, Transport: "tcp", ExternalFrom: 5004, ExternalTo: 5004}))
	require.NoError(t, clash(Service{ID: 2, Transport: "udp", ExternalFrom: 5000, ExternalTo: 5000}))
	require.NoError(t, clash(Service{ID: 2, Transport: "tcp", ExternalFrom: 5000, ExternalTo: 5000, LinkID: 8}),
		"on another link it is another router port")
	require.NoError(t, clash(Service{ID: 1, Transport: "tcp", ExternalFrom: 5000, ExternalTo: 5000}),
		"a service does not conflict with itself")
}

func TestPreferred(t *testing.T) {
	a := netip.MustParseAddr("198.51.100.1")
	first, second := Link{ID: 1, Position: 1}, Link{ID: 2, Position: 2}
	_, ok := Preferred(slices.Values([]Link{}))
	require.False(t, ok)
	l, _ := Preferred(slices.Values([]Link{second, first}))
	require.EqualValues(t, 1, l.ID)
	second.IPv4 = a
	l, _ = Preferred(slices.Values([]Link{first, second}))
	require.EqualValues(t, 2, l.ID, "a link with an address goes before one without")
}

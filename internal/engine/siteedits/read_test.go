package siteedits

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/record/recordtest"
	"inkpost.example/inkpost/internal/engine/rooms"
)

var noon = time.Date(2026, 3, 14, 12, 0, 0, 0, time.UTC)

// edits on a record in memory: what they make of a person's words, without writing.
func edits(t *testing.T) (*SiteEdits, record.Site) {
	r := &rooms.Rooms{Record: &record.Record{}, Config: rooms.Config{Clock: func() time.Time { return noon },
		ShortestInterval: 10 * time.Second, Policy: wan.Policy{StandIns: []netip.Prefix{netip.MustParsePrefix("198.51.100.0/24")}}}}
	_, err := r.Record.Load(t.Context(), &recordtest.Rows{
		SiteRows:   []site.Site{{ID: 1, Code: "KET-07"}},
		LinkRows:   []site.Link{{ID: 10, SiteID: 1, Label: "main", Position: 1}},
		DeviceRows: []site.Device{{ID: 20, SiteID: 1, Name: "recorder"}, {ID: 21, SiteID: 1, Name: "router", Router: true}}})
	require.NoError(t, err)
	p, ok := r.Record.Site(1)
	require.True(t, ok)
	return &SiteEdits{Rooms: r}, p
}

func TestAServiceIsReadWithWhatWasLeftOut(t *testing.T) {
	e, p := edits(t)
	s, err := e.ReadService(p, site.Service{}, contract.ServiceInput{Name: "Page", Device: " Recorder ", Kind: "https", External: "8443",
		Link: "MAIN", Interval: 60, Expected: ""})
	require.NoError(t, err)
	require.Equal(t, []any{"page", int64(20), int64(10), probe.TCP, 8443, 8443, probe.ExpectReachable, site.ByForward},
		[]any{s.Name, s.DeviceID, s.LinkID, s.Transport, s.ExternalFrom, s.InternalFrom, s.Expected, s.Reach})
	require.Empty(t, s.ProbeKey)

	s, err = e.ReadService(p, site.Service{}, contract.ServiceInput{Name: "vpn", Device: "router", Kind: "wireguard", External: "51820",
		Interval: 60})
	require.NoError(t, err)
	require.Equal(t, probe.UDP, s.Transport, "the kind's usual one")
	require.True(t, s.OnRouter)
	require.NotEmpty(t, s.ProbeKey, "a handshake needs a key of ours")
}

// What a service was recognised by belongs to what was probed: another device, or another kind, is another thing.
func TestAnEditOfWhatIsProbedForgetsTheFingerprint(t *testing.T) {
	e, p := edits(t)
	was := site.Service{ID: 30, SiteID: 1, DeviceID: 20, Kind: probe.KindHTTPS, Fingerprint: "key AAAA", Pinned: noon,
		PinnedBy: "owner"}
	in := contract.ServiceInput{Name: "page", Device: "recorder", Kind: "https", External: "8443", Interval: 60}
	s, err := e.ReadService(p, was, in)
	require.NoError(t, err)
	require.Equal(t, "key AAAA", s.Fingerprint, "another port leaves it")
	for name, edit := range map[string]func(*contract.ServiceInput){
		"device": func(in *contract.ServiceInput) { in.Device = "router" },
		"kind":   func(in *contract.ServiceInput) { in.Kind = "ssh" },
	} {
		changed := in
		edit(&changed)
		s, err := e.ReadService(p, was, changed)
		require.NoError(t, err, name)
		require.Empty(t, s.Fingerprint, name)
		require.True(t, s.Pinned.IsZero(), name)
	}
}

func TestEveryFlawOfAServiceIsTold(t *testing.T) {
	e, p := edits(t)
	_, err := e.ReadService(p, site.Service{}, contract.ServiceInput{Name: "page", Kind: "carrier pigeon", External: "many",
		Reach: "tunnel", Expected: "maybe", Device: "desk", Link: "backup"})
	var flaws site.Flaws
	require.ErrorAs(t, err, &flaws)
	var fields []string
	for _, f := range flaws {
		fields = append(fields, f.Field)
	}
	require.ElementsMatch(t, []string{"kind", "expected", "external", "reach", "link", "device"}, fields)
	_, err = e.ReadService(p, site.Service{}, contract.ServiceInput{Name: "page", Kind: "tcp", External: "8443", Interval: 60})
	require.ErrorContains(t, err, "name the device")
}

func TestALinksAddressIsTypedOnlyWhereNobodyAnnouncesIt(t *testing.T) {
	e, _ := edits(t)
	_, err := e.ReadLink(site.Link{}, contract.LinkInput{Label: "main", Mode: "dynamic", Position: 1, IPv4: "198.51.100.7"})
	require.ErrorContains(t, err, "learns its address from announcements")
	was := site.Link{ID: 10, SiteID: 1, IPv4: netip.MustParseAddr("198.51.100.7")}
	l, err := e.ReadLink(was, contract.LinkInput{Label: "main", Mode: "dynamic", Position: 1, IPv4: "198.51.100.7"})
	require.NoError(t, err, "it was read, and comes back")
	require.False(t, l.IPv4.IsValid())
	l, err = e.ReadLink(was, contract.LinkInput{Label: "main", Mode: "static", Position: 1, IPv4: "198.51.100.9"})
	require.NoError(t, err)
	require.Equal(t, "198.51.100.9", l.IPv4.String())
	_, err = e.ReadLink(was, contract.LinkInput{Label: "main", Mode: "static", Position: 1, IPv4: "192.168.7.1"})
	require.ErrorContains(t, err, "cannot be reached from outside")
}

func TestAPlannedChangeLiesAhead(t *testing.T) {
	e, _ := edits(t)
	for at, ok := range map[time.Time]bool{{}: true, noon.Add(6 * time.Hour): true, noon.AddDate(0, 0, -2): false,
		noon.AddDate(2, 0, 0): false} {
		_, err := e.ReadLink(site.Link{}, contract.LinkInput{Label: "main", Mode: "dynamic", Position: 1, ChangeAt: at})
		if ok {
			require.NoError(t, err, at)
			continue
		}
		require.ErrorContains(t, err, "lies ahead, within a year", at)
	}
}

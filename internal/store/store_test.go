package store_test

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/testbed"
)

func TestMain(m *testing.M) { testbed.Main(m) }

var morning = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func open(t *testing.T) *store.Store {
	t.Helper()
	st, err := store.Open(t.Context(), testbed.Database(t))
	require.NoError(t, err)
	t.Cleanup(st.Close)
	return st
}

// furnished is a site with a link, a device, a service, a zone and a hostname.
type furnished struct {
	*store.Store
	site    site.Site
	link    site.Link
	device  site.Device
	service site.Service
	zone    names.Zone
	host    site.Hostname
}

func furnish(t *testing.T, st *store.Store, code string) furnished {
	t.Helper()
	ctx := t.Context()
	f := furnished{Store: st}
	var err error
	f.site, err = st.AddSite(ctx, site.Site{Code: code, Name: "Site " + code, Note: "key at the cottage"})
	require.NoError(t, err)
	linkID, err := st.AddLink(ctx, site.Link{SiteID: f.site.ID, Label: "main", Provider: "Kettle Cable", Mode: site.Dynamic, Position: 1})
	require.NoError(t, err)
	f.link, err = st.Link(ctx, f.site.ID, "MAIN")
	require.NoError(t, err)
	require.Equal(t, linkID, f.link.ID)
	_, err = st.AddDevice(ctx, site.Device{SiteID: f.site.ID, Name: "recorder", MAC: "02:00:5e:07:00:01",
		Address: netip.MustParseAddr("192.168.7.20"), Reserved: true})
	require.NoError(t, err)
	f.device, err = st.Device(ctx, f.site.ID, "recorder")
	require.NoError(t, err)
	_, err = st.PutService(ctx, site.Service{SiteID: f.site.ID, DeviceID: f.device.ID, Name: "page", Kind: probe.KindTCP,
		Transport:    probe.TCP,
		ExternalFrom: 8443, ExternalTo: 8443, InternalFrom: 443, Expected: probe.ExpectReachable, Interval: 60})
	require.NoError(t, err)
	f.service, err = st.Service(ctx, f.site.ID, "page")
	require.NoError(t, err)
	f.zone, err = st.Zone(ctx, "isles.example")
	if err != nil {
		f.zone, err = st.PutZone(ctx, names.Zone{Apex: "isles.example",
			Servers:    []names.Server{{Name: "ns1.isles.example", Addresses: []netip.Addr{netip.MustParseAddr("198.51.100.1")}}},
			TransferTo: []netip.Prefix{netip.MustParsePrefix("198.51.100.0/24")},
			Notify:     []netip.AddrPort{netip.MustParseAddrPort("198.51.100.2:53")}}.WithDefaults())
	}
	require.NoError(t, err)
	_, _, err = st.PutHostname(ctx, site.Hostname{ZoneID: f.zone.ID, SiteID: f.site.ID,
		Name: names.Name("h" + code + ".isles.example"), TTL: 30, Extras: []string{"www", "*"}, Mail: "mail.example"})
	require.NoError(t, err)
	f.host, err = st.Hostname(ctx, names.Name("h"+code+".isles.example"))
	require.NoError(t, err)
	return f
}

func TestWhatIsPutIsGotBack(t *testing.T) {
	f := furnish(t, open(t), "KET")
	ctx := t.Context()
	require.Equal(t, "key at the cottage", f.site.Note)
	require.False(t, f.site.Created.IsZero())
	require.Equal(t, "192.168.7.20", f.device.Address.String())
	require.True(t, f.device.Reserved)
	require.Equal(t, "recorder", f.service.Device)
	require.Empty(t, f.service.Link, "the preferred link")
	require.Equal(t, []string{"www", "*"}, f.host.Extras)
	require.Equal(t, names.Name("mail.example"), f.host.Mail)
	require.Equal(t, "198.51.100.0/24", f.zone.TransferTo[0].String())
	require.Equal(t, "198.51.100.2:53", f.zone.Notify[0].String())

	f.service.LinkID, f.service.Expected, f.service.Interval = f.link.ID, probe.ExpectClosed, 30
	_, err := f.PutService(ctx, f.service)
	require.NoError(t, err)
	again, err := f.Service(ctx, f.site.ID, "page")
	require.NoError(t, err)
	f.service.Link = "main"
	f.service.Revision++
	require.Equal(t, f.service, again)
	f.host.LinkID, f.host.TTL, f.host.Extras = f.link.ID, 60, nil
	_, serial, err := f.PutHostname(ctx, f.host)
	require.NoError(t, err)
	require.Equal(t, f.zone.Serial+2, serial)
	host, err := f.Hostname(ctx, f.host.Name)
	require.NoError(t, err)
	require.Equal(t, "main", host.Link)
	require.Empty(t, host.Extras)
	f.site.Note = ""
	require.NoError(t, f.EditSite(ctx, f.site))
	f.device.Reserved = false
	require.NoError(t, f.EditDevice(ctx, f.device))
	f.link.Provider = "Islenet Fibre"
	require.NoError(t, f.EditLink(ctx, f.link))
	links, err := f.Links(ctx, 0)
	require.NoError(t, err)
	require.Equal(t, "Islenet Fibre", links[0].Provider)
	devices, err := f.Devices(ctx, f.site.ID)
	require.NoError(t, err)
	require.False(t, devices[0].Reserved)
}

func TestNamesAreTakenOnceAndReferencesHold(t *testing.T) {
	f := furnish(t, open(t), "KET")
	ctx := t.Context()
	taken := func(err error, kind string) {
		t.Helper()
		var e store.Taken
		require.ErrorAs(t, err, &e)
		require.Equal(t, kind, e.Kind)
	}
	_, err := f.AddSite(ctx, site.Site{Code: "KET", Name: "x"})
	taken(err, "site")
	_, err = f.AddLink(ctx, site.Link{SiteID: f.site.ID, Label: "main", Mode: site.Dynamic})
	taken(err, "link")
	_, err = f.AddDevice(ctx, site.Device{SiteID: f.site.ID, Name: "recorder", Address: f.device.Address})
	taken(err, "device")
	_, _, err = f.PutHostname(ctx, site.Hostname{ZoneID: f.zone.ID, SiteID: f.site.ID, Name: f.host.Name, TTL: 30})
	taken(err, "hostname")
	z, err := f.Zone(ctx, "isles.example")
	require.NoError(t, err)
	require.Equal(t, f.zone.Serial+1, z.Serial, "a hostname that was not taken left the serial alone")
	other := f.service
	other.ID, other.Name = 0, "other"
	_, err = f.PutService(ctx, other)
	var flaws site.Flaws
	require.ErrorAs(t, err, &flaws, "the same port")

	used := func(err error) {
		t.Helper()
		var e store.InUse
		require.ErrorAs(t, err, &e)
	}
	used(f.RemoveDevice(ctx, f.device, removal))
	used(f.RemoveZone(ctx, f.zone))
	f.service.LinkID = f.link.ID
	_, err = f.PutService(ctx, f.service)
	require.NoError(t, err)
	used(f.RemoveLink(ctx, f.link, removal))

	var missing store.Missing
	_, err = f.Site(ctx, "NONE")
	require.ErrorAs(t, err, &missing)
	require.ErrorAs(t, f.EditSite(ctx, site.Site{ID: 999, Code: "X"}), &missing)
	require.ErrorAs(t, f.RemoveService(ctx, site.Service{ID: 999, Name: "x"}, removal), &missing)
	require.ErrorAs(t, f.RevokeKey(ctx, 999, "999", morning), &missing)
}

func TestRemovingASiteTakesEverythingAndRaisesTheSerials(t *testing.T) {
	st := open(t)
	f, kept := furnish(t, st, "KET"), furnish(t, st, "OYS")
	ctx := t.Context()
	require.NoError(t, st.AddAlias(ctx, site.Alias{ZoneID: f.zone.ID, HostnameID: f.host.ID, Name: "old.isles.example", TTL: 30}))
	g := store.Group{Changes: []store.Change{{ID: 1, SiteID: f.site.ID, LinkID: f.link.ID,
		New:    wan.PairOf(netip.MustParseAddr("198.51.100.7")),
		Source: wan.SourceObserved, Noticed: morning, Received: morning}}}
	require.NoError(t, st.Accept(ctx, g))
	require.NoError(t, st.Settle(ctx, g, nil))
	before, err := st.Zone(ctx, "isles.example")
	require.NoError(t, err)
	serials, err := st.RemoveSite(ctx, f.site, removal)
	require.NoError(t, err)
	require.Equal(t, map[int64]uint32{f.zone.ID: before.Serial + 1}, serials)
	for name, n := range map[string]func() (int, error){
		"sites":     func() (int, error) { l, err := st.Sites(ctx, 0); return len(l), err },
		"links":     func() (int, error) { l, err := st.Links(ctx, 0); return len(l), err },
		"devices":   func() (int, error) { l, err := st.Devices(ctx, 0); return len(l), err },
		"services":  func() (int, error) { l, err := st.Services(ctx, 0); return len(l), err },
		"hostnames": func() (int, error) { l, err := st.Hostnames(ctx, 0); return len(l), err },
	} {
		got, err := n()
		require.NoError(t, err)
		require.Equal(t, 1, got, "%s of the other site stay", name)
	}
	aliases, err := st.Aliases(ctx, 0)
	require.NoError(t, err)
	require.Empty(t, aliases)
	moves, err := st.Moves(ctx, store.MoveFilter{Limit: 10})
	require.NoError(t, err)
	require.Empty(t, moves)
	require.Equal(t, "OYS", kept.site.Code)
}

func TestTheSerialWrapsWithoutZero(t *testing.T) {
	st := open(t)
	ctx := t.Context()
	z, err := st.PutZone(ctx, names.Zone{Apex: "wrap.example", Serial: 4294967295,
		Servers: []names.Server{{Name: "ns.elsewhere.example"}}}.WithDefaults())
	require.NoError(t, err)
	serials, err := st.BumpSerials(ctx, []int64{z.ID})
	require.NoError(t, err)
	require.Equal(t, names.NextSerial(4294967295), serials[z.ID], "the database counts as the core does")
	require.NoError(t, st.RemoveZone(ctx, z))
}

func TestKeysCodesAndSessions(t *testing.T) {
	f := furnish(t, open(t), "KET")
	ctx := t.Context()
	n, err := f.People(ctx)
	require.NoError(t, err)
	require.Zero(t, n)
	require.NoError(t, f.PutPassword(ctx, "owner", []byte("hash"), morning.Add(72*time.Hour), true))
	p, err := f.PersonNamed(ctx, "owner")
	require.NoError(t, err)
	require.True(t, p.Once)
	_, err = f.AddSession(ctx, []byte("token"), store.Session{PersonID: p.ID, CSRF: "intent", Expires: morning.Add(time.Hour)}, morning)
	require.NoError(t, err)
	s, err := f.Session(ctx, []byte("token"), morning.Add(time.Minute))
	require.NoError(t, err)
	require.Equal(t, "intent", s.CSRF)
	var missing store.Missing
	_, err = f.Session(ctx, []byte("token"), morning.Add(2*time.Hour))
	require.ErrorAs(t, err, &missing, "it has expired")
	require.NoError(t, f.PutPassword(ctx, "owner", []byte("new"), time.Time{}, false))
	_, err = f.Session(ctx, []byte("token"), morning)
	require.ErrorAs(t, err, &missing, "another password ends all sessions")

	require.NoError(t, f.AddEnrolment(ctx, []byte("code"), f.link.ID, morning.Add(time.Hour), nil))
	_, err = f.Enrol(ctx, []byte("code"), []byte("key"), "attic", morning.Add(2*time.Hour))
	require.ErrorAs(t, err, &missing, "too late")
	link, err := f.Enrol(ctx, []byte("code"), []byte("key"), "attic", morning)
	require.NoError(t, err)
	require.Equal(t, f.link.ID, link)
	_, err = f.Enrol(ctx, []byte("code"), []byte("key2"), "attic", morning)
	require.ErrorAs(t, err, &missing, "a code works once")
	k, err := f.KeyByHash(ctx, []byte("key"))
	require.NoError(t, err)
	require.Equal(t, "KET", k.Site)
	require.NoError(t, f.RevokeKey(ctx, k.ID, "1", morning))
	require.NoError(t, f.RevokeKey(ctx, k.ID, "1", morning.Add(time.Hour)))
	k, err = f.KeyByHash(ctx, []byte("key"))
	require.NoError(t, err)
	require.Equal(t, morning, k.Revoked.Time, "the first time counts")
	l, err := f.Link(ctx, f.site.ID, "main")
	require.NoError(t, err)
	require.False(t, l.Agent, "a revoked key is no agent")
}

func TestZoneRecordsChangeTogether(t *testing.T) {
	f := furnish(t, open(t), "KET")
	ctx := t.Context()
	txt := func(data string) names.Record {
		return names.Record{Name: "a.isles.example", Type: "TXT", TTL: 60, Data: data}
	}
	require.NoError(t, f.ChangeZoneRecords(ctx, f.zone.ID, []names.Record{txt(`"one"`), txt(`"two"`)}, nil, store.Group{}))
	list, err := f.ZoneRecords(ctx)
	require.NoError(t, err)
	require.Len(t, list, 2)
	before, err := f.Zone(ctx, "isles.example")
	require.NoError(t, err)
	require.Error(t, f.ChangeZoneRecords(ctx, f.zone.ID, []names.Record{txt(`"three"`), txt(`"two"`)}, []int64{list[0].ID}, store.Group{}))
	after, err := f.Zone(ctx, "isles.example")
	require.NoError(t, err)
	require.Equal(t, before.Serial, after.Serial)
	unchanged, err := f.ZoneRecords(ctx)
	require.NoError(t, err)
	require.Equal(t, list, unchanged, "all of it or nothing")
	require.NoError(t, f.AddSigningKey(ctx, "k.example", "hmac-sha256", "c2VjcmV0", f.site.ID, nil))
	keys, err := f.SigningKeys(ctx)
	require.NoError(t, err)
	require.Equal(t, "KET", keys[0].Site)
	require.NoError(t, f.RemoveSigningKey(ctx, "k.example"))
}

func TestABadURLAndAnAbsentServerAreNamed(t *testing.T) {
	_, err := store.Open(t.Context(), "not a url")
	require.ErrorContains(t, err, "give one such as postgres://")
	_, err = store.Open(t.Context(), "postgres://inkpost@127.0.0.1:9/inkpost?connect_timeout=1")
	require.ErrorContains(t, err, "refused")
}

func TestDaysAreWrittenOnceTheyAreOver(t *testing.T) {
	f := furnish(t, open(t), "KET")
	ctx := t.Context()
	day := func(back int, good uint16) store.ServiceDay {
		d := store.ServiceDay{ServiceID: f.service.ID, Day: ledger.Day{Start: ledger.DayOf(morning).AddDate(0, 0, -back)}}
		d.Hours[3].Good = good
		d.Latency.Add(time.Millisecond)
		return d
	}
	require.NoError(t, f.PutDays(ctx, []store.ServiceDay{day(40, 3600), day(2, 3000)}))
	require.NoError(t, f.PutToday(ctx, []store.ServiceDay{day(1, 10)}))
	require.NoError(t, f.PutToday(ctx, []store.ServiceDay{day(1, 20)}))
	got, err := f.Days(ctx, []int64{f.service.ID}, morning.AddDate(0, 0, -30))
	require.NoError(t, err)
	require.Equal(t, []ledger.Day{day(2, 3000).Day, day(1, 20).Day}, got[f.service.ID])
	today, err := f.Today(ctx, morning)
	require.NoError(t, err)
	require.Empty(t, today, "what was under way yesterday is over")
	require.NoError(t, f.PutToday(ctx, []store.ServiceDay{day(0, 5)}))
	today, err = f.Today(ctx, morning)
	require.NoError(t, err)
	require.Equal(t, day(0, 5).Day, today[f.service.ID])
	got, err = f.Days(ctx, []int64{f.service.ID, 99}, morning.AddDate(0, 0, -30))
	require.NoError(t, err)
	require.Len(t, got[f.service.ID], 3)
}

func TestOldPartitionsAreDropped(t *testing.T) {
	f := furnish(t, open(t), "KET")
	ctx := t.Context()
	require.NoError(t, f.EnsurePartitions(ctx, morning))
	dropped, err := f.DropOldPartitions(ctx, morning)
	require.NoError(t, err)
	require.Empty(t, dropped)
	require.NoError(t, f.EnsurePartitions(ctx, morning.AddDate(2, 0, 0)))
	dropped, err = f.DropOldPartitions(ctx, morning.AddDate(2, 0, 0))
	require.NoError(t, err)
	require.Contains(t, dropped, "span_"+morning.Format("2006_01"))
	require.NotContains(t, dropped, "rollup_"+morning.Format("2006_01"), "rollups are kept longer")
}

func TestEveryReferenceThatIsLookedUpHasAnIndex(t *testing.T) {
	st := open(t)
	for _, want := range []string{"hostname.link_id", "hostname.zone_id", "service.device_id", "service.link_id", "alias.zone_id",
		"redirect.hostname_id", "device_report.link_id"} {
		table, column, _ := strings.Cut(want, ".")
		var first int
		require.NoError(t, st.Pool().QueryRow(t.Context(), `SELECT count(*) FROM pg_index i
			JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = i.indkey[0]
			WHERE i.indrelid = $1::regclass AND a.attname = $2`, table, column).Scan(&first))
		require.Positive(t, first, want)
	}
}

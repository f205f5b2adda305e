package zones

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/record/recordtest"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/authdns"
)

const apex = "isles.saltmarsh.example"

// quiet is an engine in which nothing is expected and nothing is asked.
type quiet struct {
	expected time.Time
	retimed  []int64
}

func (q *quiet) ExpectedChange(site.Link) time.Time { return q.expected }
func (q *quiet) Retime(_ context.Context, siteIDs []int64) error {
	q.retimed = append(q.retimed, siteIDs...)
	return nil
}
func (q *quiet) RaiseSerials(context.Context, map[string]uint32, string) error { return nil }

var noon = time.Date(2026, 3, 14, 12, 0, 0, 0, time.UTC)

var redirectAt = []netip.Addr{netip.MustParseAddr("198.51.100.80")}

func roomOn(host Host, rec *record.Record) (*Zones, *authdns.Directory) {
	d := &authdns.Directory{}
	return New(host, rec, d, redirectAt, func() time.Time { return noon }, slog.New(slog.DiscardHandler)), d
}

func zoneRow(id int64, apex names.Name) names.Zone {
	return names.Zone{ID: id, Apex: apex, Contact: "hostmaster." + apex, Serial: 7, Refresh: 3600, Retry: 300, Expire: 1209600,
		Negative: 30, TTL: 300, Kind: names.Hosted, Servers: []names.Server{
			{Name: "ns1." + apex, Addresses: []netip.Addr{netip.MustParseAddr("198.51.100.53")}}, {Name: "ns.elsewhere.example"}}}
}

// isles is two sites with a hostname each in one zone.
func isles() *recordtest.Rows {
	return &recordtest.Rows{
		ZoneRows: []names.Zone{zoneRow(1, apex)},
		SiteRows: []site.Site{{ID: 1, Code: "KET-07"}, {ID: 2, Code: "OYS-03"}},
		LinkRows: []site.Link{{ID: 10, SiteID: 1, Label: "main", Position: 1, IPv4: netip.MustParseAddr("198.51.100.7")},
			{ID: 20, SiteID: 2, Label: "main", Position: 1, IPv4: netip.MustParseAddr("198.51.100.3"),
				IPv6: netip.MustParseAddr("2001:db8:3::1")}},
		HostnameRows: []site.Hostname{
			{ID: 100, SiteID: 1, ZoneID: 1, Name: "ket-07." + apex, TTL: 60, Extras: []string{"www"}, Mail: "mx." + apex},
			{ID: 200, SiteID: 2, ZoneID: 1, Name: "oys-03." + apex, TTL: 30}},
		AliasRows: []site.Alias{
			{ID: 1, SiteID: 1, ZoneID: 1, HostnameID: 100, Name: "pier." + apex, Hostname: "ket-07." + apex, TTL: 300}},
		RedirectRows: []site.Redirect{
			{ID: 1, SiteID: 2, ZoneID: 1, HostnameID: 200, Name: "shop." + apex, Hostname: "oys-03." + apex, TTL: 300}},
		RecordRows: []store.ZoneRecord{{ID: 1, ZoneID: 1, Name: apex, Type: "TXT", TTL: 300, Data: `"the isles"`}},
	}
}

// furnished is a room that answers what rows say.
func furnished(t *testing.T, rows *recordtest.Rows) (*Zones, *record.Record, *authdns.Directory) {
	rec := &record.Record{}
	_, err := rec.Load(t.Context(), rows)
	require.NoError(t, err)
	z, d := roomOn(&quiet{}, rec)
	require.NoError(t, z.Replace())
	return z, rec, d
}

// at gives what a zone answers at a name, a line a record.
func at(t *testing.T, d *authdns.Directory, name string) (out []string) {
	t.Helper()
	list, err := d.Zone(apex).Records(name)
	require.NoError(t, err)
	for _, rr := range list {
		h := rr.Header()
		out = append(out, fmt.Sprintf("%s %d %s", dns.TypeToString[h.Rrtype], h.Ttl, rr.String()[len(h.String()):]))
	}
	slices.Sort(out)
	return out
}

func TestAZoneAnswersWhatTheRecordSays(t *testing.T) {
	_, _, d := furnished(t, isles())
	require.Equal(t, []string{"A 60 198.51.100.7", "MX 60 10 mx." + apex + "."}, at(t, d, "ket-07."+apex))
	require.Equal(t, []string{"A 60 198.51.100.7"}, at(t, d, "www.ket-07."+apex))
	require.Equal(t, []string{"A 30 198.51.100.3", "AAAA 30 2001:db8:3::1"}, at(t, d, "oys-03."+apex))
	require.Equal(t, []string{"CNAME 300 ket-07." + apex + "."}, at(t, d, "pier."+apex))
	require.Equal(t, []string{"A 300 198.51.100.80"}, at(t, d, "shop."+apex))
	require.Equal(t, []string{"A 300 198.51.100.53"}, at(t, d, "ns1."+apex))
	require.Contains(t, at(t, d, apex), `TXT 300 "the isles"`)
	require.EqualValues(t, 7, d.Zone(apex).Serial())
}

func TestAMoveSetsTheHostnamesThatFollow(t *testing.T) {
	z, rec, d := furnished(t, isles())
	p, ok := rec.Site(1)
	require.True(t, ok)
	l := *p.Links[0]
	l.IPv4 = netip.MustParseAddr("198.51.100.77")
	rec.SetLinks([]site.Link{l})
	p, _ = rec.Site(1)
	require.NoError(t, z.Publish([]record.Site{p}, AllHostnames, map[int64]uint32{1: 8}))
	require.Equal(t, []string{"A 60 198.51.100.77", "MX 60 10 mx." + apex + "."}, at(t, d, "ket-07."+apex), "what stays stays")
	require.Equal(t, []string{"A 60 198.51.100.77"}, at(t, d, "www.ket-07."+apex))
	require.Equal(t, []string{"A 30 198.51.100.3", "AAAA 30 2001:db8:3::1"}, at(t, d, "oys-03."+apex))
	require.EqualValues(t, 8, d.Zone(apex).Serial())
}

func TestAZoneThatIsGoneIsNotAnswered(t *testing.T) {
	rows := isles()
	z, rec, d := furnished(t, rows)
	*rows = recordtest.Rows{SiteRows: rows.SiteRows, LinkRows: rows.LinkRows}
	diff, err := rec.Reload(t.Context(), rows, record.Touched{Zones: []int64{1}, Sites: []int64{1, 2}})
	require.NoError(t, err)
	require.NoError(t, z.Apply(diff))
	require.Nil(t, d.Zone(apex))
}

func TestATTLIsLoweredAheadOfAnExpectedChange(t *testing.T) {
	rec := &record.Record{}
	_, err := rec.Load(t.Context(), isles())
	require.NoError(t, err)
	host := &quiet{expected: noon.Add(90 * time.Second)}
	z, d := roomOn(host, rec)
	require.NoError(t, z.Replace())
	got := at(t, d, "www.ket-07."+apex)
	require.NotEqual(t, []string{"A 60 198.51.100.7"}, got, "a cache that asks now would keep it beyond the change")
	host.expected = time.Time{}
	p, _ := rec.Site(1)
	require.Contains(t, z.Retimed(p), int64(1), "it is due to be published again")
}

func TestWhoMayTransferAZone(t *testing.T) {
	rows := isles()
	rows.ZoneRows[0].TransferTo = []netip.Prefix{netip.MustParsePrefix("198.51.100.0/28")}
	rows.ZoneRows[0].TransferKey = "transfer.example"
	z, _, _ := furnished(t, rows)
	near, far := netip.MustParseAddr("198.51.100.9"), netip.MustParseAddr("203.0.113.9")
	require.True(t, z.MayTransfer(apex+".", near, ""))
	require.False(t, z.MayTransfer(apex+".", far, ""))
	require.True(t, z.MayTransfer(apex+".", far, "transfer.example."))
	require.False(t, z.MayTransfer(apex+".", far, "other.example."))
	require.False(t, z.MayTransfer("elsewhere.example.", near, "transfer.example."))
}

// edit makes a random edit of rows and says what it touched, as the engine does.
func edit(r *rand.Rand, rows *recordtest.Rows, n int64) (t record.Touched) {
	pick := func(ids ...int64) int64 { return ids[r.IntN(len(ids))] }
	id := pick(1, 2)
	label := fmt.Sprintf("n%d.", r.IntN(6))
	free := func(name names.Name) bool {
		taken := func(at names.Name) bool { return at == name || at == "www."+name }
		return !slices.ContainsFunc(rows.HostnameRows, func(h site.Hostname) bool { return slices.ContainsFunc(h.Owners(), taken) }) &&
			!slices.ContainsFunc(rows.AliasRows, func(a site.Alias) bool { return taken(a.Name) }) &&
			!slices.ContainsFunc(rows.RedirectRows, func(a site.Redirect) bool { return taken(a.Name) }) &&
			!slices.ContainsFunc(rows.RecordRows, func(x store.ZoneRecord) bool { return taken(x.Name) })
	}
	zone := pick(1, 2)
	name := names.Name(label + string(map[int64]names.Name{1: apex, 2: "quay.example"}[zone]))
	t = record.Touched{Sites: []int64{id}}
	switch r.IntN(9) {
	case 0:
		if free(name) {
			rows.HostnameRows = append(rows.HostnameRows, site.Hostname{ID: 1000 + n, SiteID: id, ZoneID: zone, Name: name, TTL: 60})
		}
		t.Parts = record.Hostnames
	case 1:
		if i := len(rows.HostnameRows); i > 0 {
			k := r.IntN(i)
			h := rows.HostnameRows[k]
			t.Sites = []int64{h.SiteID}
			rows.AliasRows = slices.DeleteFunc(rows.AliasRows, func(a site.Alias) bool { return a.HostnameID == h.ID })
			rows.RedirectRows = slices.DeleteFunc(rows.RedirectRows, func(a site.Redirect) bool { return a.HostnameID == h.ID })
			rows.HostnameRows = slices.Delete(rows.HostnameRows, k, k+1)
		}
	case 2:
		if i := len(rows.HostnameRows); i > 0 {
			h := &rows.HostnameRows[r.IntN(i)]
			t.Sites = []int64{h.SiteID}
			t.Parts = record.Hostnames
			h.TTL = 30 + 30*r.IntN(3)
			if h.Extras = nil; free("www." + h.Name) {
				h.Extras = [][]string{nil, {"www"}}[r.IntN(2)]
			}
			if h.HoldBy = ""; r.IntN(3) == 0 {
				h.HoldBy, h.Hold = site.HoldByOperator, wan.Pair{IPv4: netip.MustParseAddr("198.51.100.99")}
			}
		}
	case 3:
		l := &rows.LinkRows[r.IntN(len(rows.LinkRows))]
		t.Sites = []int64{l.SiteID}
		l.IPv4 = netip.AddrFrom4([4]byte{198, 51, 100, byte(r.IntN(250))})
	case 4:
		if i := len(rows.HostnameRows); i > 0 && free(name) {
			h := rows.HostnameRows[r.IntN(i)]
			t.Sites = []int64{h.SiteID}
			rows.AliasRows = append(rows.AliasRows, site.Alias{ID: 1000 + n, SiteID: h.SiteID, ZoneID: zone, HostnameID: h.ID, Name: name,
				Hostname: h.Name, TTL: 300})
		}
		t.Parts = record.Aliases
	case 5:
		if i := len(rows.AliasRows); i > 0 {
			k := r.IntN(i)
			t.Sites = []int64{rows.AliasRows[k].SiteID}
			rows.AliasRows = slices.Delete(rows.AliasRows, k, k+1)
		}
		t.Parts = record.Aliases
	case 6:
		t = record.Touched{Records: map[int64][]names.Name{zone: {name}}}
		if had := len(rows.RecordRows); had > 0 && r.IntN(2) == 0 {
			rows.RecordRows = slices.DeleteFunc(rows.RecordRows, func(x store.ZoneRecord) bool {
				return x.ZoneID == zone && x.Name == name
			})
		} else if free(name) {
			rows.RecordRows = append(rows.RecordRows, store.ZoneRecord{ID: 1000 + n, ZoneID: zone, Name: name, Type: "TXT", TTL: 300,
				Data: fmt.Sprintf(`"%d"`, n)})
		}
	case 7:
		t = record.Touched{Zones: []int64{zone}}
		for i := range rows.ZoneRows {
			if rows.ZoneRows[i].ID == zone {
				rows.ZoneRows[i].Servers = zoneRow(zone, rows.ZoneRows[i].Apex).Servers[:1+r.IntN(2)]
			}
		}
	case 8:
		if id == 1 && len(rows.RedirectRows) > 0 {
			t.Sites = []int64{rows.RedirectRows[0].SiteID}
			rows.RedirectRows = rows.RedirectRows[1:]
		} else if i := len(rows.HostnameRows); i > 0 && free(name) {
			h := rows.HostnameRows[r.IntN(i)]
			t.Sites = []int64{h.SiteID}
			rows.RedirectRows = append(rows.RedirectRows, site.Redirect{ID: 1000 + n, SiteID: h.SiteID, ZoneID: zone, HostnameID: h.ID,
				Name: name, Hostname: h.Name, TTL: 300})
		}
		t.Parts = record.Redirects
	}
	for i := range rows.ZoneRows { // any edit may raise them
		rows.ZoneRows[i].Serial++
	}
	t.Zones = append(t.Zones, 1, 2)
	return t
}

// An edit encodes only what it changed. Whatever the edits, the zones answer what a server would that starts on the same record.
func TestEditsLeadWhereAStartWould(t *testing.T) {
	for seed := range uint64(12) {
		r := rand.New(rand.NewPCG(seed, 7))
		rows := isles()
		rows.ZoneRows = append(rows.ZoneRows, zoneRow(2, "quay.example"))
		z, rec, d := furnished(t, rows)
		for n := range int64(60) {
			diff, err := rec.Reload(t.Context(), rows, edit(r, rows, n))
			require.NoError(t, err)
			require.NoError(t, z.Apply(diff))
			for _, zone := range rec.Zones() {
				for name, all := range z.WantedAll(zone) {
					require.ElementsMatch(t, all, z.Wanted(zone, name), "%s alone, and with its zone", name)
				}
			}
			_, _, fresh := furnished(t, rows)
			for _, apex := range []string{apex, "quay.example"} {
				require.Equal(t, dump(t, fresh.Zone(apex)), dump(t, d.Zone(apex)), "seed %d, edit %d, zone %s", seed, n, apex)
			}
		}
	}
}

// dump is a zone as it would be copied, a line a record.
func dump(t *testing.T, z *authdns.Zone) (out []string) {
	var copied bytes.Buffer
	require.NoError(t, authdns.WriteCopy(&copied, []*authdns.Zone{z}))
	for b := copied.Bytes(); len(b) > 0; {
		n := int(b[0])<<24 | int(b[1])<<16 | int(b[2])<<8 | int(b[3])
		rr, _, err := dns.UnpackRR(b[4:4+n], 0)
		require.NoError(t, err)
		out = append(out, rr.String())
		b = b[4+n:]
	}
	slices.Sort(out)
	return out
}

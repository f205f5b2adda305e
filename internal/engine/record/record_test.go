package record

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
)

func rowsOf(id int64, code string) siteRows {
	name := names.Name(code + ".isles.saltmarsh.example")
	key := store.Key{ID: id, Hash: []byte(code)}
	if err := key.LinkID.Scan(10 * id); err != nil {
		panic(err)
	}
	return siteRows{
		site:      site.Site{ID: id, Code: code},
		links:     []site.Link{{ID: 10 * id, SiteID: id, Label: "main", Position: 1, IPv4: netip.MustParseAddr("198.51.100.7")}},
		hostnames: []site.Hostname{{ID: 10 * id, SiteID: id, ZoneID: 1, Name: name, Extras: []string{"www"}}},
		services:  []site.Service{{ID: 10 * id, SiteID: id, Name: "page"}},
		aliases:   []site.Alias{{ID: id, SiteID: id, ZoneID: 1, Name: "museum-" + name, HostnameID: 10 * id}},
		keys:      []store.Key{key},
	}
}

func furnished(t *testing.T) *Record {
	t.Helper()
	r := &Record{content: emptyContent()}
	r.replaceSites([]int64{2, 1}, []siteRows{rowsOf(2, "oys-03"), rowsOf(1, "ket-07")})
	require.Len(t, r.Sites(), 2)
	require.Equal(t, "ket-07", r.Sites()[0].Code, "by code")
	return r
}

func TestASiteIsFoundByEverythingThatItHas(t *testing.T) {
	r := furnished(t)
	p, h, ok := r.HostnameAt("www.ket-07.isles.saltmarsh.example")
	require.True(t, ok, "by a label below its hostname")
	require.Equal(t, []any{"ket-07", int64(10)}, []any{p.Code, h.ID})
	p, l, ok := r.SiteOfLink(20)
	require.True(t, ok)
	require.Equal(t, []string{"oys-03", "main"}, []string{p.Code, l.Label})
	_, ok = r.Alias("museum-oys-03.isles.saltmarsh.example")
	require.True(t, ok)
	k, ok := r.Key([]byte("ket-07"))
	require.True(t, ok)
	require.EqualValues(t, 10, k.LinkID)
}

func TestWhatWasRenamedIsFoundByItsNewNameAlone(t *testing.T) {
	r := furnished(t)
	renamed := rowsOf(1, "ket-08")
	d := r.replaceSites([]int64{1}, []siteRows{renamed})
	require.Equal(t, "ket-07", d.Sites[0].Before.Code)
	require.Equal(t, "ket-08", d.Sites[0].After.Code)
	for _, gone := range []names.Name{"ket-07.isles.saltmarsh.example", "www.ket-07.isles.saltmarsh.example"} {
		_, _, ok := r.HostnameAt(gone)
		require.False(t, ok, gone)
	}
	_, ok := r.Key([]byte("ket-07"))
	require.False(t, ok, "keys that are no longer its")
	_, ok = r.SiteByCode("ket-07")
	require.False(t, ok)
	require.Equal(t, "ket-08", r.Sites()[0].Code)
}

func TestASiteThatIsGoneLeavesNothing(t *testing.T) {
	r := furnished(t)
	d := r.replaceSites([]int64{1}, []siteRows{{}})
	gone := d.Gone()
	require.Equal(t, map[int64]bool{10: true}, gone.Links)
	require.Equal(t, map[int64]bool{10: true}, gone.Services)
	require.Len(t, r.Sites(), 1)
	require.Len(t, r.Aliases(), 1)
	_, ok := r.Key([]byte("ket-07"))
	require.False(t, ok)
}

// An edit of services reads those back and nothing else. What changed meanwhile in memory stays: an address, a pinned fingerprint.
func TestPartsThatWereNotReadStayAsTheyAre(t *testing.T) {
	r := furnished(t)
	moved := rowsOf(1, "ket-07").links[0]
	moved.IPv4 = netip.MustParseAddr("198.51.100.8")
	r.SetLinks([]site.Link{moved})
	r.replaceSites([]int64{1}, []siteRows{{parts: Services,
		services: []site.Service{{ID: 10, SiteID: 1, Name: "page"}, {ID: 11, SiteID: 1, Name: "camera"}}}})
	p, _ := r.Site(1)
	require.Len(t, p.Services, 2)
	require.Equal(t, "198.51.100.8", p.AddressOf(10).IPv4.String())
	_, _, ok := r.HostnameAt("www.ket-07.isles.saltmarsh.example")
	require.True(t, ok)
	_, ok = r.Key([]byte("ket-07"))
	require.True(t, ok)

	_, ok = r.Pin(p.Services[1], "key SHA256:x", "owner", time.Now(), true)
	require.True(t, ok)
	r.replaceSites([]int64{1}, []siteRows{{parts: Devices, devices: []site.Device{{ID: 1, SiteID: 1, Name: "recorder"}}}})
	p, _ = r.Site(1)
	require.Equal(t, "key SHA256:x", p.Services[1].Fingerprint)
	require.Len(t, p.Devices, 1)
}

func TestALinkAndTheSiteItselfAreReadAlone(t *testing.T) {
	r := furnished(t)
	link := rowsOf(1, "ket-07").links[0]
	link.Provider, link.Position = "Marsh Line", 2
	second := site.Link{ID: 12, SiteID: 1, Label: "spare", Position: 1}
	r.replaceSites([]int64{1}, []siteRows{{parts: Links, links: []site.Link{second, link}}})
	p, l, ok := r.SiteOfLink(12)
	require.True(t, ok, "a link that was added is found")
	require.Equal(t, []string{"ket-07", "spare"}, []string{p.Code, l.Label})
	_, l, _ = r.SiteOfLink(10)
	require.Equal(t, "Marsh Line", l.Provider)

	r.replaceSites([]int64{1}, []siteRows{{parts: Own, site: site.Site{ID: 1, Code: "ket-07", Name: "Kettle Quay", Revision: 2}}})
	p, _ = r.Site(1)
	require.Equal(t, "Kettle Quay", p.Name)
	require.Len(t, p.Links, 2)
	require.Len(t, p.Services, 1)
	_, h, ok := r.HostnameAt("ket-07.isles.saltmarsh.example")
	require.True(t, ok)
	require.EqualValues(t, 10, h.ID)
	_, ok = r.Key([]byte("ket-07"))
	require.True(t, ok, "its keys were not read")

	require.Zero(t, (Links | Services).Told(), "the version before this one reads everything")
	require.Equal(t, Services|Hostnames, (Services | Hostnames).Told())
}

package record_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/testbed"
)

// A server that follows reads an edit back while a move waits to be settled: it takes neither the address nor the serial of it from there.
func TestAnEditThatIsReadBackKeepsAddressesAndSerials(t *testing.T) {
	ctx := t.Context()
	st, err := store.Open(ctx, testbed.Database(t))
	require.NoError(t, err)
	t.Cleanup(st.Close)
	zone, err := st.PutZone(ctx, names.Zone{Apex: "isles.saltmarsh.example",
		Servers: []names.Server{{Name: "ns1.elsewhere.example"}}}.WithDefaults())
	require.NoError(t, err)
	p, err := st.AddSite(ctx, site.Site{Code: "KET-07", Name: "Kettle Quay"})
	require.NoError(t, err)
	link, err := st.AddLink(ctx, site.Link{SiteID: p.ID, Label: "main", Mode: site.Dynamic, Position: 1})
	require.NoError(t, err)
	_, _, err = st.PutHostname(ctx, site.Hostname{ZoneID: zone.ID, SiteID: p.ID, Name: "ket-07.isles.saltmarsh.example", TTL: 30})
	require.NoError(t, err)
	var r record.Record
	_, err = r.LoadNow(ctx, st)
	require.NoError(t, err)
	was := r.Zone(zone.ID).Serial

	ids, err := st.MoveIDs(ctx, 1)
	require.NoError(t, err)
	moved := wan.PairOf(netip.MustParseAddr("198.51.100.7"))
	require.NoError(t, st.Accept(ctx, store.Group{Serials: map[int64]uint32{zone.ID: was + 1}, Changes: []store.Change{{ID: ids[0],
		SiteID: p.ID, LinkID: link, New: moved, Source: wan.SourceObserved, Noticed: time.Now(), Received: time.Now()}}}))
	known := func() (wan.Pair, uint32) {
		_, err := r.ReloadNow(ctx, st, record.Touched{Sites: []int64{p.ID}})
		require.NoError(t, err)
		_, l, ok := r.SiteOfLink(link)
		require.True(t, ok)
		return l.Addresses(), r.Zone(zone.ID).Serial
	}
	address, serial := known()
	require.False(t, address.Known(), "the move is not followed yet")
	require.Equal(t, was, serial)

	_, l, _ := r.SiteOfLink(link)
	l.IPv4 = moved.IPv4
	r.SetLinks([]site.Link{l})
	r.SetSerials(map[int64]uint32{zone.ID: was + 1})
	address, serial = known()
	require.Equal(t, moved, address)
	require.Equal(t, was+1, serial, "the tables have the serial of before")
}

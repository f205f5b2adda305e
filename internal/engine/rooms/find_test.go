package rooms

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/record/recordtest"
	"inkpost.example/inkpost/internal/store"
)

func furnished(t *testing.T) *Rooms {
	r := &Rooms{Record: &record.Record{}}
	_, err := r.Record.Load(t.Context(), &recordtest.Rows{
		ZoneRows: []names.Zone{{ID: 1, Apex: "isles.example", Kind: names.Hosted}, {ID: 2, Apex: "quay.example", Kind: names.Remote}},
		SiteRows: []site.Site{{ID: 1, Code: "KET-07"}},
		LinkRows: []site.Link{{ID: 10, SiteID: 1, Label: "main", Position: 1}},
		HostnameRows: []site.Hostname{{ID: 1, SiteID: 1, ZoneID: 1, LinkID: 10, Name: "ket-07.isles.example"},
			{ID: 2, SiteID: 1, ZoneID: 1, Name: "any.isles.example"}},
		DeviceRows:  []site.Device{{ID: 1, SiteID: 1, Name: "recorder"}},
		ServiceRows: []site.Service{{ID: 1, SiteID: 1, DeviceID: 1, Name: "recorder-page"}}})
	require.NoError(t, err)
	return r
}

// What is missing is named, with what it would belong to.
func TestWhatIsNotOnRecordIsNamed(t *testing.T) {
	r := furnished(t)
	_, s, err := r.FindService("ket-07", "recorder-page")
	require.NoError(t, err)
	require.EqualValues(t, 1, s.ID)
	for want, find := range map[string]func() error{
		`there is no site "DUN-12"`:            func() error { _, err := r.FindSite("DUN-12"); return err },
		`there is no service of KET-07 "page"`: func() error { _, _, err := r.FindService("KET-07", "page"); return err },
		`there is no device of KET-07 "desk"`:  func() error { _, _, err := r.FindDevice("KET-07", "desk"); return err },
		`there is no link of KET-07 "backup"`:  func() error { _, _, err := r.FindLink("KET-07", "backup"); return err },
		`there is no zone "elsewhere.example"`: func() error { _, err := r.Zone("elsewhere.example"); return err },
	} {
		err := find()
		require.ErrorAs(t, err, new(store.Missing))
		require.EqualError(t, err, want)
	}
	_, err = r.RemoteZone("isles.example")
	require.ErrorContains(t, err, "is hosted here", "it has no primary to be pushed to")
	_, err = r.RemoteZone("quay.example")
	require.NoError(t, err)
}

func TestHostnamesOfALinkAreThoseThatFollowIt(t *testing.T) {
	r := furnished(t)
	require.Equal(t, map[string]bool{"ket-07.isles.example": true, "any.isles.example": true}, r.HostnamesOf(10),
		"the preferred link's, too")
	require.Empty(t, r.HostnamesOf(99))
}

func TestNamesAndAddressesInWords(t *testing.T) {
	require.Equal(t, "ket-07.isles.example", Canonical("KET-07.Isles.Example."))
	require.Empty(t, AddressText(netip.Addr{}))
	require.Equal(t, "198.51.100.7", AddressText(netip.MustParseAddr("198.51.100.7")))
	encoded, err := International.ToASCII("fähre.example")
	require.NoError(t, err)
	require.Equal(t, "fähre.example", Shown(names.Name(encoded)))
	require.Empty(t, Shown("pier.example"), "it is read as it is written")
	require.Empty(t, HoldAt(site.Hostname{}))
	require.Equal(t, "198.51.100.7", HoldAt(site.Hostname{HoldBy: site.HoldByOperator,
		Hold: wan.Pair{IPv4: netip.MustParseAddr("198.51.100.7")}}))
}

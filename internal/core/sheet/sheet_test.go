package sheet_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/sheet"
	"inkpost.example/inkpost/internal/core/site"
)

func museum() sheet.Sheet {
	return sheet.Sheet{Code: "KET-07", Name: "Lighthouse Museum", Note: "Key at the cottage", Router: "hall cupboard",
		Links:   []sheet.Link{{Label: "main", Provider: "Kettle Cable", Contract: "KC-204", Mode: "dynamic", Address: "198.51.100.7"}},
		Names:   []sheet.Name{{Name: "ket-07.isles.saltmarsh.example", To: "the preferred link"}},
		Devices: []sheet.Device{{Name: "recorder", MAC: "02:00:5e:07:00:01", Address: "192.168.7.20", Reserved: true}},
		Services: []sheet.Service{{Name: "view", Device: "recorder", Kind: "https", Outside: "TCP 8443", Inside: "port 443",
			Expected: "reachable",
			State:    "reachable", Good: true, Cards: []site.Card{{Title: "Port forward"}}},
			{Name: "router-page", Device: "router", Outside: "TCP 8081", Expected: "closed", Good: true}},
		Contacts: []sheet.Contact{{Role: "key holder", Name: "Harbour office", Phone: "01632 960007"}},
		Notes:    []sheet.Note{{Words: "the disk was replaced"}}}
}

func TestWhatChangedIsSaidInWords(t *testing.T) {
	before, after := museum(), museum()
	require.Empty(t, sheet.Changes(before, after))
	after.Links[0].Address, after.Links[0].Contract = "198.51.100.9", ""
	after.Devices[0].Address, after.Devices[0].Reserved = "192.168.7.30", false
	after.Services[0].State, after.Services[0].Good = "unreachable", false
	after.Services = append(after.Services[:1:1], sheet.Service{Name: "audio"})
	after.Contacts[0].Phone = "01632 960008"
	after.Notes = append(after.Notes, sheet.Note{Words: "and again"})
	require.Equal(t, []string{
		"the contract of link main is no longer KC-204",
		"the address of link main was 198.51.100.7, and is 198.51.100.9",
		"the LAN address of recorder was 192.168.7.20, and is 192.168.7.30",
		"the LAN address of recorder as it is held was reserved, and is not reserved",
		"service router-page is gone",
		"service audio is new",
		"the phone of Harbour office was 01632 960007, and is 01632 960008",
		"1 note was written",
	}, sheet.Changes(before, after), "how a service is at a moment is no change")
}

func TestACustomerReadsPlainWordsAndNoWordsForColleagues(t *testing.T) {
	s := museum()
	good, lines := s.Plain()
	require.True(t, good)
	require.Equal(t, []string{"view works."}, lines)
	s.Services[0].Good, s.Services[1].Good = false, false
	s.Services = append(s.Services, sheet.Service{Name: "audio", Awaited: true})
	good, lines = s.Plain()
	require.False(t, good)
	require.Equal(t, []string{"view cannot be reached at present.", "router-page is open to everybody, and should not be.",
		"audio is not in use yet."}, lines)
	mine := s.ForCustomer()
	for _, x := range mine.Sections() {
		require.NotContains(t, []string{"For the next visit", "Notes", "Commissioning"}, x.Title)
	}
	require.Equal(t, "Key at the cottage", s.Note, "the sheet itself stays")
}

func TestASheetIsPrintedInOrderWithoutWhatIsEmpty(t *testing.T) {
	s := museum()
	s.Services[0].Proven = time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	var titles []string
	for _, x := range s.Sections() {
		titles = append(titles, x.Title)
		for _, r := range x.Rows {
			require.Len(t, r, len(x.Columns), x.Title)
		}
		if x.Title == "Services" {
			require.Equal(t, []string{"view (https)", "TCP 8443", "recorder 192.168.7.20, port 443", "reachable", "2026-11-30", ""},
				x.Rows[0])
			require.Equal(t, "never", x.Rows[1][4])
		}
	}
	require.Equal(t, []string{"For the next visit", "Links", "Router", "Names", "Devices", "Services", "Forwards, as the routers need them",
		"Contacts", "Notes"}, titles)
}

package zoneedits

import (
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/record/recordtest"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/engine/views"
	"inkpost.example/inkpost/internal/engine/zones"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/authdns"
	"inkpost.example/inkpost/internal/wire/zonefile"
)

const apex = "isles.example"

// edits on a record in memory: what they ask of it, without writing.
func edits(t *testing.T) *ZoneEdits {
	r := &rooms.Rooms{Record: &record.Record{}}
	_, err := r.Record.Load(t.Context(), &recordtest.Rows{
		ZoneRows: []names.Zone{{ID: 1, Apex: apex, Kind: names.Hosted, TTL: 300, Template: "{code}." + apex,
			Servers: []names.Server{{Name: "ns1." + apex}}}, {ID: 2, Apex: "quay.example", Kind: names.Remote, TTL: 300}},
		SiteRows:     []site.Site{{ID: 1, Code: "KET-07", Name: "Kettle Pier"}},
		LinkRows:     []site.Link{{ID: 10, SiteID: 1, Label: "main", Position: 1}},
		HostnameRows: []site.Hostname{{ID: 1, SiteID: 1, ZoneID: 1, Name: "ket-07." + apex, Site: "KET-07", Extras: []string{"www"}}},
		AliasRows:    []site.Alias{{ID: 1, SiteID: 1, ZoneID: 1, HostnameID: 1, Name: "pier." + apex, Hostname: "ket-07." + apex}},
		RedirectRows: []site.Redirect{{ID: 1, SiteID: 1, ZoneID: 1, HostnameID: 1, Name: "shop." + apex, Hostname: "ket-07." + apex}},
		RecordRows:   []store.ZoneRecord{{ID: 1, ZoneID: 1, Name: "mx." + apex, Type: "TXT", TTL: 300, Data: `"old"`}}})
	require.NoError(t, err)
	r.Zones = zones.New(nil, r.Record, &authdns.Directory{}, nil, time.Now, slog.New(slog.DiscardHandler))
	return &ZoneEdits{Rooms: r, Views: &views.Views{Rooms: r}}
}

func TestANameIsCheckedAgainstEverythingAtIt(t *testing.T) {
	e := edits(t)
	for name, want := range map[string]string{
		"dun-12." + apex:           "is free in hosted zone " + apex,
		"dun-12.quay.example":      "is free in remote zone quay.example",
		"ket-07." + apex:           "belongs to site KET-07 already",
		"WWW.KET-07." + apex + ".": "belongs to site KET-07 already",
		"pier." + apex:             "an alias stands alone at its name",
		"shop." + apex:             "is a redirect to ket-07." + apex,
		"ns1." + apex:              "name server",
		"dun-12.elsewhere.example": "is below none of the zones on record",
		"dun_12." + apex:           "letters a-z, digits and hyphens are allowed",
		"xn--a-." + apex:           "not a legal international name",
	} {
		got := e.CheckName(t.Context(), name)
		require.Contains(t, got.Detail, want, name)
		require.Equal(t, got.Free, want[:7] == "is free", name)
	}
	got := e.CheckName(t.Context(), "fähre."+apex)
	require.True(t, got.Free)
	require.Equal(t, "fähre."+apex, got.Shown)
	require.NotEqual(t, got.Shown, got.Name, "it is recorded as DNS has it")
}

func TestASuggestedNameIsFree(t *testing.T) {
	e := edits(t)
	got, err := e.SuggestName(t.Context(), "KET-07", "")
	require.NoError(t, err)
	require.Equal(t, "ket-07-2."+apex, got.Name, "the zone with a template, and its first name is taken")
	require.True(t, got.Free)
	got, err = e.SuggestName(t.Context(), "ket-07", "QUAY.example.")
	require.NoError(t, err)
	require.Equal(t, "ket-07.quay.example", got.Name)
	_, err = e.SuggestName(t.Context(), "DUN-12", "")
	require.ErrorAs(t, err, new(store.Missing))
	_, err = e.SuggestName(t.Context(), "KET-07", "elsewhere.example")
	require.ErrorAs(t, err, new(store.Missing))
}

func TestAZoneFileIsComparedWithWhatIsThere(t *testing.T) {
	e := edits(t)
	z := e.Record.Zone(1)
	file := zonefile.File{Records: []names.Record{
		{Name: "mx." + apex, Type: "TXT", TTL: 300, Data: `"old"`},
		{Name: "mx." + apex, Type: "TXT", TTL: 300, Data: `"new"`},
		{Name: "ket-07." + apex, Type: "A", TTL: 60, Data: "198.51.100.7"},
		{Name: "shop." + apex, Type: "A", TTL: 60, Data: "198.51.100.80"},
		{Name: apex, Type: "NS", TTL: 300, Data: "ns1." + apex + "."},
		{Name: "pier." + apex, Type: "CNAME", TTL: 0, Data: "ket-07." + apex + "."},
		{Name: apex, Type: "DNSKEY", TTL: 300, Data: "256 3 13 aaaa"}}}
	file.Places = make([]zonefile.Fault, len(file.Records))
	var out contract.ZoneImport
	add, remove, err := e.compareFile(z, file, true, &out)
	require.NoError(t, err)
	require.Equal(t, []names.Record{{Name: "mx." + apex, Type: "TXT", TTL: 300, Data: `"new"`}}, add)
	require.Empty(t, remove, "the old one is in the file, too")
	var reasons []string
	for _, left := range out.Left {
		reasons = append(reasons, left.Reason)
	}
	require.Equal(t, []string{"the name follows the address of site KET-07", "the name is a redirect to ket-07." + apex,
		"it is part of the zone's own servers; those of a zone on record are replaced with --replace-servers only",
		"it is there as a hostname, an alias or a redirect",
		"records of type DNSKEY are not served; those of a signed zone are made by whoever signs it"}, reasons)

	add, remove, err = e.compareFile(z, zonefile.File{}, true, &out)
	require.NoError(t, err)
	require.Empty(t, add)
	require.Equal(t, []int64{1}, remove, "what the file does not have goes")
	_, remove, err = e.compareFile(z, zonefile.File{}, false, &out)
	require.NoError(t, err)
	require.Empty(t, remove, "unless it is only to be added to")
}

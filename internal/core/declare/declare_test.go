package declare_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/declare"
)

func TestItemsComeInTheOrderInWhichTheyCanBeRecorded(t *testing.T) {
	items := []declare.Item{
		{Kind: declare.Service, Site: "ket-07", Name: "video", At: declare.Place{Line: 2}},
		{Kind: declare.Device, Site: "KET-07", Name: "Recorder", At: declare.Place{Line: 3}},
		{Kind: declare.Site, Site: "KET-07", Name: "KET-07", At: declare.Place{Line: 4}},
		{Kind: declare.Device, Site: "ket-07", Name: "recorder", At: declare.Place{Line: 5}},
		{Kind: declare.Device, Name: "desk", At: declare.Place{Line: 6}},
		{Kind: declare.Link, Site: "KET-07", At: declare.Place{Line: 7}, Places: map[string]declare.Place{"label": {Line: 8}}},
	}
	ordered, flaws := declare.Arrange(items)
	var kinds []declare.Kind
	for _, i := range ordered {
		kinds = append(kinds, i.Kind)
	}
	require.Equal(t, []declare.Kind{declare.Site, declare.Device, declare.Service}, kinds)
	require.Len(t, flaws, 3)
	require.EqualError(t, flaws[0], "line 5, name: device recorder is listed twice; it stands in line 3 already")
	require.EqualError(t, flaws[1], "line 6, site: is required: the code of its site")
	require.EqualError(t, flaws[2], "line 8, label: is required")
}

func TestWhatAFileHasWholeAndDoesNotListIsToGo(t *testing.T) {
	now := []declare.Identity{{declare.Site, "KET-07", "KET-07"}, {declare.Site, "OYS-03", "OYS-03"}, {declare.Device, "KET-07",
		"recorder"},
		{declare.Device, "KET-07", "desk"}, {declare.Service, "KET-07", "video"}, {declare.Hostname, "KET-07", "ket.example"}}
	items := []declare.Item{{Kind: declare.Site, Site: "ket-07", Name: "ket-07"}, {Kind: declare.Device, Site: "ket-07", Name: "DESK"},
		{Kind: declare.Hostname, Site: "OYS-03", Name: "KET.example"}}
	parts := map[string][]declare.Kind{"KET-07": {declare.Device, declare.Service, declare.Hostname}}
	require.Equal(t, []declare.Identity{{declare.Service, "KET-07", "video"}, {declare.Device, "KET-07", "recorder"}},
		declare.Scope{Parts: parts}.Absent(now, items), "services before the devices that they are on")
	require.Equal(t, []declare.Identity{{declare.Site, "OYS-03", "OYS-03"}}, declare.Scope{Everything: true}.Absent(now, items))
	require.Empty(t, declare.Scope{}.Absent(now, items))
}

func TestCellsAreReadAsTheyAreWritten(t *testing.T) {
	for _, c := range []struct {
		of    declare.Type
		cell  string
		value any
		json  any // as a document has it
		again string
	}{
		{declare.Text, " Key at the cottage ", "Key at the cottage", "Key at the cottage", "Key at the cottage"},
		{declare.Number, "60", 60, float64(60), "60"},
		{declare.Number, "", 0, float64(0), "0"},
		{declare.YesNo, "Yes", true, true, "yes"},
		{declare.YesNo, "", false, false, "no"},
		{declare.List, "harbour;north ; ", []string{"harbour", "north"}, []any{"harbour", "north"}, "harbour; north"},
		{declare.Time, "", time.Time{}, "0001-01-01T00:00:00Z", ""},
		{declare.Time, "2026-12-01", time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC), "2026-12-01T00:00:00Z", "2026-12-01T00:00:00Z"},
		{declare.Pairs, "path=/live; status = 200", map[string]string{"path": "/live", "status": "200"},
			map[string]any{"path": "/live", "status": "200"}, "path=/live; status=200"},
	} {
		f := declare.Field{Name: "x", Type: c.of}
		v, err := f.Parse(c.cell)
		require.NoError(t, err, c.cell)
		require.Equal(t, c.value, v, c.cell)
		require.Equal(t, c.again, f.Cell(c.json), c.cell)
	}
	for of, cell := range map[declare.Type]string{declare.Number: "6o", declare.YesNo: "perhaps", declare.Time: "soon",
		declare.Pairs: "path"} {
		_, err := declare.Field{Type: of}.Parse(cell)
		require.ErrorContains(t, err, cell)
	}
}

func TestKindsAreReadInTheSingularAndThePlural(t *testing.T) {
	for _, k := range declare.Kinds() {
		again, err := declare.ParseKind(" " + k.Plural())
		require.NoError(t, err)
		require.Equal(t, k, again)
		f, ok := k.Field(k.Key())
		require.True(t, ok, k)
		require.Equal(t, declare.Text, f.Type)
	}
	_, err := declare.ParseKind("zones")
	require.ErrorContains(t, err, "no part of a record")
}

package ledger

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestAMonthIsPackedAndComesBack(t *testing.T) {
	month := time.Date(2026, 2, 1, 0, 0, 0, 0, time.UTC)
	r := rand.New(rand.NewPCG(1, 2))
	var days []Day
	for n := range 28 {
		if n == 7 {
			continue // nothing is known of it
		}
		d := Day{Start: month.AddDate(0, 0, n)}
		for h := range d.Hours {
			d.Hours[h].Good = 3600
		}
		for range 300 {
			d.Latency.Add(time.Duration(8000+2000*r.ExpFloat64()) * time.Microsecond)
		}
		days = append(days, d)
	}
	days[3].Hours[5] = Hour{Good: 1000, Bad: 2000}
	doc := PackMonth(days)
	require.Equal(t, days, UnpackMonth(month.AddDate(0, 0, 20), doc))
	require.Empty(t, UnpackMonth(month, PackMonth(nil)))
	require.Empty(t, UnpackMonth(month, []byte("\x01no such thing")))
	for n := range doc {
		require.Subset(t, days, UnpackMonth(month, doc[:n]), "what is cut short is left out")
	}
	wrong := PackMonth([]Day{{Start: time.Date(2026, 3, 31, 0, 0, 0, 0, time.UTC)}})
	require.Empty(t, UnpackMonth(month, wrong), "a day that the month does not have")
}

func FuzzUnpackMonth(f *testing.F) {
	month := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	f.Add(PackMonth([]Day{{Start: month}, {Start: month.AddDate(0, 0, 3)}}))
	f.Fuzz(func(t *testing.T, doc []byte) {
		days := UnpackMonth(month, doc)
		if len(days) > 30 {
			t.Fatal("more days than the month has")
		}
		if again := UnpackMonth(month, PackMonth(days)); len(again) != len(days) {
			t.Fatalf("%d days, packed and unpacked %d", len(days), len(again))
		}
	})
}

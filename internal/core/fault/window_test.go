package fault_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/core/site"
)

func london(t *testing.T) *time.Location {
	zone, err := time.LoadLocation("Europe/London")
	require.NoError(t, err)
	return zone
}

func TestWorkEachNightKeepsToTheClockOnTheWall(t *testing.T) {
	zone := london(t)
	w := fault.Work{Starts: time.Date(2026, 10, 20, 0, 30, 0, 0, zone), Minutes: 180, Zone: "Europe/London", Repeats: fault.Daily}
	require.NoError(t, w.Check())
	for _, day := range []int{24, 25, 26} { // the clocks go back on the 25th
		from, until := w.Window(time.Date(2026, 10, day, 2, 0, 0, 0, zone))
		require.Equal(t, time.Date(2026, 10, day, 0, 30, 0, 0, zone).UTC(), from.UTC())
		require.Equal(t, time.Date(2026, 10, day, 3, 30, 0, 0, zone).UTC(), until.UTC())
		require.Equal(t, map[int]time.Duration{24: 3 * time.Hour, 25: 4 * time.Hour, 26: 3 * time.Hour}[day], until.Sub(from))
		require.False(t, w.Covers(from.Add(-time.Second)))
		require.True(t, w.Covers(from))
		require.True(t, w.Covers(until.Add(-time.Second)))
		require.False(t, w.Covers(until))
	}
	w = fault.Work{Starts: time.Date(2027, 3, 21, 1, 30, 0, 0, zone), Minutes: 60, Zone: "Europe/London", Repeats: fault.Weekly}
	from, until := w.Window(time.Date(2027, 3, 28, 0, 0, 0, 0, zone)) // 01:30 does not exist that night
	require.Equal(t, "2027-03-28T01:30:00Z", from.UTC().Format(time.RFC3339))
	require.Equal(t, time.Hour, until.Sub(from))
	from, _ = w.Window(time.Date(2027, 4, 3, 0, 0, 0, 0, zone))
	require.Equal(t, "2027-04-04T00:30:00Z", from.UTC().Format(time.RFC3339), "the week after, by summer time")
}

func TestWorkIsFoundAmongMany(t *testing.T) {
	start := time.Date(2026, 1, 31, 22, 0, 0, 0, time.UTC)
	month := fault.Work{Starts: start, Minutes: 240, Repeats: fault.Monthly}
	from, _ := month.Window(time.Date(2026, 2, 10, 0, 0, 0, 0, time.UTC))
	require.Equal(t, time.Date(2026, 2, 28, 22, 0, 0, 0, time.UTC), from, "February is too short for the 31st")
	from, _ = month.Window(time.Date(2036, 3, 1, 12, 0, 0, 0, time.UTC))
	require.Equal(t, time.Date(2036, 3, 31, 22, 0, 0, 0, time.UTC), from)

	once := fault.Work{Starts: start, Minutes: 60, Repeats: fault.Once}
	require.True(t, once.Covers(start.Add(59*time.Minute)))
	from, until := once.Window(start.Add(time.Hour))
	require.True(t, from.IsZero() && until.IsZero(), "it is over")
	from, _ = once.Window(start.Add(-time.Hour))
	require.Equal(t, start, from, "it is to come")

	ends := fault.Work{Starts: start, Minutes: 60, Repeats: fault.Daily, Last: start.AddDate(0, 0, 2)}
	require.True(t, ends.Covers(start.AddDate(0, 0, 2)))
	require.False(t, ends.Covers(start.AddDate(0, 0, 3)))

	long := fault.Work{ID: 3, Scope: fault.Scope{Provider: "Kettle Cable"}, Starts: start, Minutes: 300, Repeats: fault.Once}
	tagged := fault.Work{ID: 4, Scope: fault.Scope{Tag: "harbour"}, Starts: start, Minutes: 30, Repeats: fault.Once}
	place := fault.Place{Site: "KET-07", Tags: []string{"harbour"}, Providers: []string{"Kettle Cable", "Gannet Mobile"}}
	w, until, ok := fault.Planned([]fault.Work{tagged, long}, place, start.Add(time.Minute))
	require.True(t, ok)
	require.Equal(t, int64(3), w.ID, "the one that lasts longest")
	require.Equal(t, start.Add(5*time.Hour), until)
	_, _, ok = fault.Planned([]fault.Work{long}, fault.Place{Site: "GAN-02", Providers: []string{"Gannet Mobile"}}, start)
	require.False(t, ok)
	require.True(t, fault.Scope{Site: "ket-07", Tag: "harbour"}.Covers(place))
	require.False(t, fault.Scope{Site: "KET-07", Tag: "school"}.Covers(place), "both have to be so")
	require.Equal(t, "sites tagged harbour, sites of Kettle Cable", fault.Scope{Tag: "harbour", Provider: "Kettle Cable"}.Words())
	require.Equal(t, "all sites", fault.Scope{}.Words())
}

func TestWorkThatCannotBePlanned(t *testing.T) {
	err := fault.Work{Minutes: 0, Zone: "Mars/Olympus", Repeats: "hourly"}.Check()
	var flaws site.Flaws
	require.ErrorAs(t, err, &flaws)
	require.Len(t, flaws, 4)
	require.ErrorContains(t, fault.Work{Starts: morning, Minutes: 2000, Repeats: fault.Daily}.Check(), "until it is repeated")
	require.ErrorContains(t, fault.Work{Starts: morning, Minutes: 20, Repeats: fault.Once, Last: morning.Add(-1)}.Check(),
		"before it starts")
}

func TestWindowsOfAStretchOfTime(t *testing.T) {
	w := fault.Work{Starts: morning, Minutes: 60, Repeats: fault.Weekly}
	list := w.Windows(morning.AddDate(0, 0, 7).Add(30*time.Minute), morning.AddDate(0, 0, 21), 10)
	require.Equal(t, [][2]time.Time{{morning.AddDate(0, 0, 7), morning.AddDate(0, 0, 7).Add(time.Hour)},
		{morning.AddDate(0, 0, 14), morning.AddDate(0, 0, 14).Add(time.Hour)}}, list, "the one under way, and those before the end")
	require.Len(t, w.Windows(morning, morning.AddDate(9, 0, 0), 5), 5)
	w.Repeats = fault.Once
	require.Empty(t, w.Windows(morning.Add(time.Hour), morning.AddDate(1, 0, 0), 5))
}

package notice_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/core/notice"
)

var morning = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

// world is what happens at sites, minute by minute, and who is told of it.
type world struct {
	desk   *notice.Desk
	faults []notice.Fault
	moves  []notice.Move
	work   []fault.Work
	told   []string // one line a message
	zone   *time.Location
}

// run has the desk look every ten seconds until a moment, and do at each.
func (w *world) run(from, until time.Time, do func(now time.Time)) {
	for now := from; now.Before(until); now = now.Add(10 * time.Second) {
		do(now)
		for i, f := range w.faults {
			_, _, w.faults[i].Planned = fault.Planned(w.work, f.Place, now)
		}
		for _, m := range w.desk.Round(w.faults, w.moves, now) {
			w.desk.Note(m, now)
			what := string(m.Items[0].What)
			if len(m.Items) > 1 {
				what = fmt.Sprintf("%d at once", len(m.Items))
			} else if m.Items[0].FaultID != 0 {
				what += fmt.Sprintf(" fault %d", m.Items[0].FaultID)
			}
			at := now
			if w.zone != nil {
				at = now.In(w.zone)
			}
			w.told = append(w.told, fmt.Sprintf("%s %s %s", at.Format("15:04"), strings.TrimPrefix(m.To, "person "), what))
		}
	}
}

func faultAt(id int64, cause causes.Slug, opened time.Time, site, provider string) notice.Fault {
	return notice.Fault{ID: id, Cause: cause, Serious: true, Opened: opened, Turned: opened,
		Place: fault.Place{Site: site, Providers: []string{provider}}}
}

func everybody(rules ...notice.Rule) *notice.Desk { return notice.NewDesk(rules) }

// Five hundred sites of one provider go dark within three minutes, and come back within five. The first are dark before it is seen that it
// is the provider.
func TestAnOutageOfFiveHundredSitesIsOneMessage(t *testing.T) {
	w := world{desk: everybody(notice.Rule{Person: "dispatch", Topic: notice.Faults},
		notice.Rule{Person: "field", Topic: notice.Faults, Scope: fault.Scope{Site: "ISL-007"}},
		notice.Rule{Person: "owner", Topic: notice.Faults, AfterMinutes: 30})}
	w.run(morning, morning.Add(75*time.Minute), func(now time.Time) {
		n := int(now.Sub(morning) / (10 * time.Second))
		for i := 0; i < 28 && len(w.faults) <= 500; i++ { // 28 sites every ten seconds
			n := len(w.faults)
			w.faults = append(w.faults, faultAt(int64(n+1), "site-dark", now, fmt.Sprintf("ISL-%03d", n), "Islenet Fibre"))
		}
		switch {
		case n == 1:
			outage := faultAt(1000, "provider-outage", now, "", "Islenet Fibre")
			outage.Under = []fault.Place{{Site: "ISL-006"}, {Site: "ISL-007"}}
			w.faults = append(w.faults, outage)
		case n < 30:
			for i := range w.faults {
				if f := &w.faults[i]; f.ID < 1000 && !f.Explained {
					f.Explained, f.Cause, f.Turned = true, "provider-outage", now
				}
			}
		case n > 360 && n <= 390: // they come back
			for i := range w.faults[:min(len(w.faults), (n-360)*17)] {
				if f := &w.faults[i]; f.Closed.IsZero() && (f.ID < 1000 || n == 390) {
					f.Closed, f.Turned = now, now
				}
			}
			for i := range w.faults {
				if f := &w.faults[i]; f.ID == 1000 && n == 390 {
					f.Closed, f.Turned = now, now
				}
			}
		}
	})
	require.Len(t, w.faults, 501)
	require.Equal(t, []string{"08:02 dispatch opened fault 1000", "08:02 field opened fault 1000", "08:30 owner opened fault 1000",
		"09:06 dispatch over fault 1000", "09:06 field over fault 1000", "09:06 owner over fault 1000"}, w.told)
}

// A link that goes down for a minute every five, for two hours.
func TestALinkThatFlapsIsOneMessageThatSaysSo(t *testing.T) {
	w := world{desk: everybody(notice.Rule{Person: "dispatch", Topic: notice.Faults})}
	w.faults = []notice.Fault{faultAt(1, "link-failing", morning, "KET-07", "Kettle Cable")}
	w.run(morning, morning.Add(4*time.Hour), func(now time.Time) {
		f, since := &w.faults[0], now.Sub(morning)
		down := since%(5*time.Minute) < time.Minute && since < 2*time.Hour
		switch {
		case down && !f.Closed.IsZero():
			f.Closed, f.Turned, f.Returns = time.Time{}, now, f.Returns+1
		case !down && f.Closed.IsZero():
			f.Closed, f.Turned = now, now
		}
	})
	require.Equal(t, []string{"08:00 dispatch opened fault 1", "08:02 dispatch over fault 1", "08:05 dispatch unsteady fault 1",
		"10:56 dispatch over fault 1"}, w.told)
}

// Forty sites are renumbered between two and four at night.
func TestANightOfRenumberingsIsReadInTheMorning(t *testing.T) {
	night := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
	w := world{desk: everybody(
		notice.Rule{Person: "owner", Topic: notice.Moves, Hours: notice.Hours{From: "07:00", Until: "19:00"}},
		notice.Rule{Person: "dispatch", Topic: notice.Moves, GatherMinutes: 60},
		notice.Rule{Person: "field", Topic: notice.Moves, Scope: fault.Scope{Site: "KET-03"}},
		notice.Rule{Person: "new", Topic: notice.Moves, Created: night.Add(3*time.Hour + 50*time.Minute), GatherMinutes: 60},
		notice.Rule{Person: "all", Topic: notice.Moves})}
	w.run(night, night.Add(24*time.Hour), func(now time.Time) {
		if since := now.Sub(night); since >= 2*time.Hour && since < 4*time.Hour && since%(3*time.Minute) == 0 {
			id := int64(len(w.moves) + 1)
			w.moves = append(w.moves, notice.Move{ID: id, At: now, Place: fault.Place{Site: fmt.Sprintf("KET-%02d", id)}})
		}
	})
	require.Len(t, w.moves, 40)
	of := map[string][]string{}
	for _, line := range w.told {
		var at, who string
		_, _ = fmt.Sscan(line, &at, &who)
		of[who] = append(of[who], at+strings.TrimPrefix(line, at+" "+who))
	}
	require.Equal(t, []string{"07:00 40 at once"}, of["owner"], "what happens at night waits for the morning")
	require.Equal(t, []string{"02:01 moved", "03:01 20 at once", "04:01 19 at once"}, of["dispatch"])
	require.Equal(t, []string{"02:06 moved"}, of["field"])
	require.Equal(t, []string{"03:52 moved", "04:52 2 at once"}, of["new"], "what was before the rule is not told")
	require.Len(t, of["all"], 40, "one every three minutes is no storm")
}

// Work is planned from half past one until half past four on each night of a weekend on which the clocks go back at two.
func TestWorkThatIsPlannedIsNotToldUntilItIsOver(t *testing.T) {
	zone, err := time.LoadLocation("Europe/London")
	require.NoError(t, err)
	night := time.Date(2026, 10, 25, 0, 0, 0, 0, zone)
	w := world{zone: zone, desk: everybody(notice.Rule{Person: "dispatch", Topic: notice.Faults}),
		work: []fault.Work{{Scope: fault.Scope{Provider: "Kettle Cable"}, Starts: night.AddDate(0, 0, -1).Add(30 * time.Minute),
			Minutes: 240,
			Zone:    "Europe/London", Repeats: fault.Daily}}}
	w.run(night, night.Add(8*time.Hour), func(now time.Time) {
		if now.Equal(night.Add(time.Hour)) {
			w.faults = []notice.Fault{faultAt(1, "site-dark", now, "KET-01", "Kettle Cable"), faultAt(2, "site-dark", now, "KET-02",
				"Kettle Cable"),
				faultAt(3, "service-stopped", now, "GAN-02", "Gannet Mobile")}
		}
		if f := &w.faults; len(*f) > 0 && now.Equal(night.Add(3*time.Hour)) {
			(*f)[0].Closed, (*f)[0].Turned = now, now // what was mended meanwhile was never told
		}
	})
	require.Equal(t, []string{"01:00 dispatch opened fault 3", "04:30 dispatch opened fault 2"}, w.told,
		"half past four by the clock on the wall, an hour later than the night before")
}

// Whoever is told of some things at once, and of all the others once in a while, does not wait for the first.
func TestWhatIsToldAtOnceDoesNotWaitForWhatIsGathered(t *testing.T) {
	w := world{desk: everybody(notice.Rule{Person: "dispatch", Topic: notice.Faults, GatherMinutes: 240},
		notice.Rule{Person: "dispatch", Topic: notice.Faults, Serious: true})}
	w.run(morning, morning.Add(5*time.Hour), func(now time.Time) {
		if now.Sub(morning)%time.Hour == 0 {
			id := int64(now.Sub(morning)/time.Hour) + 1
			w.faults = append(w.faults, faultAt(id, "device-off", now, fmt.Sprintf("KET-%02d", id), "Kettle Cable"))
			w.faults[id-1].Serious = id%2 == 0
		}
	})
	require.Equal(t, []string{"08:01 dispatch opened fault 1", "09:00 dispatch opened fault 2", "11:00 dispatch opened fault 4",
		"12:01 dispatch 2 at once"}, w.told)
}

package notice_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/core/notice"
)

func TestHoursAreThoseOfTheClockOnTheWall(t *testing.T) {
	london, err := time.LoadLocation("Europe/London")
	require.NoError(t, err)
	at := func(day, hour, minute int) time.Time { return time.Date(2026, 10, day, hour, minute, 0, 0, london) }
	work := notice.Hours{Days: []string{"mon", "tue", "wed", "thu", "fri"}, From: "07:00", Until: "19:00", Zone: "Europe/London"}
	night := notice.Hours{Days: []string{"fri"}, From: "22:00", Until: "06:00", Zone: "Europe/London"}
	for _, c := range []struct {
		hours notice.Hours
		at    time.Time
		open  bool
	}{
		{notice.Hours{}, at(24, 3, 0), true},
		{work, at(23, 6, 59), false}, {work, at(23, 7, 0), true}, {work, at(23, 18, 59), true}, {work, at(23, 19, 0), false},
		{work, at(24, 12, 0), false}, // Saturday
		{work, at(26, 7, 0), true},   // by winter time
		{night, at(23, 21, 59), false}, {night, at(23, 22, 0), true},
		{night, at(24, 5, 59), true}, // it is Friday's night
		{night, at(24, 6, 0), false}, {night, at(24, 23, 0), false},
	} {
		require.Equal(t, c.open, c.hours.Open(c.at), "%v %v", c.hours, c.at)
	}
}

func TestADigestIsDueOnceADayOrAWeek(t *testing.T) {
	daily := notice.Rule{Topic: notice.Daily, Hours: notice.Hours{Zone: "Europe/London"}}
	of, ok := daily.Due(morning.Add(-24*time.Hour), morning) // Monday, 8:00 in London
	require.True(t, ok)
	require.Equal(t, "2026-11-23T07:00:00Z", of.UTC().Format(time.RFC3339))
	require.Equal(t, 24*time.Hour, of.Sub(daily.Back(of)))
	_, ok = daily.Due(of, morning.Add(22*time.Hour))
	require.False(t, ok, "it was told, and the next is not due")
	weekly := notice.Rule{Topic: notice.Weekly, Hours: notice.Hours{Days: []string{"wed"}, From: "06:30"}}
	of, ok = weekly.Due(time.Time{}, morning)
	require.True(t, ok)
	require.Equal(t, "2026-11-18T06:30:00Z", of.Format(time.RFC3339), "the Wednesday before")
	require.Equal(t, 7*24*time.Hour, of.Sub(weekly.Back(of)))

	open := notice.OfFault(notice.Words{Site: "KET-07", Finding: off(), What: notice.Opened}, morning)
	c := notice.OfDigest(notice.Summary{From: morning.AddDate(0, 0, -7), Until: morning, Open: []notice.Content{open},
		Expiring: []notice.Expiry{{Site: "CLI-05", What: "the certificate of page", At: morning.AddDate(0, 0, 3)}}}, morning)
	require.Equal(t, "The last 7 days: 1 open, 0 mended, 0 moved", c.Subject)
	require.Equal(t, "KET-07: "+off().Next, c.Next)
	require.Contains(t, c.Lines, notice.Line{Name: "Ends soon", Text: "CLI-05 the certificate of page, Thu 26 Nov"})
}

func off() diagnose.Finding {
	return diagnose.Finding{Cause: "device-off", Hop: diagnose.HopDevice, Subject: "device recorder", Services: []string{"page", "camera"},
		Summary: "recorder is off", Next: "Switch it on.", Evidence: []string{"page: silent", "nothing answers"}}
}

func TestWhatIsSaidOfAFault(t *testing.T) {
	w := notice.Words{FaultID: 42, Site: "KET-07", SiteName: "Lighthouse Museum", Provider: "Kettle Cable", Finding: off(), Began: morning,
		Opened: morning.Add(20 * time.Second), What: notice.Opened}
	c := notice.OfFault(w, morning.Add(time.Minute))
	require.Equal(t, "KET-07 Lighthouse Museum: recorder is off", c.Subject)
	require.Equal(t, "Switch it on.", c.Next)
	require.Contains(t, c.Lines, notice.Line{Name: "Seen", Text: "page: silent"})
	require.Contains(t, c.Lines, notice.Line{Name: "Since", Text: "Mon 23 Nov 08:00 UTC"})

	w.What, w.Closed, w.Template = notice.Over, morning.Add(3*time.Hour), "[{site}] {what}: {summary}"
	c = notice.OfFault(w, morning.Add(3*time.Hour))
	require.Equal(t, "[KET-07] over: over after 3 h: recorder is off", c.Subject)
	require.Contains(t, c.Lines, notice.Line{Name: "It was", Text: "recorder is off"})
	w.What, w.Returns, w.Template = notice.Unsteady, 3, "{nonsense}"
	c = notice.OfFault(w, morning)
	require.Equal(t, "KET-07 Lighthouse Museum: comes and goes, back 3 times: recorder is off", c.Subject, "a template that fits no more")
	require.Contains(t, c.Lines[len(c.Lines)-1].Text, "steady for 60 min")
	w.What, w.PreviouslyTold = notice.Changed, "service-stopped"
	c = notice.OfFault(w, morning)
	require.Contains(t, c.Lines, notice.Line{Name: "Told before", Text: "service-stopped"})

	outage := notice.OfFault(notice.Words{Provider: "Kettle Cable", Sites: 12, What: notice.Opened,
		Finding: diagnose.Finding{Cause: "provider-outage", Summary: "Kettle Cable has an outage"}}, morning)
	require.Equal(t, "Kettle Cable has an outage", outage.Subject)

	many := make([]notice.Content, 120)
	for i := range many {
		many[i] = notice.OfMove(notice.MoveWords{MoveID: int64(i + 1), Site: "S-" + string(rune('A'+i%26)), Old: "198.51.100.1",
			New: "198.51.100.2"},
			morning)
	}
	c = notice.Together(many, morning)
	require.Equal(t, "120 addresses are new: S-A, S-B, S-C, S-D, S-E, S-F and 20 more", c.Subject)
	require.Len(t, c.Parts, 100)
	require.Equal(t, "20 more", c.Lines[0].Text)
}

// What a recipient is told of one fault, given what they were told before.
func TestWhatComesNext(t *testing.T) {
	at := func(minutes int) time.Time { return morning.Add(time.Duration(minutes) * time.Minute) }
	told := func(what notice.What, cause causes.Slug, returns, minutes int) notice.Told {
		return notice.Told{What: what, Cause: cause, Returns: returns, At: at(minutes)}
	}
	open := notice.Fault{ID: 1, Cause: "service-stopped", Serious: true, Opened: morning, Turned: morning,
		Place: fault.Place{Site: "KET-07", Tags: []string{"harbour"}}}
	with := func(change func(*notice.Fault)) notice.Fault { f := open; change(&f); return f }
	rule := notice.Rule{Topic: notice.Faults}
	opened := []notice.Told{told(notice.Opened, "service-stopped", 0, 0)}
	for what, c := range map[string]struct {
		rule  notice.Rule
		fault notice.Fault
		told  []notice.Told
		at    int
		next  notice.What
	}{
		"at once":                       {rule, open, nil, 0, notice.Opened},
		"not twice":                     {rule, open, opened, 30, ""},
		"a dark site waits":             {rule, with(func(f *notice.Fault) { f.Cause = "site-dark" }), nil, 1, ""},
		"and is told then":              {rule, with(func(f *notice.Fault) { f.Cause = "site-dark" }), nil, 2, notice.Opened},
		"the provider's outage is told": {rule, with(func(f *notice.Fault) { f.Explained = true }), nil, 9, ""},
		"planned":                       {rule, with(func(f *notice.Fault) { f.Planned = true }), nil, 9, ""},
		"another site":                  {notice.Rule{Topic: notice.Faults, Scope: fault.Scope{Site: "KET-01"}}, open, nil, 9, ""},
		"of its tag": {notice.Rule{Topic: notice.Faults, Scope: fault.Scope{Tag: "harbour"}}, open, nil, 9,
			notice.Opened},
		"of another cause": {notice.Rule{Topic: notice.Faults, Causes: []causes.Slug{"exposed"}}, open, nil, 9, ""},
		"serious ones only": {notice.Rule{Topic: notice.Faults, Serious: true},
			with(func(f *notice.Fault) { f.Serious = false }), nil, 9, ""},
		"another cause": {rule, with(func(f *notice.Fault) { f.Cause = "device-off" }), opened, 9, notice.Changed},
		"again":         {notice.Rule{Topic: notice.Faults, AgainMinutes: 60}, open, opened, 60, notice.Again},
		"not while it is known": {notice.Rule{Topic: notice.Faults, AgainMinutes: 60},
			with(func(f *notice.Fault) { f.Acknowledged = true }), opened, 99, ""},
		"a second person, later": {notice.Rule{Topic: notice.Faults, AfterMinutes: 30}, open, nil, 29, ""},
		"a second person":        {notice.Rule{Topic: notice.Faults, AfterMinutes: 30}, open, nil, 30, notice.Opened},
		"nobody else, once it is known": {notice.Rule{Topic: notice.Faults, AfterMinutes: 30},
			with(func(f *notice.Fault) { f.Acknowledged = true }), nil, 99, ""},
		"over":                    {rule, with(func(f *notice.Fault) { f.Closed = at(10) }), opened, 11, notice.Over},
		"over, not yet believed":  {rule, with(func(f *notice.Fault) { f.Closed = at(10) }), opened, 10, ""},
		"over, and never told":    {rule, with(func(f *notice.Fault) { f.Closed = at(10) }), nil, 30, ""},
		"over, as part of others": {rule, with(func(f *notice.Fault) { f.Closed, f.Explained = at(10), true }), opened, 30, ""},
		"it comes back": {rule, with(func(f *notice.Fault) { f.Returns = 1 }),
			append(opened, told(notice.Over, "service-stopped", 0, 11)), 15, notice.Unsteady},
		"it flickers": {rule, with(func(f *notice.Fault) { f.Returns = 3 }), opened, 15, notice.Unsteady},
		"nothing more while it does": {rule, with(func(f *notice.Fault) { f.Returns, f.Turned = 9, at(20) }),
			[]notice.Told{told(notice.Unsteady, "service-stopped", 3, 15)}, 79, ""},
		"steadily open": {rule, with(func(f *notice.Fault) { f.Returns, f.Turned = 9, at(20) }),
			[]notice.Told{told(notice.Unsteady, "service-stopped", 3, 15)}, 80, notice.Again},
		"at night": {notice.Rule{Topic: notice.Faults, Hours: notice.Hours{From: "09:00", Until: "17:00"}}, open, nil, 59, ""},
	} {
		require.Equal(t, c.next, c.rule.Next(c.fault, c.told, at(c.at)), what)
	}
}

package fault

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/site"
)

// Scope is which sites something concerns: what is set has to be so, and nothing set stands for all of them.
type Scope struct {
	Site     string `json:"site,omitempty"` // its code
	Tag      string `json:"tag,omitempty"`
	Provider string `json:"provider,omitempty"` // of one of its links
}

// Place is where a fault is: a site with its tags and providers, or a provider alone.
type Place struct {
	Site      string
	Tags      []string
	Providers []string
}

// Covers reports whether a place is within the scope.
func (s Scope) Covers(p Place) bool {
	return (s.Site == "" || strings.EqualFold(s.Site, p.Site)) && (s.Tag == "" || slices.Contains(p.Tags, s.Tag)) &&
		(s.Provider == "" || slices.Contains(p.Providers, s.Provider))
}

// Words say which sites these are.
func (s Scope) Words() string {
	var parts []string
	if s.Site != "" {
		parts = append(parts, s.Site)
	}
	if s.Tag != "" {
		parts = append(parts, "sites tagged "+s.Tag)
	}
	if s.Provider != "" {
		parts = append(parts, "sites of "+s.Provider)
	}
	if len(parts) == 0 {
		return "all sites"
	}
	return strings.Join(parts, ", ")
}

// Repeats says how often planned work is done.
type Repeats string

// How often. Monthly is on the same day of each month, or its last one where it is too short.
const (
	Once    Repeats = "once"
	Daily   Repeats = "daily"
	Weekly  Repeats = "weekly"
	Monthly Repeats = "monthly"
)

// AllRepeats lists them.
var AllRepeats = []Repeats{Once, Daily, Weekly, Monthly}

// Work is planned work: a window in which faults of some sites are not told, once or again and again. It begins and ends by the clock on
// the wall in its time zone, whatever is done to that clock meanwhile.
type Work struct {
	ID      int64     `json:"id"`
	Scope             // which sites
	Starts  time.Time `json:"starts"` // the first time
	Minutes int       `json:"minutes"`
	Zone    string    `json:"zone"` // IANA name of the time zone; UTC if empty
	Repeats Repeats   `json:"repeats"`
	Last    time.Time `json:"last,omitzero"` // it does not start after this; zero for no end
	Reason  string    `json:"reason,omitempty"`
	By      string    `json:"by,omitempty"` // who planned it
	FaultID int64     `json:"fault,omitempty"`
}

// The bounds of planned work.
const (
	longestWork   = 31 * 24 * 60
	longestReason = 500
)

// Check returns what is wrong with it, as site.Flaws.
func (w Work) Check() error {
	var f site.Flaws
	if w.Starts.IsZero() {
		f.Note("starts", errors.New("is required"))
	}
	if w.Minutes < 1 || w.Minutes > longestWork {
		f.Note("minutes", fmt.Errorf("%d is not from 1 to %d (31 days)", w.Minutes, longestWork))
	}
	if _, err := time.LoadLocation(w.Zone); err != nil {
		f.Note("zone", fmt.Errorf("%q is no time zone; give one such as Europe/London, or UTC", w.Zone))
	}
	if !slices.Contains(AllRepeats, w.Repeats) {
		f.Note("repeats", fmt.Errorf("%q is none of once, daily, weekly, monthly", w.Repeats))
	}
	if w.Repeats == Daily && w.Minutes > 24*60 || w.Repeats == Weekly && w.Minutes > 7*24*60 || w.Repeats == Monthly &&
		w.Minutes > 28*24*60 {
		f.Note("minutes", errors.New("lasts longer than the time until it is repeated"))
	}
	if !w.Last.IsZero() && w.Last.Before(w.Starts) {
		f.Note("last", errors.New("is before it starts"))
	}
	if n := len([]rune(w.Reason)); n > longestReason {
		f.Note("reason", fmt.Errorf("has %d characters; %d are allowed", n, longestReason))
	}
	return f.Err()
}

// Covers reports whether work is under way at a moment.
func (w Work) Covers(at time.Time) bool {
	from, until := w.Window(at)
	return !from.IsZero() && !from.After(at) && at.Before(until)
}

// Window returns the window that is under way at a moment, or the next one; zero times where there is none any more.
func (w Work) Window(at time.Time) (from, until time.Time) {
	if w.Starts.IsZero() || w.Minutes < 1 {
		return from, until
	}
	for n := max(0, w.guess(at)-1); ; n++ {
		from, until = w.nth(n)
		switch {
		case n > 0 && w.Repeats == Once, !w.Last.IsZero() && from.After(w.Last):
			return time.Time{}, time.Time{}
		case at.Before(until):
			return from, until
		}
	}
}

// Windows lists the windows that touch a stretch of time, the earliest first, and at most so many.
func (w Work) Windows(from, until time.Time, most int) (out [][2]time.Time) {
	for at := from; len(out) < most; {
		begins, ends := w.Window(at)
		if begins.IsZero() || !begins.Before(until) {
			return out
		}
		out = append(out, [2]time.Time{begins, ends})
		at = ends
	}
	return out
}

// guess is about how many times work has started before a moment, one too many at most.
func (w Work) guess(at time.Time) int {
	days := int(at.Sub(w.Starts).Hours() / 24)
	switch w.Repeats {
	case Daily:
		return days - 1
	case Weekly:
		return days/7 - 1
	case Monthly:
		return days/31 - 1
	}
	return 0
}

// nth is the window with a number, the first being 0.
func (w Work) nth(n int) (from, until time.Time) {
	zone, err := time.LoadLocation(w.Zone)
	if err != nil {
		zone = time.UTC
	}
	first := w.Starts.In(zone)
	year, month, day := first.Date()
	switch w.Repeats {
	case Daily:
		day += n
	case Weekly:
		day += 7 * n
	case Monthly:
		month += time.Month(n)
		if last := time.Date(year, month+1, 0, 0, 0, 0, 0, time.UTC).Day(); day > last {
			day = last
		}
	}
	clock := func(minutes int) time.Time {
		return time.Date(year, month, day, first.Hour(), first.Minute()+minutes, first.Second(), 0, zone)
	}
	from, until = clock(0), clock(w.Minutes)
	if !until.After(from) { // the clock skipped what the window consists of
		until = from.Add(time.Duration(w.Minutes) * time.Minute)
	}
	return from, until
}

// Planned returns the work that is under way at a place, and until when; false if none is.
func Planned(list []Work, p Place, now time.Time) (w Work, until time.Time, ok bool) {
	for _, one := range list {
		if one.Scope.Covers(p) && one.Covers(now) {
			if _, end := one.Window(now); end.After(until) {
				w, until, ok = one, end, true
			}
		}
	}
	return w, until, ok
}

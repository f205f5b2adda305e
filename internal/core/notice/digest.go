package notice

import (
	"fmt"
	"time"

	"inkpost.example/inkpost/internal/core/pace"
)

// DigestAt is when a digest is sent where no hours say so.
const DigestAt = "07:00"

// Due returns the digest that is due at a moment, by the time from which it is: the newest one that is past. The first digest of a rule is
// the first after since.
func (r Rule) Due(since, now time.Time) (of time.Time, ok bool) {
	zone := r.Hours.zone()
	at := now.In(zone)
	clock := minutes(r.Hours.From, minutes(DigestAt, 0))
	of = time.Date(at.Year(), at.Month(), at.Day(), 0, clock, 0, 0, zone)
	for days := 0; days <= 7; days++ {
		d := of.AddDate(0, 0, -days)
		if d.After(now) || !r.sendsOn(d.Weekday()) {
			continue
		}
		return d, d.After(since)
	}
	return time.Time{}, false
}

// sendsOn reports whether the digest is sent on a day of the week: a weekly one on the first of its days, or on Monday.
func (r Rule) sendsOn(day time.Weekday) bool {
	name := weekdays[day]
	if r.Topic == Weekly {
		if len(r.Hours.Days) > 0 {
			return r.Hours.Days[0] == name
		}
		return day == time.Monday
	}
	if len(r.Hours.Days) == 0 {
		return true
	}
	for _, d := range r.Hours.Days {
		if d == name {
			return true
		}
	}
	return false
}

// Back returns the beginning of the time that a digest is about.
func (r Rule) Back(of time.Time) time.Time {
	if r.Topic == Weekly {
		return of.AddDate(0, 0, -7)
	}
	return of.AddDate(0, 0, -1)
}

// Summary is what a digest puts together.
type Summary struct {
	From, Until time.Time
	Open        []Content // faults that are open
	Mended      []Content // those that were mended
	Moves       []Content
	Expiring    []Expiry
	Zone        *time.Location
}

// Expiry is something that ends soon: a certificate, or a door that is open for a while.
type Expiry struct {
	SiteID     int64
	Site, What string
	At         time.Time
}

// OfDigest says what a day or a week was like. It is told also when nothing happened: silence would prove nothing.
func OfDigest(s Summary, now time.Time) Content {
	c := Content{What: Digest, At: now}
	length := pace.Length(s.Until.Sub(s.From))
	c.Subject = fmt.Sprintf("The last %s: %d open, %d mended, %d moved", length, len(s.Open), len(s.Mended), len(s.Moves))
	c.Summary = c.Subject
	if len(s.Open) > 0 {
		c.Next = s.Open[0].Site + ": " + s.Open[0].Next
	}
	line := func(name, text string) { c.Lines = append(c.Lines, Line{name, text}) }
	list := func(name string, parts []Content) {
		for i, p := range parts {
			if i == partsMost {
				line(name, fmt.Sprintf("and %d more", len(parts)-partsMost))
				return
			}
			line(name, p.Subject)
		}
	}
	list("Open", s.Open)
	list("Mended", s.Mended)
	list("Moved", s.Moves)
	for _, e := range s.Expiring {
		at := e.At
		if s.Zone != nil {
			at = at.In(s.Zone)
		}
		line("Ends soon", fmt.Sprintf("%s %s, %s", e.Site, e.What, at.Format("Mon 2 Jan")))
	}
	return c
}

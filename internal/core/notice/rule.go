// Package notice decides who is told what, when, and in which words. It knows what each recipient was told already: from that and from what
// is so follows what is due, whatever was lost on the way there.
package notice

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/team"
)

// Topic is what a rule tells of.
type Topic string

// The topics. A digest puts a day or a week together.
const (
	Faults Topic = "faults"
	Moves  Topic = "moves"
	Daily  Topic = "daily"
	Weekly Topic = "weekly"
)

// Topics lists them.
var Topics = []Topic{Faults, Moves, Daily, Weekly}

// Way is how a notice gets to its recipient.
type Way string

// The ways. A webhook is a recipient of its own; mail and push lead to a person, push to each browser of theirs.
const (
	ByMail Way = "mail"
	ByHook Way = "hook"
	ByPush Way = "push"
)

// Rule says that somebody is told of something: a person or a webhook.
type Rule struct {
	ID     int64  `json:"id"`
	Person string `json:"person,omitempty"`
	Hook   string `json:"hook,omitempty"`
	Ways   []Way  `json:"ways,omitempty"` // to a person; mail if empty
	Topic  Topic  `json:"topic"`
	fault.Scope
	Causes  []causes.Slug `json:"causes,omitempty"` // only faults with one of them
	Serious bool          `json:"serious,omitempty"`
	Hours   Hours         `json:"hours,omitzero"`
	// AfterMinutes is how long a fault has to be open, with nobody having acknowledged it, before it is told by this rule.
	AfterMinutes int `json:"after_minutes,omitempty"`
	// AgainMinutes is after how long a fault is told again that is still open, with nobody having acknowledged it; 0 never.
	AgainMinutes int `json:"again_minutes,omitempty"`
	// GatherMinutes is how long what is due is gathered, so that there is at most one message in that time; 0 tells at once.
	GatherMinutes int `json:"gather_minutes,omitempty"`
	// Subject is a template of the subject; the usual one if empty.
	Subject string    `json:"subject,omitempty"`
	Created time.Time `json:"created,omitzero"`
	// Sight is whose sites the person sees: they are told of no others.
	Sight team.Sight `json:"-"`
}

// Within reports whether the rule is about a place, and its person sees that.
func (r Rule) Within(p fault.Place) bool { return r.Scope.Covers(p) && r.Sight.Sees(p.Tags) }

// Hours are when somebody wants to be told. What is due at other times waits. The zero Hours are always.
type Hours struct {
	Days  []string `json:"days,omitempty"`  // mon to sun; every day if empty
	From  string   `json:"from,omitempty"`  // 07:00
	Until string   `json:"until,omitempty"` // 19:00; before From, it is the next day's
	Zone  string   `json:"zone,omitempty"`  // IANA name; UTC if empty
}

var weekdays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

const clockForm = "15:04"

// Open reports whether a moment is within the hours.
func (h Hours) Open(at time.Time) bool {
	at = at.In(h.zone())
	from, until := minutes(h.From, 0), minutes(h.Until, 24*60)
	now := at.Hour()*60 + at.Minute()
	day := at
	in := now >= from && now < until
	if until <= from { // over midnight
		in = now >= from || now < until
		if now < until {
			day = at.AddDate(0, 0, -1) // it belongs to the day before
		}
	}
	return in && (len(h.Days) == 0 || slices.Contains(h.Days, weekdays[day.Weekday()]))
}

func (h Hours) zone() *time.Location {
	l, err := time.LoadLocation(h.Zone)
	if err != nil {
		return time.UTC
	}
	return l
}

func minutes(clock string, otherwise int) int {
	t, err := time.Parse(clockForm, clock)
	if err != nil {
		return otherwise
	}
	return t.Hour()*60 + t.Minute()
}

// longest bounds the times of a rule, in minutes, and longestText its texts, in characters.
const (
	longest     = 31 * 24 * 60
	longestText = 200
)

// Checked brings the rule into canonical form, or says what is wrong. Errors: site.Flaws.
func (r Rule) Checked() (Rule, error) {
	var f site.Flaws
	r.Person, r.Hook = strings.TrimSpace(r.Person), strings.TrimSpace(r.Hook)
	if (r.Person == "") == (r.Hook == "") {
		f.Note("person", errors.New("give either a person or a hook"))
	}
	if r.Person != "" && len(r.Ways) == 0 {
		r.Ways = []Way{ByMail}
	}
	for _, w := range r.Ways {
		if r.Hook != "" || w != ByMail && w != ByPush {
			f.Note("ways", fmt.Errorf("%q is no way to a person: mail and push are; a hook takes none", w))
		}
	}
	if !slices.Contains(Topics, r.Topic) {
		f.Note("topic", fmt.Errorf("%q is none of faults, moves, daily, weekly", r.Topic))
	}
	for _, c := range r.Causes {
		if _, known := causes.Find(c); !known {
			f.Note("causes", fmt.Errorf("%q is no cause; GET /causes lists them", c))
		}
	}
	if r.Topic != Faults && (len(r.Causes) > 0 || r.Serious || r.AfterMinutes != 0 || r.AgainMinutes != 0) {
		f.Note("topic", errors.New("causes, serious, after_minutes and again_minutes are of faults only"))
	}
	for _, d := range r.Hours.Days {
		if !slices.Contains(weekdays, d) {
			f.Note("hours", fmt.Errorf("%q is no day; mon, tue, wed, thu, fri, sat or sun", d))
		}
	}
	for _, clock := range []string{r.Hours.From, r.Hours.Until} {
		if _, err := time.Parse(clockForm, clock); err != nil && clock != "" {
			f.Note("hours", fmt.Errorf("%q is no time of day; write it as 07:00", clock))
		}
	}
	if _, err := time.LoadLocation(r.Hours.Zone); err != nil {
		f.Note("hours", fmt.Errorf("%q is no time zone; give one such as Europe/London, or UTC", r.Hours.Zone))
	}
	for name, n := range map[string]int{"after_minutes": r.AfterMinutes, "again_minutes": r.AgainMinutes,
		"gather_minutes": r.GatherMinutes} {
		if n < 0 || n > longest {
			f.Note(name, fmt.Errorf("%d is not from 0 to %d (31 days)", n, longest))
		}
	}
	if _, err := fill(r.Subject, Words{}); err != nil {
		f.Note("subject", err)
	}
	for name, text := range map[string]string{"subject": r.Subject, "tag": r.Tag, "provider": r.Provider} {
		if n := len([]rune(text)); n > longestText {
			f.Note(name, fmt.Errorf("has %d characters; %d are allowed", n, longestText))
		}
	}
	return r, f.Err()
}

// To names the recipient of the rule: one is told one thing once, whatever rules say so.
func (r Rule) To() string {
	if r.Hook != "" {
		return "hook " + r.Hook
	}
	return "person " + r.Person
}

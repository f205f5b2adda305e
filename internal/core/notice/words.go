package notice

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/pace"
)

// Content is what a notice says, before it is given the form of its way.
type Content struct {
	What    What      `json:"what"`
	At      time.Time `json:"at"` // when it was decided
	Subject string    `json:"subject"`
	Summary string    `json:"summary"`
	Next    string    `json:"next_step,omitempty"` // what to do, first of all
	Lines   []Line    `json:"lines,omitempty"`     // what there is to know
	Site    string    `json:"site,omitempty"`      // its code
	FaultID int64     `json:"fault,omitempty"`     // messages about one fault are one thread
	MoveID  int64     `json:"move,omitempty"`
	Cause   string    `json:"cause,omitempty"`
	Serious bool      `json:"serious,omitempty"`
	Parts   []Content `json:"parts,omitempty"` // of several things
}

// Line is a fact with its name.
type Line struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// Words are what a notice about a fault is made of.
type Words struct {
	FaultID          int64
	Site, SiteName   string
	Provider         string
	Finding          diagnose.Finding
	Began, Opened    time.Time
	Closed           time.Time
	Returns          int
	Assigned         string
	Sites            int // that a provider's fault explains
	Zone             *time.Location
	Template         string // of the subject
	PreviouslyTold   causes.Slug
	What             What
	heading, summary string
}

// stampForm is how a moment is written for a reader.
const stampForm = "Mon 2 Jan 15:04 MST"

// OfFault says what is to be said of a fault. A template that does not fit any more is passed over: what is told matters more.
func OfFault(w Words, now time.Time) Content {
	f := w.Finding
	if w.Zone == nil {
		w.Zone = time.UTC
	}
	at := func(t time.Time) string { return t.In(w.Zone).Format(stampForm) }
	c := Content{What: w.What, At: now, FaultID: w.FaultID, Site: w.Site, Cause: string(f.Cause), Serious: f.Serious(), Next: f.Next}
	w.summary = f.Summary
	switch w.What {
	case Over:
		w.heading = "over after " + pace.Length(w.Closed.Sub(w.Opened))
		c.Next = "Nothing is left to do. Say what it was, so that the next diagnosis is better."
	case Again:
		w.heading = "still open after " + pace.Length(now.Sub(w.Opened))
	case Unsteady:
		w.heading = fmt.Sprintf("comes and goes, back %s", pace.Times(w.Returns))
	case Changed:
		w.heading = "it is another cause"
	}
	c.Summary = w.summary
	if w.heading != "" {
		c.Summary = upper(w.heading) + ": " + w.summary
	}
	c.Subject, _ = fill(w.Template, w)
	if c.Subject == "" && w.Site == "" { // the summary names the provider
		c.Subject, _ = fill("{summary}", w)
	}
	if c.Subject == "" {
		c.Subject, _ = fill("{site} {name}: {summary}", w)
	}
	line := func(name, text string) {
		if text != "" {
			c.Lines = append(c.Lines, Line{name, text})
		}
	}
	line("Site", strings.TrimSpace(w.Site+" "+w.SiteName))
	line("Provider", w.Provider)
	if w.Sites > 0 {
		line("Sites", fmt.Sprint(w.Sites))
	}
	if len(f.Services) > 0 {
		line("Services", strings.Join(f.Services, ", "))
	}
	line("Since", at(w.Began))
	if w.What == Over {
		line("Until", at(w.Closed))
		line("It was", f.Summary)
	} else {
		line("Who can mend it", f.Actor.Words())
		if len(f.Evidence) > 0 { // which says "9 seconds ago", to somebody who may read it tomorrow
			line("As of", now.In(w.Zone).Format("Mon 2 Jan 15:04:05 MST"))
		}
		name := "Seen"
		for _, e := range f.Evidence {
			line(name, e)
			name = ""
		}
		for _, also := range f.Also {
			line("It could also be", also)
		}
		if f.Check != nil {
			line("To be sure", f.Check.Ask)
		}
	}
	line("For", w.Assigned)
	if w.What == Changed {
		line("Told before", string(w.PreviouslyTold))
	}
	if w.What == Unsteady {
		line("From now on", "nothing more is said of it until it has been steady for "+pace.Length(Steady))
	}
	return c
}

func upper(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// MoveWords are what a notice about a move is made of.
type MoveWords struct {
	MoveID         int64
	Site, SiteName string
	Link, Provider string
	Old, New       string
	At             time.Time
	Hostnames      []string // that follow it
	Zone           *time.Location
	Template       string
}

// OfMove says what is to be said of a move.
func OfMove(w MoveWords, now time.Time) Content {
	if w.Zone == nil {
		w.Zone = time.UTC
	}
	words := Words{Site: w.Site, SiteName: w.SiteName, Provider: w.Provider, What: Moved,
		summary: fmt.Sprintf("the address is now %s", w.New)}
	c := Content{What: Moved, At: now, Site: w.Site, MoveID: w.MoveID, Summary: upper(words.summary)}
	if c.Subject, _ = fill(w.Template, words); c.Subject == "" {
		c.Subject, _ = fill("{site} {name}: {summary}", words)
	}
	c.Lines = []Line{{"New address", w.New}, {"Old address", cmp.Or(w.Old, "none")}, {"Site", strings.TrimSpace(w.Site + " " + w.SiteName)},
		{"Link", strings.TrimSpace(w.Link + " " + w.Provider)}, {"Noticed", w.At.In(w.Zone).Format(stampForm)}}
	if len(w.Hostnames) > 0 {
		c.Lines = append(c.Lines, Line{"Names that follow", strings.Join(w.Hostnames, ", ")})
	}
	return c
}

// sitesNamed is how many sites a subject names.
const sitesNamed = 6

// partsMost is how many things one message names.
const partsMost = 100

// Together puts several things into one notice.
func Together(parts []Content, now time.Time) Content {
	c := Content{What: Several, At: now, Parts: parts}
	open, over, moved := 0, 0, 0
	var sites []string
	for _, p := range parts {
		switch p.What {
		case Over:
			over++
		case Moved:
			moved++
		default:
			open++
		}
		if p.Site != "" && !slices.Contains(sites, p.Site) {
			sites = append(sites, p.Site)
		}
		c.Serious = c.Serious || p.Serious
	}
	var words []string
	for _, one := range []struct {
		n         int
		one, many string
	}{{open, "fault is open", "faults are open"}, {over, "fault is over", "faults are over"}, {moved, "address is new",
		"addresses are new"}} {
		switch one.n {
		case 0:
		case 1:
			words = append(words, "1 "+one.one)
		default:
			words = append(words, fmt.Sprintf("%d %s", one.n, one.many))
		}
	}
	c.Subject = strings.Join(words, ", ")
	if n := len(sites) - sitesNamed; n > 0 {
		c.Subject += fmt.Sprintf(": %s and %d more", strings.Join(sites[:sitesNamed], ", "), n)
	} else if len(sites) > 0 {
		c.Subject += ": " + strings.Join(sites, ", ")
	}
	c.Summary = c.Subject
	if open > 0 {
		c.Next = "Look at the open faults, those that cut somebody off first."
	}
	if len(parts) > partsMost {
		c.Lines = []Line{{"Not listed here", fmt.Sprintf("%d more", len(parts)-partsMost)}}
		c.Parts = parts[:partsMost]
	}
	return c
}

// fields are what a template of a subject may name.
var fields = []string{"site", "name", "provider", "cause", "what", "summary"}

// fill fills a template. Error: a field that there is none of, or a brace too many or too few.
func fill(template string, w Words) (string, error) {
	value := map[string]string{"site": w.Site, "name": w.SiteName, "provider": w.Provider, "cause": string(w.Finding.Cause),
		"what": string(w.What), "summary": w.summary}
	if w.heading != "" {
		value["summary"] = w.heading + ": " + w.summary
	}
	if w.Site == "" { // a fault of a provider, or of a vantage point
		value["site"] = cmp.Or(w.Provider, w.Finding.Subject)
	}
	var out strings.Builder
	for rest := template; rest != ""; {
		text, field, found := strings.Cut(rest, "{")
		if strings.Contains(text, "}") {
			return "", fmt.Errorf("%q has a } without its {", template)
		}
		out.WriteString(text)
		if !found {
			break
		}
		name, after, closed := strings.Cut(field, "}")
		if !closed {
			return "", fmt.Errorf("%q has a { without its }", template)
		}
		v, known := value[name]
		if !known {
			return "", fmt.Errorf("{%s} is no field; allowed are {%s}", name, strings.Join(fields, "}, {"))
		}
		out.WriteString(v)
		rest = after
	}
	return tidy(out.String()), nil
}

// tidy makes one line of what was filled in.
func tidy(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	return strings.ReplaceAll(strings.TrimPrefix(s, ": "), " :", ":")
}

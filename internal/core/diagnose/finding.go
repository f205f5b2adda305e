package diagnose

import (
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/causes"
)

// Slug names a cause.
type Slug = causes.Slug

// Hop is a station on the way from outside to a service.
type Hop = causes.Hop

// The hops, in the order in which a connection meets them.
const (
	HopVantage  = causes.HopVantage
	HopHostname = causes.HopHostname
	HopAddress  = causes.HopAddress
	HopUpstream = causes.HopUpstream
	HopForward  = causes.HopForward
	HopDevice   = causes.HopDevice
	HopService  = causes.HopService
)

// Finding is one problem: its likeliest cause, at which hop, on which part of the site, the evidence, and the next step. Subject names the
// part ("link main", "device recorder", "service web"). Where what is known does not tell causes apart, Sure is open, Between has their
// slugs, Also says the others in words, and Check what would tell them apart.
type Finding struct {
	Cause    causes.Slug   `json:"cause"`
	Hop      Hop           `json:"hop"`
	Subject  string        `json:"subject"`
	Services []string      `json:"services,omitempty"`
	Summary  string        `json:"summary"`
	Sure     causes.Sure   `json:"sure"`
	Actor    causes.Actor  `json:"actor"` // who can mend it
	Evidence []string      `json:"evidence"`
	Next     string        `json:"next_step"`
	Between  []causes.Slug `json:"between,omitempty"`
	Also     []string      `json:"also,omitempty"`
	Check    *Check        `json:"check,omitempty"`
	// CutOff says that what it takes with it cannot be used, although the cause is one that could wait.
	CutOff bool `json:"cut_off,omitempty"`
}

// Check would tell the causes of a finding apart. Ask says what a person does to have it made; Ink Post makes it by itself where it can.
type Check struct {
	Name  causes.Check `json:"name"`
	Tells string       `json:"tells"` // what it would show
	Ask   string       `json:"ask"`
}

// Key is the same for two findings of one site that are the same problem.
func (f Finding) Key() string { return string(f.Cause) + " " + f.Subject }

// Serious reports whether customers are cut off, or a port is open that must not be; the others can wait for the next visit.
func (f Finding) Serious() bool {
	c, _ := causes.Find(f.Cause)
	return f.CutOff || !c.Soon && !(f.Cause == "address-held" && len(f.Services) == 0)
}

// finding makes a finding of a cause whose words say everything.
func finding(slug causes.Slug, subject string, p places, evidence ...string) Finding {
	c, _ := causes.Find(slug)
	return Finding{Cause: slug, Hop: c.Hop, Subject: subject, Summary: causes.Fill(c.So, p), Sure: causes.Certain, Actor: c.Actor,
		Evidence: evidence, Next: causes.Fill(c.Next, p)}
}

// FirstSign returns the first sign of a problem: since when the first of its services fails, or else now.
func (e Evidence) FirstSign(f Finding) time.Time {
	first := e.Now
	for _, s := range e.Services {
		if slices.Contains(f.Services, s.Name) && s.failing() && !s.Turned.IsZero() && s.Turned.Before(first) {
			first = s.Turned
		}
	}
	return first
}

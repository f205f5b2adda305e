// Package checkup judges an installation of Ink Post: from what was found of its database, machine, ports, zones, mail, certificate and
// backups it says what is well, what needs attention, what is wrong, and what to do about it.
package checkup

import (
	"fmt"
	"time"
)

// Standing says how one thing stands.
type Standing string

// The standings. Untried is what could not be looked at.
const (
	Good      Standing = "good"
	Attention Standing = "attention"
	Wrong     Standing = "wrong"
	Untried   Standing = "untried"
)

// Part of an installation.
type Part string

// The parts, in the order in which they are looked at: each needs those before it.
const (
	Server   Part = "server"
	Database Part = "database"
	Disk     Part = "disk"
	Clock    Part = "clock"
	Backup   Part = "backup"
	Resolver Part = "resolver"
	Vantage  Part = "vantage point"
	Port     Part = "port"
	Zone     Part = "zone"
	Mail     Part = "mail"
	HTTPS    Part = "certificate"
)

// Parts lists the parts in their order.
func Parts() []Part {
	return []Part{Server, Database, Disk, Clock, Backup, Resolver, Vantage, Port, Zone, Mail, HTTPS}
}

// Point is one thing that was looked at. Fix says what to do where that is not good.
type Point struct {
	Part     Part     `json:"part"`
	Name     string   `json:"name"` // of the thing, within its part
	Standing Standing `json:"standing"`
	Seen     string   `json:"seen"`
	Fix      string   `json:"fix,omitempty"`
}

func (p Part) good(name, seen string, args ...any) Point {
	return Point{Part: p, Name: name, Standing: Good, Seen: fmt.Sprintf(seen, args...)}
}

func (p Part) not(s Standing, name, fix, seen string, args ...any) Point {
	return Point{Part: p, Name: name, Standing: s, Seen: fmt.Sprintf(seen, args...), Fix: fix}
}

// Worst returns the worst standing of several checks; Untried is no worse than Good.
func Worst(checks []Point) Standing {
	worst := Good
	for _, c := range checks {
		if c.Standing == Wrong || c.Standing == Attention && worst == Good {
			worst = c.Standing
		}
	}
	return worst
}

// size writes a number of octets for people.
func size(octets uint64) string {
	switch {
	case octets >= 1<<30:
		return fmt.Sprintf("%.1f GiB", float64(octets)/(1<<30))
	case octets >= 1<<20:
		return fmt.Sprintf("%d MiB", octets>>20)
	}
	return fmt.Sprintf("%d KiB", octets>>10)
}

// span writes a duration for people: in days, hours, minutes or seconds.
func span(d time.Duration) string {
	switch d = d.Abs(); {
	case d >= 48*time.Hour:
		return fmt.Sprintf("%d days", int(d.Hours()/24))
	case d >= 2*time.Hour:
		return fmt.Sprintf("%d hours", int(d.Hours()))
	case d >= 2*time.Minute:
		return fmt.Sprintf("%d minutes", int(d.Minutes()))
	case d >= 10*time.Second:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	}
	if d < time.Millisecond {
		return "under 1 ms"
	}
	return fmt.Sprintf("%d ms", d.Milliseconds())
}

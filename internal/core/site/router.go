package site

import (
	"net/netip"
	"time"
)

// RouterWord is what a link's router said of itself when its agent asked it. Zero times: it does not say.
type RouterWord struct {
	At      time.Time
	Began   time.Time // when it began anew: a router that restarts forgets the mappings that were asked for
	LineUp  time.Time // since when its line has been up
	Line    string    // Connected, Disconnected and the like
	Trouble string    // why the line failed last
	Ports   map[string]ListedPort
}

// ListedPort is what a router lists for the external port of a service: To is the zero value where it lists nothing. Lease is how long it
// lasts; 0 for ever, as what a person enters does.
type ListedPort struct {
	To          netip.AddrPort
	Description string
	Lease       time.Duration
}

// Trial is a mapping that the router was asked for, to see whether what is sent to a service's external port arrives at the site.
type Trial struct {
	At   time.Time // when it began
	Came Came
	Why  string // in words
}

// Came is what became of a trial.
type Came string

// What becomes of a trial: the probe arrived; it did not, though the router granted the mapping; the router has the port mapped already; it
// grants no mapping.
const (
	CameThrough Came = "arrived"
	CameNot     Came = "lost"
	CameTaken   Came = "taken"
	CameRefused Came = "refused"
)

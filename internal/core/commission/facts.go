package commission

import (
	"time"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

// Facts are what is known of the parts of a site that a run is about. Began is when the run did.
type Facts struct {
	Now, Began time.Time
	Site       string // code
	Links      []Link
	Devices    []Device
	Services   []Service
	Closed     []Door // ports of the site that must be closed
	SheetKept  time.Time
	SheetBy    string
}

// Link is a link that services of the run are reached over.
type Link struct {
	site.Link
	Overdue   bool
	Refused   string     // why something that announces for it is refused
	Hostnames []Hostname // that lead to it
	// MachineUp is since when the machine is up on which the agent runs, or else the agent; zero if that is not known.
	MachineUp time.Time
	Moves     []Move // since the run began
}

// Hostname is a hostname that leads to a link.
type Hostname struct {
	Name      string
	State     names.State
	Given     string   // what the zone's server gives
	Want      string   // what it should
	Elsewhere []Answer // of resolvers elsewhere
}

// Answer is what a resolver gives for a hostname.
type Answer struct {
	Server, Given string
	Right         bool
}

// Move is a change of a link's address. Confirmed is when its services were seen at the new one; zero if they were not yet.
type Move struct {
	Old, New  string
	At        time.Time
	Confirmed time.Time
}

// Device is a device that services of the run are on, and what an agent last saw of it.
type Device struct {
	site.Device
	Range   string // of addresses that the router gives out, if the device's address is in it
	Looked  time.Time
	Present bool
	Found   string   // where its MAC is, if that is elsewhere
	Steps   []string // to set up on it, by its kit
	HeldBy  string   // MAC that answers at the recorded address, if that is another
}

// Service is a service of the run.
type Service struct {
	site.Service
	OnLink  int64     // ID of the link that it is reached over
	Proven  time.Time // first seen from outside to be as expected
	State   probe.State
	Outcome probe.Outcome
	Probed  time.Time
	Seen    string // from where, and what was heard
	Shown   string // fingerprint that it last showed
	Agent   bool   // an agent is there, which looks from inside
	Inside  string // open, refused, silent, prohibited, hung, other; "" if nobody looked
	Looked  time.Time
	Lists   string // what the router says of its port: where it leads, if that is right
	Named   Named
	Cards   []site.Card
	Finding *diagnose.Finding // why it is not as expected
}

// Named is the newest attempt to reach a service by its name.
type Named struct {
	Hostname, Given, Message string
	Good                     bool
	At                       time.Time
}

// Door is a port that must be closed.
type Door struct {
	Service, Port string
	Known, Closed bool
	Until         time.Time // it was opened for a while
}

package names

import (
	"net/netip"
	"time"
)

// State of a hostname.
type State string

// The states of a hostname.
const (
	StatePointed  State = "pointed"  // every server gives the address, and no cache can hold an older one
	StateSettling State = "settling" // published; a cache may still hold the older answer
	StateStale    State = "stale"    // the zone's server gives another address
	StateHeld     State = "held"     // the zone's server does not take our update
	StateIdle     State = "idle"     // no address known
)

// HostnameEvidence is what is known of a hostname when its state is judged.
type HostnameEvidence struct {
	Want      netip.Addr    // the address it should have; zero if none is known
	Given     netip.Addr    // the address that the zone's server last gave; zero if it was not asked
	Published time.Time     // when Want was published
	TTL       time.Duration // how long a cache may keep the answer before it
	Held      bool          // the zone's server does not take Want, or is not to have it yet
}

// Judge returns the state at now. A server that was not asked yet leaves the hostname settling.
func (s HostnameEvidence) Judge(now time.Time) State {
	switch {
	case !s.Want.IsValid():
		return StateIdle
	case s.Held:
		return StateHeld
	case s.Given.IsValid() && s.Given != s.Want:
		return StateStale
	case !s.Given.IsValid() || now.Before(s.Published.Add(s.TTL)):
		return StateSettling
	}
	return StatePointed
}

// Package seen is what is known of a service from outside, as it is talked about, and packed, as it is kept: there is one of it for each of
// many services.
//
// It owns nothing, and has no lock: whoever keeps it has.
package seen

import (
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/probing/named"
	"inkpost.example/inkpost/internal/wire/speak"
)

// Result is what one vantage point last saw of a service.
type Result struct {
	Vantage int64
	probe.View
	Latency time.Duration
	Message string
	LeftOut string // why it does not count
	Known   bool   // the service has answered it before
	ICMP    probe.ICMP
	Hung    bool          // it accepted, and said nothing
	Series  *probe.Series // how far packets got since the failure began; nil if that was not measured
}

// Status is what is known of a service now.
type Status struct {
	State   probe.State
	Since   time.Time
	Proven  time.Time  // when it was first seen from outside to be as expected; zero if it never was
	View    probe.View // that explains the state
	Probed  time.Time
	Address netip.Addr
	Latency time.Duration
	Message string
	Shown   *Shown
	Ways    []Way // what our newest round found over each way
	// Settling reports that the newest result may be about an address that is no longer the site's.
	Settling bool
	Lately   probe.Lately // how our own newest rounds went at this address
}

// Shown is what a service last showed of itself. It is not changed in place.
type Shown struct {
	Fingerprint string
	Weakness    string // what is unsafe about how it answers
	Certificate *speak.Certificate
	Named       *named.Result
}

// Way is what a round found over one way to a service.
type Way struct {
	Reach   site.Reach
	Target  netip.AddrPort // zero when its address is not known
	Outcome probe.Outcome
	Message string
}

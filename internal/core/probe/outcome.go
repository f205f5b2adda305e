// Package probe computes with probes: what a service is, what a wire result means, and what the outcomes from all
// vantage points say together.
package probe

import "fmt"

// Outcome of one attempt to reach one service port from one vantage point.
type Outcome string

// The outcomes.
const (
	Answered   Outcome = "answered"   // connected and spoke the expected protocol
	Opened     Outcome = "opened"     // TCP opened, nothing more was asked
	Refused    Outcome = "refused"    // RST, or ICMP port unreachable
	Silent     Outcome = "silent"     // nothing before the deadline
	Unroutable Outcome = "unroutable" // ICMP net or host unreachable, prohibited, or no route
	Garbled    Outcome = "garbled"    // connected, spoke something else
	Stranger   Outcome = "stranger"   // right protocol, wrong fingerprint
	Skipped    Outcome = "skipped"    // not tried
)

// Known reports whether o is an outcome at all.
func (o Outcome) Known() bool {
	switch o {
	case Answered, Opened, Refused, Silent, Unroutable, Garbled, Stranger, Skipped:
		return true
	}
	return false
}

// Open reports whether the outcome proves that something accepts on the port.
func (o Outcome) Open() bool {
	return o == Answered || o == Opened || o == Garbled || o == Stranger
}

// Good reports whether the outcome is what a service that should be reachable must give.
func (o Outcome) Good() bool { return o == Answered || o == Opened }

// Signal is what the operating system said of an attempt, before anyone interprets it.
type Signal int

// The signals. Connected is also said of a datagram that was answered.
const (
	SignalConnected Signal = iota
	SignalReset
	SignalTimeout
	SignalNoRoute
	SignalLocal // the prober's own machine failed: no descriptor, no port, cancelled
)

// FromSignal interprets the result of a bare TCP connect. A failure of the prober's own machine is skipped: it says
// nothing about the service.
func FromSignal(s Signal) Outcome {
	switch s {
	case SignalConnected:
		return Opened
	case SignalReset:
		return Refused
	case SignalTimeout:
		return Silent
	case SignalNoRoute:
		return Unroutable
	}
	return Skipped
}

// Expected is what a service's port should be, seen from outside.
type Expected string

// What a port can be expected to be.
const (
	ExpectReachable Expected = "reachable"
	ExpectClosed    Expected = "closed"
)

// ParseExpected accepts "reachable" and "closed"; "" is reachable. The error says which words there are.
func ParseExpected(s string) (Expected, error) {
	switch Expected(s) {
	case "", ExpectReachable:
		return ExpectReachable, nil
	case ExpectClosed:
		return ExpectClosed, nil
	}
	return "", fmt.Errorf("expected %q is unknown; it is reachable or closed", s)
}

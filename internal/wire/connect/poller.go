package connect

import (
	"net/netip"
	"time"
)

// Attempt is one connection over TCP that a Poller tries. Target and Done must not be changed once it has begun.
type Attempt struct {
	Target netip.AddrPort
	Done   func(Tried) // called once
	state
}

// Tried is what came of an attempt. The connection has been reset by then.
type Tried struct {
	From netip.AddrPort // where it came from; zero if it was not accepted
	Took time.Duration
	Err  error // as of Dial; context.Canceled in it where the attempt was cancelled
}

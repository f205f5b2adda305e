// Package connect opens connections and keeps what the system's own dialer throws away: the ICMP message that ended an attempt, and who
// sent it. It can limit how many hops a packet may take. All of that needs no rights; where the system is not Linux, it is left out.
package connect

import (
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
)

// Request says where to connect.
type Request struct {
	Network  string // tcp or udp
	Target   netip.AddrPort
	From     netip.Addr // local address; the system's choice if zero
	Hops     int        // how many hops a packet may take, 1 to 255; 0 for the system's default
	Deadline time.Time  // of the connecting and of all reading and writing
}

// Failure is an attempt that failed, with the ICMP message that ended it, if one did.
type Failure struct {
	Err  error // of the system
	ICMP probe.ICMP
}

// Error implements error.
func (f *Failure) Error() string {
	if f.ICMP.Came() {
		return f.Err.Error() + ": " + f.ICMP.String()
	}
	return f.Err.Error()
}

// Unwrap returns the system's error.
func (f *Failure) Unwrap() error { return f.Err }

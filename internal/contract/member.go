package contract

import "net/netip"

// RelayedUpdate is a DNS UPDATE (RFC 2136) that a server was asked for which does not write. Its signature was checked there.
type RelayedUpdate struct {
	Key     string `json:"key"`     // by which it was signed, "" for none
	Message []byte `json:"message"` // as it came
}

// UpdateReply is what to answer an update.
type UpdateReply struct {
	RCode int `json:"rcode"`
}

// Heartbeat is a sign of life that an agent gave by STUN.
type Heartbeat struct {
	Username string     `json:"username"`
	From     netip.Addr `json:"from"`
}

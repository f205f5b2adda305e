package contract

import (
	"encoding/json"
	"net/netip"
	"time"
)

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

// LentProbe asks another server on the database for one round of a service.
type LentProbe struct {
	ID       int64      `json:"id"`
	Service  int64      `json:"service"`
	Revision int64      `json:"revision"` // of the service
	Target   netip.Addr `json:"target"`   // its site's address
	ByName   bool       `json:"by_name,omitempty"`
}

// LentProbes is one line of the stream by which a server is asked for rounds; without any, it says that the stream is alive.
type LentProbes struct {
	Probes []LentProbe `json:"probes"`
}

// LentRound answers a LentProbe.
type LentRound struct {
	ID     int64           `json:"id"`
	Behind bool            `json:"behind,omitempty"` // the record there is another: nothing was probed
	AgeUS  int64           `json:"age_us"`           // since it was made
	Round  json.RawMessage `json:"round,omitempty"`  // as a server of the same program reads it
}

// LentRounds are rounds that a server has made; none is a sign of life.
type LentRounds struct {
	Server string      `json:"server"`
	Rounds []LentRound `json:"rounds"`
}

// Server is one of those on the database.
type Server struct {
	Name   string    `json:"server"`
	Writes bool      `json:"writes"`
	Since  time.Time `json:"since"`
	Heard  time.Time `json:"heard"`
	Shards int       `json:"shards"` // whose services it probes
	Of     int       `json:"of"`     // shards that there are
	Rounds int64     `json:"rounds"` // that it has made in this role
}

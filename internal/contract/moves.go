package contract

import (
	"time"
)

// Stage of a move: when it was reached, how long that took, and how long after the move was noticed. What follows the
// publishing goes on side by side, and each of it takes its time from there. A stage that was not reached has no time.
type Stage struct {
	Name      string    `json:"name"`
	At        time.Time `json:"at,omitzero"`
	AfterMS   float64   `json:"after_ms"`
	ReachedMS float64   `json:"reached_ms"`
}

// The stages of a move, the first one first.
const (
	StageNoticed   = "noticed"   // by whoever saw the new address
	StageReceived  = "received"  // by the server
	StageRecorded  = "recorded"  // kept on disk
	StagePublished = "published" // in every zone that the server answers for
	StageAnswered  = "answered"  // by the servers of the zones
	StageSeen      = "seen"      // by resolvers elsewhere
	StageConfirmed = "confirmed" // services reached at the new address
)

// StageNames are the stages of a move in the order in which lists have them.
var StageNames = []string{StageNoticed, StageReceived, StageRecorded, StagePublished, StageAnswered, StageSeen, StageConfirmed}

// Move is one WAN address change carried end to end.
type Move struct {
	ID      int64     `json:"id"`
	Site    string    `json:"site"`
	Link    string    `json:"link"`
	Old     string    `json:"old"`
	New     string    `json:"new"`
	Source  string    `json:"source"`
	Noticed time.Time `json:"noticed"`
	TotalMS float64   `json:"total_ms"`
	Stages  []Stage   `json:"stages"`
	// Zones says when each remote zone's primary took the move; hosted zones have it at the stage published.
	Zones []ZoneReached `json:"zones,omitempty"`
}

// Stage is the move's stage of that name; one that it does not have was not reached.
func (m Move) Stage(name string) Stage {
	for _, s := range m.Stages {
		if s.Name == name {
			return s
		}
	}
	return Stage{Name: name}
}

// ZoneReached is when a move had reached one remote zone.
type ZoneReached struct {
	Zone      string    `json:"zone"`
	At        time.Time `json:"at"`
	ReachedMS float64   `json:"reached_ms"`
}

// MoveQuery narrows a list of moves; zero fields do not narrow.
type MoveQuery struct {
	Site, Link, Source, Address string
	Since, Until                time.Time
	Unfinished                  bool
	Before                      int64 // a move ID: only older ones
	Limit                       int
}

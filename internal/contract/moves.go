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

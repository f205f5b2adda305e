// Package rooms has the rooms of the engine side by side, for what works across them: views and the order of writes. It owns nothing. What
// it computes is gathered from the rooms at that moment: evidence for the diagnosis, and what is on record under a name.
//
// It holds no lock, and calls one room after the other.
package rooms

import (
	"time"

	"inkpost.example/inkpost/internal/access"
	"inkpost.example/inkpost/internal/engine/commissioning"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/faults"
	"inkpost.example/inkpost/internal/engine/history"
	"inkpost.example/inkpost/internal/engine/jobs"
	"inkpost.example/inkpost/internal/engine/marks"
	"inkpost.example/inkpost/internal/engine/moves"
	"inkpost.example/inkpost/internal/engine/notices"
	"inkpost.example/inkpost/internal/engine/probing"
	"inkpost.example/inkpost/internal/engine/proofs"
	"inkpost.example/inkpost/internal/engine/push"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/shards"
	"inkpost.example/inkpost/internal/engine/siteside"
	"inkpost.example/inkpost/internal/engine/vantages"
	"inkpost.example/inkpost/internal/engine/verify"
	"inkpost.example/inkpost/internal/engine/zones"
	"inkpost.example/inkpost/internal/store"
)

// Rooms is complete before anything of it is called.
type Rooms struct {
	Config
	Store    *store.Store
	Events   *events.Hub
	Access   *access.Access
	Record   *record.Record
	Zones    *zones.Zones
	History  *history.History
	SiteSide *siteside.Side
	Proofs   *proofs.Proofs
	Verify   *verify.Verifier
	Moves    *moves.Moves
	Prober   *probing.Prober
	Shards   *shards.Shards
	Push     *push.Pusher
	Vantages *vantages.Vantages
	Faults   *faults.Board
	Jobs     *jobs.Queue
	Notices  *notices.Room
	Runs     *commissioning.Room // by which services come into use
	Marks    *marks.Marks        // sites of which others are to be told
}

// Now is the time of day, as precisely as the database keeps it.
func (r *Rooms) Now() time.Time { return r.Clock() }

// Package intake takes announcements in: an agent's report, a router's plain HTTP call and a DNS UPDATE all go through its rules. It owns
// how often each key may announce, and nothing else: what is accepted goes through package changes.
//
// No lock of the engine may be held when it is called.
package intake

import (
	"inkpost.example/inkpost/internal/access/throttle"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/engine/zoneedits"
	"inkpost.example/inkpost/internal/wire/authdns"
)

// Intake takes announcements in. It is safe for concurrent use.
type Intake struct {
	*rooms.Rooms
	*changes.Changes
	edits     *zoneedits.ZoneEdits
	directory *authdns.Directory
	updates   throttle.Paces[string]
}

// New returns a room without any announcements yet.
func New(r *rooms.Rooms, ch *changes.Changes, edits *zoneedits.ZoneEdits, directory *authdns.Directory) *Intake {
	return &Intake{Rooms: r, Changes: ch, edits: edits, directory: directory, updates: throttle.Paces[string]{Rate: r.KeyRate}}
}

// Package siteedits edits sites, links, devices and services: it reads what a person asks for, checks it against the record as it is
// under the edit lock, and says what has to be written. It owns nothing.
//
// No lock of the engine may be held when its edits are called: they take the edit lock (see package changes).
//
// Errors of all edits: site.Flaws, changes.Stale, store.Missing, store.Taken, store.InUse, changes.ErrBusy, changes.ErrCommitted, that of
// the database.
package siteedits

import (
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/engine/views"
)

// SiteEdits edits sites.
type SiteEdits struct {
	*rooms.Rooms
	*changes.Changes
	*views.Views
}

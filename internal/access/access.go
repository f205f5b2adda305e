// Package access owns people, sessions and access keys: who may call, with what secret, for how long, and how often they may try. It
// never decides what a caller may change on the record, which depends on the kind of key (see package engine).
//
// No lock may be held when its methods that take a context are called: they read and write the database, and edits of keys take the
// edit lock through Editor.
package access

import (
	"context"
	"log/slog"
	"sync/atomic"
	"time"

	"inkpost.example/inkpost/internal/access/filters"
	"inkpost.example/inkpost/internal/access/throttle"
	"inkpost.example/inkpost/internal/store"
)

// Lifetimes of credentials.
const (
	SessionLife     = 14 * 24 * time.Hour
	invitationLife  = 24 * time.Hour
	oneTimeLife     = 3 * 24 * time.Hour   // of a one-time password
	personKeyLife   = 365 * 24 * time.Hour // of a person's key when they do not say
	maxPersonKey    = 5 * personKeyLife
	agentKeyLife    = 90 * 24 * time.Hour // of an agent's key, before it is rotated
	keyUsePrecision = time.Minute         // how precisely the last use of a key is kept
)

// KeyRate is how many announcements a second a key may make when nothing else is set.
const KeyRate = 2

// Editor changes keys in the order in which everything else on record changes. write runs in one transaction and says in touched which
// keys are others afterwards.
type Editor interface {
	EditKeys(ctx context.Context, words string, write func(ctx context.Context, tx *store.Store, touched *Touched) error) error
}

// Touched lists the IDs of keys that an edit changed, and of links and vantage points whose keys it changed.
type Touched struct{ Keys, Links, Vantages []int64 }

// KeyFinder finds keys in memory, so that neither announcements nor strangers who guess cost a query.
type KeyFinder interface {
	Key(hash []byte) (store.Key, bool)
	KeyByID(id int64) (store.Key, bool)
}

// Access is the room. It is safe for concurrent use.
type Access struct {
	Filters filters.Filters

	store  *store.Store
	editor Editor
	keys   KeyFinder
	now    func() time.Time
	log    *slog.Logger

	tries      throttle.Tries
	hasher     throttle.Hasher
	sessions   recentSessions
	ceremonies ceremonies
	used       keyUse
	opened     atomic.Uint64 // sessions
}

// New returns a room that edits keys through editor and finds them through keys.
func New(st *store.Store, editor Editor, keys KeyFinder, now func() time.Time, log *slog.Logger) *Access {
	return &Access{Filters: filters.New(st), store: st, editor: editor, keys: keys, now: now, log: log, hasher: throttle.NewHasher()}
}

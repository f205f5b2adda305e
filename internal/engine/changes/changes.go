// Package changes is the order of writes: whatever changes the record goes through it, edits and announcements alike. It owns the edit
// lock, the publishing lock, the numbers of moves to come, and the knowledge of whether the database takes what is written. It decides
// nothing of what is changed: Change and InOrder are given that as a function of the record as it is under the lock.
//
// The order of locks is that of package locks. None of them may be held when it is called.
package changes

import (
	"context"
	"errors"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/semaphore"

	"inkpost.example/inkpost/internal/engine/locks"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/engine/siteside"
)

// Host is what the room asks of the engine.
type Host interface {
	// Writable returns nil when this server takes what changes something, else why not.
	Writable() error
}

// ErrLinkGone reports an announcement for a link that is no longer on record.
var ErrLinkGone = siteside.ErrLinkGone

// ErrBusy reports an edit that timed out waiting for others: nothing was changed.
var ErrBusy = errors.New("other edits take too long, or the database is slow; nothing was changed, try again shortly")

// Changes is the room. It is safe for concurrent use.
type Changes struct {
	*rooms.Rooms
	host     Host
	stopping <-chan struct{}

	// edit is held while the record changes, in the database first and in memory after, so that both change in the same order. Whoever
	// waits for it does so no longer than its context.
	edit *semaphore.Weighted
	// publishing is held while a group of recorded announcements is published. Whoever holds edit may take it, not the other way round.
	publishing locks.Publishing
	moveIDs    []int64 // that moves to come will have; under edit, as is how many were used
	movesUsed  int
	queue      chan Pending
	// behind asks for memory to be brought in line with the database, accepted tells members that moves were accepted.
	behind, accepted chan struct{}
	writes           writes
}

// New returns a room in which nothing waits. stopping is closed when the engine stops.
func New(host Host, r *rooms.Rooms, stopping <-chan struct{}) *Changes {
	return &Changes{Rooms: r, host: host, stopping: stopping, edit: semaphore.NewWeighted(1), queue: make(chan Pending, 4096),
		behind:   make(chan struct{}, 1),
		accepted: make(chan struct{}, 1)}
}

// Run commits announcements and brings memory in line with the database where an edit could not, until ctx ends.
func (ch *Changes) Run(ctx context.Context) {
	var g errgroup.Group
	g.Go(func() error { ch.runIntake(ctx); return nil })
	g.Go(func() error { ch.runCatchUp(ctx); return nil })
	_ = g.Wait()
	ch.turnAway()
}

// Accepted receives a signal when moves were accepted, so that members can be told.
func (ch *Changes) Accepted() <-chan struct{} { return ch.accepted }

// ForgetMoveIDs drops the numbers of moves to come: others recorded moves in between.
func (ch *Changes) ForgetMoveIDs() { ch.moveIDs = nil }

// InOrder runs plan while nothing else changes the record, after everything that was recorded is answered, and then commits the
// announcements that it returns as one group. Error: ErrBusy.
func (ch *Changes) InOrder(ctx context.Context, plan func() []Pending) error {
	if ch.edit.Acquire(ctx, 1) != nil {
		return ErrBusy
	}
	defer ch.edit.Release(1)
	ch.awaitPublished()
	if group := plan(); len(group) > 0 {
		ch.commitInOrder(ctx, group)
	}
	return nil
}

// awaitPublished returns when what was recorded so far is answered.
func (ch *Changes) awaitPublished() {
	ch.publishing.Lock()
	defer ch.publishing.Unlock()
}

// signal wakes whoever waits for c, without blocking; signals coalesce.
func signal(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// Package locks has the mutexes of the engine's rooms, and the one order in which they may be taken:
//
//  1. the edit lock (a semaphore of package changes, so that it can be waited for with a context)
//  2. Publishing: while a group of recorded announcements is published
//  3. Journal: while accepted moves are written into their tables
//  4. Review: while a site's diagnosis is made
//  5. Probing: the watches of package probing
//  6. Leaf and LeafRW: every other lock of a room; under one of them no other lock is taken
//
// A lock may be taken while locks before it in this order are held, never the other way round. Builds with the race detector check that at
// each Lock and panic if it is violated; other builds do not check.
package locks

import "sync"

// order is the place of a kind of lock in the order.
type order interface{ place() int }

type (
	publishing struct{}
	journal    struct{}
	review     struct{}
	probing    struct{}
	leaf       struct{}
)

func (publishing) place() int { return 2 }
func (journal) place() int    { return 3 }
func (review) place() int     { return 4 }
func (probing) place() int    { return 5 }
func (leaf) place() int       { return 6 }

// The kinds of mutex. The zero value of each is unlocked.
type (
	Publishing = Mutex[publishing] // may be unlocked by another goroutine than the one that locked it
	Journal    = Mutex[journal]
	Review     = Mutex[review]
	Probing    = Mutex[probing]
	Leaf       = Mutex[leaf]
	LeafRW     = RWMutex[leaf]
)

// Mutex is a sync.Mutex with a place in the order.
type Mutex[O order] struct{ mu sync.Mutex }

// Lock locks m.
func (m *Mutex[O]) Lock() {
	var o O
	taking(o)
	m.mu.Lock()
}

// Unlock unlocks m.
func (m *Mutex[O]) Unlock() {
	var o O
	m.mu.Unlock()
	gave(o)
}

// RWMutex is a sync.RWMutex with a place in the order.
type RWMutex[O order] struct{ mu sync.RWMutex }

// Lock locks m for writing.
func (m *RWMutex[O]) Lock() {
	var o O
	taking(o)
	m.mu.Lock()
}

// Unlock undoes Lock.
func (m *RWMutex[O]) Unlock() {
	var o O
	m.mu.Unlock()
	gave(o)
}

// RLock locks m for reading.
func (m *RWMutex[O]) RLock() {
	var o O
	taking(o)
	m.mu.RLock()
}

// RUnlock undoes RLock.
func (m *RWMutex[O]) RUnlock() {
	var o O
	m.mu.RUnlock()
	gave(o)
}

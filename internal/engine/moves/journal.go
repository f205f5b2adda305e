package moves

import (
	"context"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/engine/locks"
	"inkpost.example/inkpost/internal/store"
)

const (
	// checkpointDelay is how long changes are batched before being written: the more moves of a link, the fewer updates of its row.
	checkpointDelay = time.Second
	// checkpointBatch moves are written at once, without waiting.
	checkpointBatch = 2048
	// maxWaiting is how many accepted moves may wait. Whoever accepts one more writes them first.
	maxWaiting = 1 << 15
	// progressDelay is how long after a move's progress subscribers are notified: stages arrive in bursts.
	progressDelay = 50 * time.Millisecond
)

// journal holds what is durable but not in the tables that are read.
type journal struct {
	mu     locks.Leaf
	group  store.Group
	stages []store.Stages
	// The group and stages that are being written: they are not in the tables until that is done.
	writingGroup  store.Group
	writingStages []store.Stages
	// stagesGone is how many stages came before those that wait: each has a number, from 0.
	stagesGone int

	added      chan struct{} // something has been added
	progressed chan struct{} // a move has reached a stage
	full       chan struct{} // checkpointBatch moves are waiting
	// writing is held during a write, so that writes keep their order.
	writing locks.Journal
}

func newJournal() journal {
	return journal{added: make(chan struct{}, 1), progressed: make(chan struct{}, 1), full: make(chan struct{}, 1)}
}

// signal wakes whoever waits for c, without blocking; signals coalesce.
func signal(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

func (j *journal) add(g store.Group, stages []store.Stages) {
	j.group.Add(g)
	j.stages = append(j.stages, stages...)
	signal(j.added)
	if len(j.group.Changes) >= checkpointBatch {
		signal(j.full)
	}
}

// take hands out what waits, oldest first, and remembers it as being written.
func (j *journal) take() (g store.Group, stages []store.Stages) {
	j.mu.Lock()
	defer j.mu.Unlock()
	g, stages = j.group, j.stages
	j.group, j.stages = store.Group{}, nil
	j.writingGroup, j.writingStages = g, stages
	return g, stages
}

// written notes that what was taken is in the tables.
func (j *journal) written() {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.stagesGone += len(j.writingStages)
	j.writingGroup, j.writingStages = store.Group{}, nil
}

// putBack makes what could not be written the oldest again.
func (j *journal) putBack(g store.Group, stages []store.Stages) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.writingGroup, j.writingStages = store.Group{}, nil
	newer, later := j.group, j.stages
	j.group, j.stages = g, stages
	j.add(newer, later)
}

// waiting returns what is not in the tables yet. The lists must not be changed.
func (j *journal) waiting() (changes [2][]store.Change, stages []store.Stages) {
	j.mu.Lock()
	defer j.mu.Unlock()
	changes = [2][]store.Change{slices.Clip(j.writingGroup.Changes), slices.Clip(j.group.Changes)}
	return changes, slices.Concat(j.writingStages, j.stages)
}

// Accept adds moves that are durable to the journal.
func (m *Moves) Accept(g store.Group) {
	m.journal.mu.Lock()
	defer m.journal.mu.Unlock()
	m.journal.add(g, nil)
}

// Reached notes that a move has reached a stage.
func (m *Moves) Reached(s store.Stages) {
	m.journal.mu.Lock()
	defer m.journal.mu.Unlock()
	m.journal.stages = append(m.journal.stages, s)
	signal(m.journal.added)
	signal(m.journal.progressed)
}

// Full reports whether so many moves wait that Settle has to be called before more are accepted.
func (m *Moves) Full() bool {
	m.journal.mu.Lock()
	defer m.journal.mu.Unlock()
	return len(m.journal.group.Changes) > maxWaiting
}

// Settle writes everything that has been added so far into the tables. Errors: those of Tables.Settle; the journal keeps what was
// not written.
func (m *Moves) Settle(ctx context.Context) error {
	m.journal.writing.Lock()
	defer m.journal.writing.Unlock()
	return m.settleLocked(ctx)
}

func (m *Moves) settleLocked(ctx context.Context) error {
	g, stages := m.journal.take()
	if len(g.Changes)+len(stages) == 0 {
		return nil
	}
	if err := m.tables.Settle(ctx, g, stages); err != nil {
		m.journal.putBack(g, stages)
		return err
	}
	m.journal.written()
	return nil
}

// Hold keeps the journal from being written by anybody but its holder.
type Hold struct{ m *Moves }

// Hold waits for a write under way and keeps further ones back until Release.
func (m *Moves) Hold() Hold {
	m.journal.writing.Lock()
	return Hold{m}
}

// Settle is Moves.Settle for the holder, with the same errors.
func (h Hold) Settle(ctx context.Context) error { return h.m.settleLocked(ctx) }

// Release lets others write again.
func (h Hold) Release() { h.m.journal.writing.Unlock() }

// runCheckpoint writes the journal a little after something was added to it, and once more when ctx ends.
func (m *Moves) runCheckpoint(ctx context.Context) {
	for last := false; !last; {
		select {
		case <-m.journal.added:
			select {
			case <-time.After(checkpointDelay):
			case <-m.journal.full:
			case <-ctx.Done():
			}
		case <-ctx.Done():
			last = true
		}
		bounded, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		if err := m.Settle(bounded); err != nil {
			m.log.Warn("accepted moves could not be written into their tables; retrying", "error", err)
			select {
			case <-time.After(time.Second):
			case <-ctx.Done():
			}
			signal(m.journal.added)
		}
		cancel()
	}
}

package engine

import (
	"context"
	"slices"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/store"
)

// unsettled is what is not in the tables yet that are read: moves that were accepted, durably, and stages that moves have
// reached.
type unsettled struct {
	mu     sync.Mutex
	group  store.Group
	stages []store.Stages
	// under way are those that are being written: until that is done they are not in the tables.
	groupUnderWay  store.Group
	stagesUnderWay []store.Stages
	rouse          chan struct{} // something has come
	moved          chan struct{} // a move has reached a stage
	many           chan struct{} // so much has come that it should be written at once
	// writing is held while something is written, so that all of it goes in its order.
	writing sync.Mutex
}

const (
	// settleWait is how long what has come is collected before it is written: the more moves of a link, the fewer changes of its
	// row. Whoever reads has it written first.
	settleWait = time.Second
	// settleMany moves are written at once.
	settleMany = 2048
	// unsettledMost is how many accepted moves may wait. Whoever accepts one more writes them first.
	unsettledMost = 1 << 15
	// progressWait is how long it takes until those who look are told that moves went on: stages come in flocks.
	progressWait = 50 * time.Millisecond
)

func (u *unsettled) accept(g store.Group) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.add(g, nil)
}

// reached notes that a move has reached a stage.
func (u *unsettled) reached(s store.Stages) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.stages = append(u.stages, s)
	wake(u.rouse)
	wake(u.moved)
}

func (u *unsettled) add(g store.Group, stages []store.Stages) {
	u.group.Add(g)
	u.stages = append(u.stages, stages...)
	wake(u.rouse)
	if len(u.group.Changes) >= settleMany {
		wake(u.many)
	}
}

// wake has whoever waits for c go on; once is enough.
func wake(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

func (u *unsettled) take() (g store.Group, stages []store.Stages) {
	u.mu.Lock()
	defer u.mu.Unlock()
	g, stages = u.group, u.stages
	u.group, u.stages = store.Group{}, nil
	u.groupUnderWay, u.stagesUnderWay = g, stages
	return g, stages
}

// written notes that what was taken is in the tables.
func (u *unsettled) written() {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.groupUnderWay, u.stagesUnderWay = store.Group{}, nil
}

// waiting gives what is not in the tables yet, or just being written. The lists must not be changed.
func (u *unsettled) waiting() (changes [2][]store.Change, stages []store.Stages) {
	u.mu.Lock()
	defer u.mu.Unlock()
	changes = [2][]store.Change{slices.Clip(u.groupUnderWay.Changes), slices.Clip(u.group.Changes)}
	return changes, slices.Concat(u.stagesUnderWay, u.stages)
}

// putBack makes what could not be written the oldest again.
func (u *unsettled) putBack(g store.Group, stages []store.Stages) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.groupUnderWay, u.stagesUnderWay = store.Group{}, nil
	newer, later := u.group, u.stages
	u.group, u.stages = g, stages
	u.add(newer, later)
}

func (u *unsettled) full() bool {
	u.mu.Lock()
	defer u.mu.Unlock()
	return len(u.group.Changes) > unsettledMost
}

// settle has the tables hold everything that has come so far.
func (e *Engine) settle(ctx context.Context) error {
	e.unsettled.writing.Lock()
	defer e.unsettled.writing.Unlock()
	return e.settleAlone(ctx)
}

// settleAlone is settle for whoever holds unsettled.writing.
func (e *Engine) settleAlone(ctx context.Context) error {
	u := &e.unsettled
	g, stages := u.take()
	if len(g.Changes)+len(stages) == 0 {
		return nil
	}
	if err := e.writes.note(e.store.Settle(ctx, g, stages), e.now()); err != nil {
		u.putBack(g, stages)
		return err
	}
	u.written()
	return nil
}

// runProgress tells those who look that moves went on.
func (e *Engine) runProgress(ctx context.Context) {
	for {
		select {
		case <-e.unsettled.moved:
		case <-ctx.Done():
			return
		}
		select {
		case <-time.After(progressWait):
		case <-ctx.Done():
			return
		}
		e.Events.Publish(contract.EventMoveProgressed, "", "", "moves went on")
	}
}

// runSettle settles what has come, as much at once as there is.
func (e *Engine) runSettle(ctx context.Context) {
	for last := false; !last; {
		select {
		case <-e.unsettled.rouse:
			select {
			case <-time.After(settleWait):
			case <-e.unsettled.many:
			case <-ctx.Done():
			}
		case <-ctx.Done():
			last = true
		}
		bounded, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		if err := e.settle(bounded); err != nil {
			e.log.Warn("moves are accepted, but not in their tables; trying again", "error", err)
			select {
			case <-time.After(time.Second):
			case <-ctx.Done():
			}
			wake(e.unsettled.rouse)
		}
		cancel()
	}
}

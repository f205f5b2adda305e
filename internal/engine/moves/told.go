package moves

import (
	"slices"

	"inkpost.example/inkpost/internal/store"
)

// Told is how far another server has been told of moves that the tables do not have yet, and of stages that they reached.
type Told struct {
	move  int64 // the ID of the last
	stage int   // how many stages
}

// Waiting are moves, in their order, and stages that they reached, which the tables do not have yet and another server was not told of.
type Waiting struct {
	Changes []store.Change
	Stages  []store.Stages
	First   int   // the number of the first of Stages, which are numbered from 0 as they are reached
	Oldest  int64 // the ID of the oldest move that the tables do not have; 0 where they have all
	Settled int   // how many stages the tables have
}

// Tell returns what another server was not told of yet. Where that is more than most, it is not told at all: nobody looks at each then, and
// soon the tables have it.
func (m *Moves) Tell(t *Told, most int) (w Waiting) {
	j := &m.journal
	j.mu.Lock()
	defer j.mu.Unlock()
	w.Settled = j.stagesGone
	for _, list := range [][]store.Change{j.writingGroup.Changes, j.group.Changes} {
		if w.Oldest == 0 && len(list) > 0 {
			w.Oldest = list[0].ID
		}
		for _, c := range list[firstAfter(list, t.move):] {
			w.Changes, t.move = append(w.Changes, c), c.ID
		}
	}
	w.First = max(t.stage, j.stagesGone)
	if skip := w.First - j.stagesGone; skip < len(j.writingStages) {
		w.Stages = slices.Concat(j.writingStages[skip:], j.stages)
	} else {
		w.Stages = slices.Clone(j.stages[skip-len(j.writingStages):])
	}
	t.stage = w.First + len(w.Stages)
	if len(w.Changes)+len(w.Stages) > most {
		w.Changes, w.Stages, w.First = nil, nil, t.stage
	}
	return w
}

// firstAfter is where moves with a higher ID begin.
func firstAfter(list []store.Change, id int64) int {
	at, _ := slices.BinarySearchFunc(list, id+1, func(c store.Change, id int64) int { return int(c.ID - id) })
	return at
}

// Show takes over what another server has told.
func (m *Moves) Show(w Waiting) {
	j := &m.journal
	j.mu.Lock()
	defer j.mu.Unlock()
	kept := j.writingGroup.Changes
	if w.Oldest == 0 {
		kept = nil
	}
	kept = kept[firstAfter(kept, w.Oldest-1):]
	if len(w.Changes) > 0 { // it may tell again what it told before
		kept = kept[:firstAfter(kept, w.Changes[0].ID-1)]
	}
	j.writingGroup.Changes = slices.Concat(kept, w.Changes)
	stages := j.writingStages
	if j.stagesGone+len(stages) != w.First { // it tells from anew, or left some out
		j.stagesGone, stages = w.First, nil
	}
	settled := min(max(w.Settled-j.stagesGone, 0), len(stages))
	j.stagesGone += settled
	j.writingStages = slices.Concat(stages[settled:], w.Stages)
}

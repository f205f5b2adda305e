package moves

import (
	"log/slog"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/store"
)

// pair is a server that writes, the tables, and another one that is told.
type pair struct {
	writer, other *Moves
	told          Told
	tables        store.Group
	reached       []store.Stages // in the tables
	all           int            // moves that were accepted
	sent          int            // moves and stages that were told
}

func newPair() *pair {
	one := func() *Moves {
		return New(nil, events.NewHub(fixedClock), fixedClock, time.UTC, nil, slog.New(slog.DiscardHandler))
	}
	return &pair{writer: one(), other: one()}
}

func (p *pair) accept() {
	p.all++
	p.writer.Accept(store.Group{Changes: []store.Change{{ID: int64(p.all)}}})
}

func (p *pair) reach(id int) {
	p.writer.Reached(store.Stages{MoveID: int64(id), Answered: fixedClock().Add(time.Duration(id))})
}

// settle writes what waits into the tables.
func (p *pair) settle() {
	g, stages := p.writer.journal.take()
	p.tables.Add(g)
	p.reached = append(p.reached, stages...)
	p.writer.journal.written()
}

func (p *pair) tell(most int) {
	w := p.writer.Tell(&p.told, most)
	p.sent += len(w.Changes) + len(w.Stages)
	p.other.Show(w)
}

// known are the moves and stages that a server has from the tables and beyond them, by ID.
func (p *pair) known(m *Moves) (ids map[int64]bool, stages map[int64]bool) {
	ids, stages = map[int64]bool{}, map[int64]bool{}
	changes, waiting := m.journal.waiting()
	for _, list := range append(changes[:], p.tables.Changes) {
		for _, c := range list {
			ids[c.ID] = true
		}
	}
	for _, s := range append(waiting, p.reached...) {
		stages[s.MoveID] = true
	}
	return ids, stages
}

func TestWhatWaitsIsToldOnceAndForgottenWhenTheTablesHaveIt(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 9))
	p := newPair()
	for range 3000 {
		switch r.IntN(9) {
		case 0:
			p.settle()
		case 1: // could not be written
			p.writer.journal.putBack(p.writer.journal.take())
		case 2: // another connection, which begins anew
			if r.IntN(20) == 0 {
				p.told = Told{}
			}
		case 3, 4:
			if p.all > 0 {
				p.reach(1 + r.IntN(p.all))
			}
		default:
			p.accept()
		}
		p.tell(1000)
		ids, stages := p.known(p.writer)
		there, reached := p.known(p.other)
		require.Equal(t, ids, there)
		require.Equal(t, stages, reached)
		changes, waiting := p.other.journal.waiting()
		ours, theirs := p.writer.journal.waiting()
		require.Len(t, changes[0], len(ours[0])+len(ours[1]), "what the tables have is not kept twice")
		require.Len(t, waiting, len(theirs))
	}
	require.Less(t, p.sent, 5000, "what was told is not told again")
	require.Greater(t, p.sent, 1500)
}

func TestManyMovesAtOnceAreNotToldEach(t *testing.T) {
	p := newPair()
	for range 11 {
		p.accept()
		p.reach(p.all)
	}
	p.tell(20)
	require.Zero(t, p.sent)
	p.accept()
	p.reach(p.all)
	p.tell(20)
	require.Equal(t, 2, p.sent, "later ones are")
	changes, stages := p.other.journal.waiting()
	require.EqualValues(t, 12, changes[0][0].ID)
	require.EqualValues(t, 12, stages[0].MoveID)
	p.settle()
	p.tell(20)
	changes, stages = p.other.journal.waiting()
	require.Empty(t, changes[0])
	require.Empty(t, stages)
}

package marks

import (
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/engine/record"
)

func TestEachKeeperTakesWhatWasMarkedSinceTheyLastDid(t *testing.T) {
	var m Marks
	m.Note(1) // nobody keeps anything yet
	a := m.Keep()
	m.Note(2)
	m.Note(2)
	b := m.Keep()
	m.Note(3)
	m.Edited(record.Touched{Sites: []int64{3}})
	take := func(s *Set) (list []int64, edits int) {
		sites, touched := s.Take()
		for id := range sites {
			list = append(list, id)
		}
		return list, len(touched)
	}
	sites, edits := take(a)
	require.ElementsMatch(t, []int64{2, 3}, sites)
	require.Equal(t, 1, edits)
	sites, edits = take(b)
	require.Equal(t, []int64{3}, sites)
	require.Equal(t, 1, edits)
	sites, edits = take(a)
	require.Empty(t, sites)
	require.Zero(t, edits)
	a.Close()
	m.Note(4)
	sites, _ = take(a)
	require.Empty(t, sites)
	for range 3 * maxEdits {
		m.Edited(record.Touched{Sites: []int64{4}})
	}
	_, touched := b.Take()
	require.LessOrEqual(t, len(touched), maxEdits+1)
	require.True(t, touched[0].Whole, "so much was edited that the whole record is read again")
}

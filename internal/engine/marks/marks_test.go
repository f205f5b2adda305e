package marks

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestEachKeeperTakesWhatWasMarkedSinceTheyLastDid(t *testing.T) {
	var m Marks
	m.Note(1) // nobody keeps anything yet
	a := m.Keep()
	m.Note(2)
	m.Note(2)
	b := m.Keep()
	m.Note(3)
	require.Equal(t, map[int64]struct{}{2: {}, 3: {}}, a.Take())
	require.Equal(t, map[int64]struct{}{3: {}}, b.Take())
	require.Empty(t, a.Take())
	a.Close()
	m.Note(4)
	require.Empty(t, a.Take())
	require.Len(t, b.Take(), 1)
}

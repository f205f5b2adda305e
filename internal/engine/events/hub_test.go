package events

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
)

func fixedClock() time.Time { return time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC) }

func TestHubTellsEveryoneAndRemembers(t *testing.T) {
	h := NewHub(fixedClock)
	a, complete := h.Subscribe("")
	require.True(t, complete)
	h.Publish(MoveRecorded, "KET-07", "1", "first")
	h.Publish(MoveRecorded, "KET-07", "2", "second")
	first, second := <-a.C, <-a.C
	require.Equal(t, "first", first.Words)
	require.Equal(t, "second", second.Words)
	require.NotEqual(t, first.ID, second.ID)

	b, complete := h.Subscribe(first.ID)
	require.True(t, complete, "what came after is still there")
	require.Equal(t, second, <-b.C)
	c, complete := h.Subscribe(second.ID)
	require.True(t, complete)
	require.Empty(t, c.C)
	_, complete = h.Subscribe("17")
	require.False(t, complete, "an ID of another run")
	h.Unsubscribe(a)
	h.Publish(MoveRecorded, "KET-07", "3", "third")
	require.Empty(t, a.C)
	require.Len(t, b.C, 1)
}

func TestAnIDOfAnEarlierRunIsNotTakenForOurs(t *testing.T) {
	earlier := NewHub(func() time.Time { return fixedClock().Add(-time.Hour) })
	for range 50 {
		earlier.Publish(contract.EventFaultOpened, "KET-07", "", "then")
	}
	s, _ := earlier.Subscribe("")
	earlier.Publish(contract.EventFaultOpened, "KET-07", "", "last")
	h := NewHub(fixedClock)
	h.Publish(contract.EventFaultOpened, "KET-07", "", "now")
	_, complete := h.Subscribe((<-s.C).ID)
	require.False(t, complete)
}

func TestAHubForgetsTheOldestAndDropsTheSlow(t *testing.T) {
	h := NewHub(fixedClock)
	slow, _ := h.Subscribe("")
	h.Publish(contract.EventFaultOpened, "KET-07", "", "0")
	oldest := (<-slow.C).ID
	for i := range 2 * maxKept {
		h.Publish(contract.EventFaultOpened, "KET-07", "", fmt.Sprint(i))
	}
	select {
	case <-slow.Lost:
	default:
		t.Fatal("a receiver that does not read is told that it lost events")
	}
	require.LessOrEqual(t, len(h.kept), maxKept)
	_, complete := h.Subscribe(oldest)
	require.False(t, complete)
}

package events

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
)

func fixedClock() time.Time { return time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC) }

// words are those of the events that a subscription takes.
func words(t *testing.T, s *Subscription) (out []string, last string) {
	t.Helper()
	list, ok := s.Take(100)
	require.True(t, ok)
	for _, ev := range list {
		out, last = append(out, ev.Words), ev.ID
	}
	return out, last
}

func TestHubTellsEveryoneAndRemembers(t *testing.T) {
	h := NewHub(fixedClock)
	a, complete := h.Subscribe("")
	require.True(t, complete)
	h.Publish(MoveRecorded, "KET-07", "1", "first")
	h.Publish(MoveRecorded, "KET-07", "2", "second")
	require.Len(t, a.News, 1)
	one, ok := a.Take(1)
	require.True(t, ok)
	require.Equal(t, "first", one[0].Words)
	rest, last := words(t, a)
	require.Equal(t, []string{"second"}, rest)
	require.NotEqual(t, one[0].ID, last)
	rest, _ = words(t, a)
	require.Empty(t, rest)

	b, complete := h.Subscribe(one[0].ID)
	require.True(t, complete, "what came after is still there")
	require.Len(t, b.News, 1)
	rest, _ = words(t, b)
	require.Equal(t, []string{"second"}, rest)
	c, complete := h.Subscribe(last)
	require.True(t, complete)
	require.Empty(t, c.News)
	for _, unknown := range []string{"17", "x", "99999999999999999"} {
		d, complete := h.Subscribe(unknown)
		require.False(t, complete, "an ID of another run")
		rest, _ = words(t, d)
		require.Empty(t, rest)
	}
	<-a.News
	h.Unsubscribe(a)
	h.Publish(MoveRecorded, "KET-07", "3", "third")
	require.Empty(t, a.News)
	rest, _ = words(t, b)
	require.Equal(t, []string{"third"}, rest)

	shown := 0
	show := func(ev Event) []byte { shown++; return []byte(ev.Words) }
	list, _ := c.Take(1)
	again, _ := h.Subscribe(last)
	same, _ := again.Take(1)
	require.Equal(t, "third", string(list[0].Shown(show)))
	require.Equal(t, "third", string(same[0].Shown(show)))
	require.Equal(t, 1, shown, "made once for all")
}

func TestAnIDOfAnEarlierRunIsNotTakenForOurs(t *testing.T) {
	earlier := NewHub(func() time.Time { return fixedClock().Add(-time.Hour) })
	s, _ := earlier.Subscribe("")
	for range 50 {
		earlier.Publish(contract.EventFaultOpened, "KET-07", "", "then")
	}
	_, last := words(t, s)
	h := NewHub(fixedClock)
	h.Publish(contract.EventFaultOpened, "KET-07", "", "now")
	_, complete := h.Subscribe(last)
	require.False(t, complete)
}

func TestAHubForgetsTheOldestAndDropsTheSlow(t *testing.T) {
	h := NewHub(fixedClock)
	slow, _ := h.Subscribe("")
	for i := range maxKept / 2 {
		h.Publish(contract.EventFaultOpened, "KET-07", "", fmt.Sprint(i))
	}
	list, ok := slow.Take(maxKept)
	require.True(t, ok, "a burst is no reason")
	require.Len(t, list, maxKept/2)
	for i := range 2 * maxKept {
		h.Publish(contract.EventFaultOpened, "KET-07", "", fmt.Sprint(i))
	}
	_, ok = slow.Take(1)
	require.False(t, ok, "a receiver that does not read is told that it lost events")
	require.LessOrEqual(t, len(h.kept), maxKept)
	_, complete := h.Subscribe(list[0].ID)
	require.False(t, complete)
	next, _ := h.Subscribe("")
	h.Close()
	require.Len(t, next.News, 1)
	_, ok = next.Take(1)
	require.False(t, ok, "another server publishes now")
}

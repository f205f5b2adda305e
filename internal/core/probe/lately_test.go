package probe

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func lately(list ...int) (l Lately) {
	for range 40 { // how it usually goes
		l = l.Note(Answered, 30*time.Millisecond)
	}
	for _, ms := range list {
		if ms == 0 {
			l = l.Note(Silent, 0)
		} else {
			l = l.Note(Answered, time.Duration(ms)*time.Millisecond)
		}
	}
	return l
}

func TestLoss(t *testing.T) {
	for name, c := range map[string]struct {
		list  []int
		lossy bool
		lost  int
	}{
		"none":                                 {nil, false, 0},
		"one now and then":                     {[]int{0, 30, 30, 30, 30, 30, 30, 30, 30, 0, 30}, false, 2},
		"again and again":                      {[]int{0, 30, 30, 0, 30, 30, 30, 0, 30, 1030, 30}, true, 4},
		"sent again is lost, too":              {[]int{1030, 30, 30, 1040, 30, 30, 30, 1035, 30}, true, 3},
		"an outage":                            {[]int{0, 0, 0, 0, 0, 0, 0, 0}, false, 0},
		"an outage that is over":               {[]int{0, 0, 0, 0, 0, 0, 0, 0, 30, 30, 30}, false, 0},
		"slow, and nothing lost":               {[]int{1100, 1200, 1300, 1250, 1100, 1300}, false, 0},
		"refused is an answer of some machine": {[]int{30, 30, 30}, false, 0},
	} {
		lost, tried, lossy := lately(c.list...).Lossy()
		require.Equal(t, c.lossy, lossy, name)
		require.Equal(t, c.lost, lost, name)
		require.Equal(t, latelyMost, tried, name)
	}
	_, tried, lossy := Lately{}.Note(Silent, 0).Note(Answered, time.Millisecond).Note(Silent, 0).Lossy()
	require.False(t, lossy, "%d are too few to tell", tried)
}

func TestALineThatLosesATenthIsSeenAndAGoodOneIsNot(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	seen := 0
	for range 200 {
		good, bad := lately(), lately()
		for range latelyMost {
			good = good.Note(Answered, time.Duration(25+r.IntN(20))*time.Millisecond)
			switch {
			case r.Float64() < 0.19: // SYN or SYN-ACK: it is sent again
				bad = bad.Note(Answered, time.Duration(1025+r.IntN(20))*time.Millisecond)
			default:
				bad = bad.Note(Answered, time.Duration(25+r.IntN(20))*time.Millisecond)
			}
		}
		_, _, lossy := good.Lossy()
		require.False(t, lossy)
		if _, _, lossy := bad.Lossy(); lossy {
			seen++
		}
	}
	require.Greater(t, seen, 120, "within 24 probes")
}

func TestSlow(t *testing.T) {
	took, slow := lately(900, 1200, 1000, 1500, 950).Slow()
	require.True(t, slow)
	require.Equal(t, 900*time.Millisecond, took)
	_, slow = lately(900, 1200, 30, 1500, 950).Slow()
	require.False(t, slow, "not all of them")
	_, slow = lately(200, 200, 200, 200, 200, 200).Slow()
	require.False(t, slow, "nobody minds that")
	var l Lately
	for range 40 {
		l = l.Note(Answered, 1200*time.Millisecond)
	}
	_, slow = l.Slow()
	require.False(t, slow, "it was never quicker")
	require.InDelta(t, 1.2, l.Usual().Seconds(), 0.01)
}

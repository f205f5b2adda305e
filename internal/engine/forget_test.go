package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
)

func fixedClock() time.Time { return time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC) }

func TestServicesThatAreGoneAreNotRememberedForEver(t *testing.T) {
	p := posts{given: map[int64]contract.Assignment{1: {ID: 1}}, stamp: map[int64]uint64{1: 1}, siteOf: map[int64]int64{}}
	for id := int64(2); id < droppedMost+10; id++ {
		p.cursor++
		p.stamp[id] = p.cursor
		p.forgetDropped()
	}
	require.LessOrEqual(t, len(p.stamp), droppedMost+1)
	require.Contains(t, p.stamp, int64(1))
	require.Positive(t, p.first, "a vantage point that was away for so long gets everything anew")
}

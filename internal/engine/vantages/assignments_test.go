package vantages

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestServicesThatAreGoneAreNotRememberedForEver(t *testing.T) {
	a := newAssignments(time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC))
	a.given[1], a.stamp[1] = Assignment{ServiceID: 1}, a.cursor
	oldest := a.oldest
	for id := int64(2); id < maxDropped+10; id++ {
		a.cursor++
		a.stamp[id] = a.cursor
		a.forgetDropped()
	}
	require.LessOrEqual(t, len(a.stamp), maxDropped+1)
	require.Contains(t, a.stamp, int64(1))
	require.Greater(t, a.oldest, oldest, "a vantage point that was away for so long gets a full snapshot")
}

package rounds_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/engine/rounds"
)

func TestOfFewEachIsDueInEveryRoundAndOfManyOncePerTenAtMost(t *testing.T) {
	for count, between := range map[int]int{1: 1, 100: 1, 101: 2, 450: 5, 5000: 10} {
		var turns rounds.Turns
		last, most := map[int]int{}, 0
		for round := 1; round <= 30; round++ {
			due, now := turns.Next(count), 0
			for i := range count {
				if !due(i) {
					continue
				}
				now++
				if before, there := last[i]; there {
					require.Equal(t, between, round-before, "%d of %d", i, count)
				}
				last[i] = round
			}
			most = max(most, now)
		}
		require.Len(t, last, count, "each has its turn")
		require.LessOrEqual(t, most, max(100, count/10), "%d", count)
	}
}

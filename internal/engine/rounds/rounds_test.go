package rounds_test

import (
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/engine/rounds"
)

func TestRoundsThatBeginTogetherAreDueApart(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		began := time.Now()
		first := map[time.Duration]bool{}
		for range 8 {
			r := rounds.Every(10 * time.Second)
			defer r.Stop()
			first[(<-r.C).Sub(began)] = true
			r.Begun()
			due := time.Now().Add(10 * time.Second)
			require.Equal(t, due, <-r.C, "from then on at the interval")
			r.Begun()
			require.Equal(t, due.Add(10*time.Second), <-r.C)
			began = time.Now()
		}
		require.Greater(t, len(first), 4, "%v", first)
		for at := range first {
			require.LessOrEqual(t, at, 10*time.Second)
			require.Positive(t, at)
		}
	})
}

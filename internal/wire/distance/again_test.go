package distance

import (
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
)

func TestOnlyWhatMayYetBeAnsweredIsTriedAgain(t *testing.T) {
	list := func(answered ...int) (out []probe.HopAnswer) {
		for limit := 1; limit <= 24; limit++ {
			out = append(out, probe.HopAnswer{Limit: limit, Reply: probe.HopNothing})
		}
		for _, limit := range answered {
			out[limit-1].Reply = probe.HopNotice
		}
		return out
	}
	require.Equal(t, []int{1, 4, 5, 6}, unanswered(list(1, 3, 4)), "those in between, and three behind the last")
	require.Equal(t, []int{0, 1, 2}, unanswered(list()))
	require.Empty(t, unanswered(list()[:0]))
}

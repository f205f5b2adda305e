package probing

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestOfManyServicesASampleIsLookedAt(t *testing.T) {
	all := map[int64]*watch{}
	for id := range int64(3 * fitMost) {
		all[id] = &watch{place: int32(id)}
	}
	require.Len(t, some(all, true), 3*fitMost)
	counted := map[int32]int{}
	for range 6 {
		sample := some(all, false)
		require.Len(t, sample, fitMost)
		once := map[int32]bool{}
		for _, w := range sample {
			once[w.place] = true
			counted[w.place]++
		}
		require.Len(t, once, fitMost, "each once")
	}
	require.Greater(t, len(counted), 3*fitMost/2, "not always the same")
}

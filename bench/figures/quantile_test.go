package figures

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestQuantile(t *testing.T) {
	list := make([]time.Duration, 300)
	for i := range list {
		list[i] = time.Duration(i + 1)
	}
	require.Equal(t, []time.Duration{1, 150, 297, 300},
		[]time.Duration{Quantile(list, 0), Quantile(list, 0.5), Quantile(list, 0.99), Quantile(list, 1)})
	require.Equal(t, time.Duration(99), Quantile(list[:100], 0.99), "one of a hundred may be slower")
	require.Equal(t, time.Duration(7), Quantile(list[6:7], 0.5))
	require.Zero(t, Quantile(nil, 0.5))
}

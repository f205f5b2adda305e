package figures

import (
	"math"
	"time"
)

// Quantile returns the least of the times, which are sorted, that so great a share of them (0 to 1) does not exceed: of 100 times and 0.99
// the second greatest. It is 0 without times.
func Quantile(sorted []time.Duration, share float64) time.Duration {
	if len(sorted) == 0 {
		return 0
	}
	// What floating point makes of 0.99 x 300 is not one more.
	rank := int(math.Ceil(share*float64(len(sorted)) - 1e-9))
	return sorted[min(max(rank, 1), len(sorted))-1]
}

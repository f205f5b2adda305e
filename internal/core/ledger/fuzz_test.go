package ledger

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A page that is cut short or wrong counts as unknown, never as more time than there is; what was read is written the same.
func FuzzUnpack(f *testing.F) {
	hours, latency := Day{Hours: [24]Hour{{Good: 3600}, {Good: 10, Bad: 3}}}.Pack()
	f.Add(hours, latency)
	f.Add(hours[:len(hours)-1], []byte{200, 1, 3})
	f.Fuzz(func(t *testing.T, hours, latency []byte) {
		start := time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC)
		day := Unpack(start, hours, latency)
		for _, h := range day.Hours {
			require.LessOrEqual(t, int(h.Good)+int(h.Partly)+int(h.Bad), 3600)
		}
		again := Unpack(start, first(day.Pack()), second(day.Pack()))
		require.Equal(t, day, again)
	})
}

func first(a, _ []byte) []byte  { return a }
func second(_, b []byte) []byte { return b }

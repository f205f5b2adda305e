package api

import (
	"context"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/store"
)

// Streams end with their keys, and nobody looks after streams that are over: a bubble with a goroutine left behind fails.
func TestStreamsEndWithTheirKeys(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var streams keyStreams
		var revoked, looks atomic.Int64
		good := func(k store.Key) bool { looks.Add(1); return k.ID != revoked.Load() }
		begin := func(id int64) (ctx context.Context, done func()) {
			ctx, stop := context.WithCancel(t.Context())
			t.Cleanup(stop)
			return ctx, streams.watch(&keyStream{store.Key{ID: id}, stop}, good)
		}
		for range 2 { // the second time after nobody looked any more
			revoked.Store(0)
			first, firstDone := begin(1)
			second, secondDone := begin(2)
			time.Sleep(10 * keyWatch)
			require.NoError(t, first.Err())
			require.NoError(t, second.Err())

			revoked.Store(2)
			time.Sleep(keyWatch + time.Millisecond)
			require.NoError(t, first.Err())
			require.Error(t, second.Err())

			firstDone()
			secondDone()
			time.Sleep(keyWatch)
			before := looks.Load()
			time.Sleep(10 * keyWatch)
			require.Equal(t, before, looks.Load())
		}
	})
}

package workers

import (
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/require"
)

func TestEveryTaskRunsOnceBesideTheOthersAndIsWaitedFor(t *testing.T) {
	crew := New()
	const many = 500
	var began sync.WaitGroup
	began.Add(many)
	var done atomic.Int32
	for range many { // each waits for all others: none may wait for a goroutine that another has
		crew.Do(func() {
			began.Done()
			began.Wait()
			done.Add(1)
		})
	}
	crew.End()
	require.EqualValues(t, many, done.Load())
}

func TestFewGoroutinesAreKeptForTheNextTask(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		crew := New()
		defer crew.End()
		hold := make(chan bool)
		for range 900 {
			crew.Do(func() { <-hold })
		}
		synctest.Wait()
		require.Zero(t, crew.waiting.Load())
		close(hold)
		synctest.Wait()
		require.EqualValues(t, 256, crew.waiting.Load(), "the others ended with their task")
		again := make(chan bool)
		crew.Do(func() { <-again })
		synctest.Wait()
		require.EqualValues(t, 255, crew.waiting.Load(), "one that waited runs it")
		close(again)
		synctest.Wait()
		require.EqualValues(t, 256, crew.waiting.Load())
	})
}

package verify

import (
	"context"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"
)

func TestOneSiteIsAskedForOnceHoweverOftenItComesUp(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, end := context.WithCancel(t.Context())
		defer end()
		q := newInquiries()
		var wg sync.WaitGroup
		var mu sync.Mutex
		asked, at, most := map[int64]int{}, map[int64]int{}, 0
		q.work(ctx, &wg, 4, func(id int64, every bool) {
			mu.Lock()
			asked[id]++
			if at[id]++; at[id] > most {
				most = at[id]
			}
			mu.Unlock()
			time.Sleep(10 * time.Millisecond)
			mu.Lock()
			at[id]--
			mu.Unlock()
		})
		for range 1000 {
			q.ask(7, false)
		}
		synctest.Wait()
		time.Sleep(time.Second)
		synctest.Wait()
		mu.Lock()
		require.LessOrEqual(t, asked[7], 2, "a thousand reasons are one question, and one more for those that came during it")
		require.Equal(t, 1, most, "never twice at once")
		mu.Unlock()
		for range 100 { // a site that is due again and again takes a 32nd of the time
			q.ask(8, false)
			time.Sleep(50 * time.Millisecond)
		}
		synctest.Wait()
		mu.Lock()
		require.Less(t, asked[8], 20)
		require.Greater(t, asked[8], 5)
		mu.Unlock()
		end()
		wg.Wait()
	})
}

func TestSitesThatTakeLongHoldUpNoneOfThoseThatDoNot(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, end := context.WithCancel(t.Context())
		defer end()
		var wg sync.WaitGroup
		local, remote := newInquiries(), newInquiries()
		var answered sync.Map
		local.work(ctx, &wg, localWorkers, func(id int64, _ bool) { answered.Store(id, time.Now()) })
		remote.work(ctx, &wg, remoteWorkers, func(int64, bool) { time.Sleep(2 * time.Second) }) // dead primaries
		began := time.Now()
		for id := range int64(200) {
			remote.ask(id, true)
			local.ask(id, true)
		}
		synctest.Wait()
		for id := range int64(200) {
			at, ok := answered.Load(id)
			require.True(t, ok)
			require.Zero(t, at.(time.Time).Sub(began))
		}
		end()
		wg.Wait()
	})
}

func TestOneServerIsAskedAFewTimesAtOnce(t *testing.T) {
	var a asking
	for range maxPerServer {
		require.True(t, a.enter("198.51.100.53:53"))
	}
	require.False(t, a.enter("198.51.100.53:53"))
	require.True(t, a.enter("198.51.100.54:53"), "another server has its own")
	a.leave("198.51.100.53:53")
	require.True(t, a.enter("198.51.100.53:53"))
	for range maxPerServer {
		a.leave("198.51.100.53:53")
	}
	a.leave("198.51.100.54:53")
	require.Empty(t, a.at, "servers that nobody asks are forgotten")
}

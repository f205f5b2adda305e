package bench

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/bench/figures"
	"inkpost.example/inkpost/internal/contract"
)

// BenchmarkStreams has 200 consoles follow what happens while 100 moves a second are made, and measures how soon each hears of a move after
// it was acknowledged.
func BenchmarkStreams(b *testing.B) {
	const consoles, sites, aSecond = 200, 1000, 100
	port := answering(b)
	p, s := alone(b)
	routers := recorded(b, s, sites, port)
	for i := range sites {
		require.NoError(b, routers[i].Announce(b.Context(), at(i, 0)))
	}
	ctx, end := context.WithCancel(b.Context())
	defer end()
	var mu sync.Mutex
	heard := map[string][]time.Time{} // of each site's move, when a console heard of it
	lost, why := 0, error(nil)
	var all atomic.Int64 // events heard
	var under sync.WaitGroup
	defer under.Wait()
	defer end()
	for range consoles {
		under.Go(func() {
			_ = s.Client.Follow(ctx, "", func(ev contract.Event) {
				all.Add(1)
				if ev.Type == contract.EventMoveRecorded && strings.HasPrefix(ev.Data.Site, "SITE-") {
					now := time.Now()
					mu.Lock()
					heard[ev.Data.Site] = append(heard[ev.Data.Site], now)
					mu.Unlock()
				}
			}, func(err error) { mu.Lock(); lost++; why = err; mu.Unlock() })
		})
	}
	time.Sleep(3 * time.Second)
	before, _ := p.Spent(b)
	made := map[string]time.Time{}
	began := time.Now()
	var wg sync.WaitGroup
	for i := range sites {
		time.Sleep(time.Until(began.Add(time.Duration(i) * time.Second / aSecond)))
		wg.Go(func() {
			if err := routers[i].Announce(b.Context(), at(i, 1)); err != nil {
				b.Error(err)
			}
			now := time.Now()
			mu.Lock()
			made[fmt.Sprintf("SITE-%d", i)] = now
			mu.Unlock()
		})
	}
	wg.Wait()
	whole := time.Since(began)
	require.Eventually(b, func() bool {
		mu.Lock()
		defer mu.Unlock()
		for site := range made {
			if len(heard[site]) < consoles {
				return false
			}
		}
		return true
	}, 20*time.Second, 50*time.Millisecond, "everybody hears of everything")
	after, resident := p.Spent(b)
	mu.Lock()
	defer mu.Unlock()
	b.Logf("%d events heard, %d times too slow (%v), in %s; server %s", all.Load(), lost, why, whole, after-before)
	require.Zero(b, lost)
	var took []time.Duration
	for site, list := range heard {
		for _, t := range list[:consoles] {
			took = append(took, max(0, t.Sub(made[site])))
		}
	}
	slices.Sort(took)
	p50, p99 := ms(figures.Quantile(took, 0.5)), ms(figures.Quantile(took, 0.99))
	share := 100 * (after - before).Seconds() / whole.Seconds()
	b.Logf("%d consoles, %d moves/s: heard of after %.1f ms (median), %.1f ms (99 %%); %.0f %% of one processor, %.0f MB", consoles,
		aSecond,
		p50, p99, share, float64(resident)/1e6)
	figures.Plain("streams", "200 consoles, 100 moves/s: a move heard of, median", p50, "ms", "")
	figures.Plain("streams", "200 consoles, 100 moves/s: a move heard of, 99 %", p99, "ms", "")
	figures.Plain("streams", "200 consoles, 100 moves/s: of one processor", share, "%", "")
	b.ReportMetric(0, "ns/op")
}

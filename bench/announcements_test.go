package bench

import (
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/bench/figures"
	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/testbed"
)

// fleet is a service with sites that have a link, a hostname and an agent each.
func fleet(b *testing.B, sites int) (*testbed.Service, []*client.Client, []int64) {
	b.Helper()
	s := testbed.Start(b, nil)
	ctx := b.Context()
	_, err := s.Client.AddZone(ctx, contract.ZoneInput{Apex: "isles.saltmarsh.example",
		Servers: []string{"ns1.isles.saltmarsh.example=198.51.100.1"}})
	require.NoError(b, err)
	agents, links := make([]*client.Client, sites), make([]int64, sites)
	for i := range sites {
		code := fmt.Sprintf("S-%d", i)
		if len(code) < 4 {
			code = "S" + code
		}
		_, err := s.Client.AddSite(ctx, contract.SiteInput{Code: "S" + code, Name: "Site"})
		require.NoError(b, err)
		_, err = s.Client.AddLink(ctx, "S"+code, contract.LinkInput{Label: "main"})
		require.NoError(b, err)
		_, err = s.Client.AddHostname(ctx, contract.HostnameInput{Name: fmt.Sprintf("s%d.isles.saltmarsh.example", i), Site: "S" + code})
		require.NoError(b, err)
		inv, err := s.Engine().Invite(ctx, "S"+code, "main", contract.InvitationInput{MayAnnounce: testbed.Public})
		require.NoError(b, err)
		e, err := s.Engine().Enrol(ctx, contract.Enrolment{Code: inv.Code})
		require.NoError(b, err)
		agents[i], err = client.New(s.URL, e.Key)
		require.NoError(b, err)
		site, err := s.Store().Site(ctx, "S"+code)
		require.NoError(b, err)
		l, err := s.Store().Link(ctx, site.ID, "main")
		require.NoError(b, err)
		links[i] = l.ID
	}
	return s, agents, links
}

// together runs f for every site at once, n times in all, and gives the times each took, sorted.
func together(sites, n int, f func(site, round int)) []time.Duration {
	var mu sync.Mutex
	var took []time.Duration
	var wg sync.WaitGroup
	for i := range sites {
		wg.Go(func() {
			var own []time.Duration
			for round := range n / sites {
				began := time.Now()
				f(i, round)
				own = append(own, time.Since(began))
			}
			mu.Lock()
			took = append(took, own...)
			mu.Unlock()
		})
	}
	wg.Wait()
	slices.Sort(took)
	return took
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

func report(b *testing.B, took []time.Duration, whole time.Duration) {
	if whole > 0 {
		b.ReportMetric(float64(len(took))/whole.Seconds(), "announcements/s")
	}
	b.ReportMetric(float64(took[len(took)/2].Microseconds())/1000, "p50-ms")
	b.ReportMetric(float64(figures.Quantile(took, 0.99).Microseconds())/1000, "p99-ms")
	b.ReportMetric(0, "ns/op")
}

func address(site, round int) string { return fmt.Sprintf("198.51.100.%d", 1+(site*11+round)%250) }

// BenchmarkChanged announces another address each time: recorded, with history, and answered before the reply.
func BenchmarkChanged(b *testing.B) {
	const sites = 64
	s, agents, links := fleet(b, sites)
	b.Run("engine", func(b *testing.B) {
		n := max(b.N, sites*4)
		began := time.Now()
		took := together(sites, n, func(i, round int) {
			_, err := s.Engine().Announce(b.Context(), links[i],
				wan.Announcement{Addresses: wan.PairOf(netip.MustParseAddr(address(i, round))), Source: wan.SourceGateway,
					Noticed: time.Now()})
			if err != nil {
				b.Error(err)
			}
		})
		report(b, took, time.Since(began))
	})
	b.Run("HTTP", func(b *testing.B) {
		n := max(b.N, sites*4)
		began := time.Now()
		took := together(sites, n, func(i, round int) {
			if _, err := agents[i].Announce(b.Context(), testbed.Says(address(i, round+1))); err != nil {
				b.Error(err)
			}
		})
		report(b, took, time.Since(began))
	})
}

// BenchmarkUnchanged announces the same address again and again, which writes nothing.
func BenchmarkUnchanged(b *testing.B) {
	const sites = 16
	_, agents, _ := fleet(b, sites)
	n := max(b.N, sites*4)
	began := time.Now()
	took := together(sites, n, func(i, _ int) {
		if _, err := agents[i].Announce(b.Context(), testbed.Says(address(i, 0))); err != nil {
			b.Error(err)
		}
	})
	report(b, took, time.Since(began))
}

package authdns

import (
	"context"
	"log/slog"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"
)

func TestALimitHoldsForANetworkAndASecond(t *testing.T) {
	l := newLimiter(Limit{PerSecond: 10, Exempt: []netip.Prefix{netip.MustParsePrefix("203.0.113.0/24")}})
	now := time.Unix(1_800_000_000, 0)
	count := func(address string, n int, at time.Time) map[verdict]int {
		got := map[verdict]int{}
		for range n {
			got[l.take(netip.MustParseAddr(address), at)]++
		}
		return got
	}
	require.Equal(t, map[verdict]int{pass: 10, cutShort: 5, silent: 5}, count("198.51.100.7", 20, now))
	require.Equal(t, map[verdict]int{cutShort: 2, silent: 2}, count("198.51.100.200", 4, now), "another address of the same network")
	require.Equal(t, map[verdict]int{pass: 10}, count("198.51.101.7", 10, now), "another network")
	require.Equal(t, map[verdict]int{pass: 10}, count("198.51.100.7", 10, now.Add(time.Second)), "another second")
	require.Equal(t, map[verdict]int{pass: 100}, count("203.0.113.9", 100, now))
	require.Equal(t, map[verdict]int{pass: 10, cutShort: 1, silent: 1}, count("2001:db8:0:7::1", 12, now))
	require.Equal(t, map[verdict]int{cutShort: 1, silent: 1}, count("2001:db8:0:8::1", 2, now), "the same /56")
}

func TestNoLimitPassesEverything(t *testing.T) {
	require.Nil(t, newLimiter(Limit{}))
	var l *limiter
	require.Equal(t, pass, l.take(netip.MustParseAddr("198.51.100.7"), time.Now()))
}

// limited is a server that gives one network so many answers a second.
func limited(t *testing.T, perSecond int) *Server {
	t.Helper()
	d := &Directory{}
	d.Put(zone(t))
	s, err := Listen("127.0.0.1:0", d, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	s.Limit(Limit{PerSecond: perSecond})
	ctx, stop := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	wg.Go(func() { _ = s.Serve(ctx) })
	t.Cleanup(func() { stop(); wg.Wait() })
	return s
}

func TestWhoIsOverTheLimitIsSentToTCP(t *testing.T) {
	s := limited(t, 5)
	whole, cut, none := 0, 0, 0
	c := dns.Client{Timeout: 100 * time.Millisecond}
	for range 40 {
		r, _, err := c.Exchange(new(dns.Msg).SetQuestion("ket-07."+apex, dns.TypeA).SetEdns0(1232, false), s.Addr())
		switch {
		case err != nil:
			none++
		case r.Truncated:
			require.Empty(t, r.Answer)
			require.Len(t, r.Question, 1)
			cut++
		default:
			whole++
		}
	}
	require.Positive(t, cut)
	require.Positive(t, none)
	require.Positive(t, whole)
	require.EqualValues(t, cut, s.Counts().CutShort)
	require.EqualValues(t, none, s.Counts().Silenced)
	for range 20 {
		require.Len(t, ask(t, s, "tcp", "ket-07."+apex, dns.TypeA, nil).Answer, 1, "TCP is not limited")
	}
}

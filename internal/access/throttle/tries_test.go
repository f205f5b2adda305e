package throttle

import (
	"context"
	"fmt"
	"net/netip"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"
)

var (
	noon = time.Date(2026, 3, 4, 12, 0, 0, 0, time.UTC)
	home = netip.MustParseAddr("198.51.100.7")
)

func TestANetworkIsWhatOneCustomerHas(t *testing.T) {
	for text, want := range map[string]string{
		"198.51.100.7": "198.51.100.0/24", "::ffff:198.51.100.7": "198.51.100.0/24", "2001:db8:0:66:1:2:3:4": "2001:db8:0:66::/64",
		"fe80::1%eth0": "fe80::/64",
	} {
		require.Equal(t, want, Network(netip.MustParseAddr(text)).String(), text)
	}
}

func TestFailuresInARowCostMoreAndMore(t *testing.T) {
	var tries Tries
	now, waited := noon, []time.Duration{}
	for range 14 {
		var pause time.Duration
		if err := tries.Allowed("owner", home, now); err != nil {
			var tooMany TooMany
			require.ErrorAs(t, err, &tooMany)
			pause = tooMany.Wait
		}
		waited = append(waited, pause)
		now = now.Add(pause)
		require.NoError(t, tries.Allowed("owner", home, now), "after the pause it may be tried")
		tries.Failed("owner", home, now)
	}
	s := time.Second
	require.Equal(t, []time.Duration{0, 0, 0, 0, 0, s, 2 * s, 4 * s, 8 * s, 16 * s, 32 * s, 60 * s, 60 * s, 60 * s}, waited)
	require.EqualValues(t, 14, tries.Total())
	require.ErrorContains(t, tries.Allowed("owner", home, now), "wait 1m0s")

	require.Error(t, tries.Allowed("owner", netip.MustParseAddr("203.0.113.9"), now), "from elsewhere, too: it is the name's")
	require.Error(t, tries.Allowed("colleague", netip.MustParseAddr("198.51.100.99"), now), "another name from the same network")
	require.NoError(t, tries.Allowed("colleague", netip.MustParseAddr("203.0.113.9"), now), "somebody else, somewhere else")
	tries.Passed("owner")
	require.NoError(t, tries.Allowed("owner", netip.MustParseAddr("203.0.113.9"), now))
	require.Error(t, tries.Allowed("owner", home, now), "that one name is known says nothing of the network")
	require.NoError(t, tries.Allowed("owner", home, now.Add(forgetAfter+time.Minute)))
	tries.Failed("owner", home, now.Add(forgetAfter+time.Minute))
	require.NoError(t, tries.Allowed("owner", home, now.Add(forgetAfter+time.Minute)), "it begins anew")
}

func TestMemoryForFailuresIsBounded(t *testing.T) {
	var tries Tries
	for i := range 3 * maxRemembered {
		tries.Failed(fmt.Sprint("nobody", i), netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)}), noon)
	}
	require.LessOrEqual(t, len(tries.failed), maxRemembered+1)
}

func TestPasswordsAreHashedAFewAtOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h := NewHasher()
		var at, most, refused, done atomic.Int64
		for range 64 {
			go func() {
				err := h.Do(context.Background(), func() {
					if n := at.Add(1); n > most.Load() {
						most.Store(n)
					}
					time.Sleep(100 * time.Millisecond)
					at.Add(-1)
				})
				if err != nil {
					require.ErrorIs(t, err, ErrHashing)
					refused.Add(1)
				} else {
					done.Add(1)
				}
			}()
		}
		time.Sleep(hashWait + 10*time.Second)
		synctest.Wait()
		require.Positive(t, most.Load())
		require.LessOrEqual(t, most.Load(), int64(max(1, 64/2)))
		require.EqualValues(t, 64, refused.Load()+done.Load(), "everybody hears something in the end")
		require.GreaterOrEqual(t, done.Load(), int64(hashWait/(100*time.Millisecond))-1)
	})
}

func TestPacesOfKeysThatRestAreForgotten(t *testing.T) {
	p := Paces[string]{Rate: 2}
	of := Pace{What: "updates", PerSecond: 1, Burst: 20}
	for range 60 {
		p.Allow(of, "busy")
	}
	require.False(t, p.Allow(of, "busy"))
	for i := range 2 * maxPace {
		require.True(t, p.Allow(of, fmt.Sprint("key ", i)))
	}
	require.LessOrEqual(t, len(p.keys["updates"]), maxPace)
	require.True(t, p.Allow(Pace{What: "rare", PerSecond: 0.001, Burst: 0.001}, "busy"), "one at least")
}

func TestWhoGivesNoNameKeepsNobodyElseOut(t *testing.T) {
	var tries Tries
	for range 50 {
		tries.Failed("", home, noon)
	}
	require.Error(t, tries.Allowed("", home, noon), "from there")
	require.NoError(t, tries.Allowed("", netip.MustParseAddr("203.0.113.9"), noon))
}

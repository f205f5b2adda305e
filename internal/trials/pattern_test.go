package trials_test

import (
	"context"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
)

// A link that is renumbered each night at ten past three has low TTLs by then, without anybody's plan.
func TestARhythmOfChangesIsLearnedAndMetWithLowTTLs(t *testing.T) {
	t.Parallel()
	var ahead atomic.Int64
	base := time.Now()
	night := time.Date(base.Year(), base.Month(), base.Day(), 3, 10, 0, 0, time.Local)
	clock := func() time.Time { return time.Now().UTC().Add(time.Duration(ahead.Load())) }
	s := start(t, func(o *options) { o.Clock = clock })
	s.Record(t, "KET-07")
	name := "ket-07." + zone
	_, err := s.Client.AddHostname(t.Context(), contract.HostnameInput{Name: name, Site: "KET-07", TTL: 3600})
	require.NoError(t, err)
	r := s.Router(t, "KET-07")
	at := func(when time.Time) { ahead.Store(int64(time.Until(when))) }
	for day := range 8 {
		at(night.AddDate(0, 0, day-8))
		require.NoError(t, r.Announce(t.Context(), "198.51.100."+string(rune('1'+day))))
	}
	ttl := func() uint32 {
		reply, _, err := new(dns.Client).Exchange(new(dns.Msg).SetQuestion(name+".", dns.TypeA), s.DNS)
		if err != nil || len(reply.Answer) == 0 {
			return 0
		}
		return reply.Answer[0].Header().Ttl
	}
	at(night.Add(-12 * time.Hour))
	require.Eventually(t, func() bool { return ttl() == 3600 }, 10*time.Second, 50*time.Millisecond)
	var l contract.Link
	later := -12 * time.Hour
	require.EventuallyWithT(t, func(c *collect) {
		later += 2 * time.Minute // a rhythm that was learned just before the last change is learned anew after a minute
		at(night.Add(later))
		var err error
		l, err = s.Client.Link(context.Background(), "KET-07", "main")
		require.NoError(c, err)
		require.NotNil(c, l.Pattern)
		require.Equal(c, "every day at about 03:10 (8 of 8 times)", l.Pattern.Words)
	}, 10*time.Second, 50*time.Millisecond)
	require.WithinDuration(t, night, l.Pattern.Next, 2*time.Minute)
	require.Greater(t, l.Pattern.Sure, 0.8)

	at(night.Add(-30 * time.Minute))
	require.Eventually(t, func() bool { return ttl() == 10 }, 10*time.Second, 50*time.Millisecond, "low, an hour's TTL ahead")
	at(night)
	require.NoError(t, r.Announce(t.Context(), "198.51.100.99"))
	require.Eventually(t, func() bool { return ttl() == 3600 }, 10*time.Second, 50*time.Millisecond, "the change has come")

	// A guess that does not come true costs nothing: an hour later the TTL is what it was.
	at(night.AddDate(0, 0, 1).Add(-30 * time.Minute))
	require.Eventually(t, func() bool { return ttl() == 10 }, 10*time.Second, 50*time.Millisecond)
	at(night.AddDate(0, 0, 1).Add(2 * time.Hour))
	require.EventuallyWithT(t, func(c *collect) {
		require.Equal(c, uint32(3600), ttl())
		list, err := s.Client.Faults(context.Background(), "KET-07", true)
		require.NoError(c, err)
		require.Empty(c, list)
	}, 10*time.Second, 50*time.Millisecond)
}

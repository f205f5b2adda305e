package daemon_test

import (
	"context"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/lab"
	"inkpost.example/inkpost/internal/testbed"
)

func TestAHostnameSettlesUntilCachesHaveRunOut(t *testing.T) {
	slow, err := lab.NewResolver()
	require.NoError(t, err)
	t.Cleanup(slow.Close)
	s := testbed.Start(t, func(o *options) { o.Resolvers = []string{slow.Addr(), "127.0.0.1:9"} }) // nobody is at the second
	slow.Ask(s.DNS)
	record(t, s, "KET-07")
	agent := enrol(t, s, "KET-07")
	announce(t, agent, "198.51.100.7") // before there is a name: a resolver would keep "no such name" for half a minute
	name := "ket-07." + zone
	_, err = s.Client.AddHostname(t.Context(), contract.HostnameInput{Name: name, Site: "KET-07", TTL: 3})
	require.NoError(t, err)
	resolve := func() string {
		m := new(dns.Msg).SetQuestion(name+".", dns.TypeA)
		r, _, err := new(dns.Client).Exchange(m, slow.Addr())
		if err != nil || len(r.Answer) != 1 {
			return ""
		}
		return r.Answer[0].(*dns.A).A.String()
	}
	state := func() contract.Hostname {
		h, err := s.Client.Hostname(context.Background(), name)
		require.NoError(t, err)
		return h
	}
	require.Eventually(t, func() bool { return resolve() == "198.51.100.7" && state().State == names.StatePointed }, 45*time.Second,
		50*time.Millisecond)

	require.Eventually(t, func() bool { // it is in the cache, and will be for a while
		r, _, err := new(dns.Client).Exchange(new(dns.Msg).SetQuestion(name+".", dns.TypeA), slow.Addr())
		return err == nil && len(r.Answer) == 1 && r.Answer[0].Header().Ttl >= 2
	}, 10*time.Second, 20*time.Millisecond)
	moved := time.Now()
	announce(t, agent, "198.51.100.8")
	require.Equal(t, "198.51.100.7", resolve(), "the cache still holds the old address")
	require.Equal(t, names.StateSettling, state().State)
	require.Eventually(t, func() bool {
		h := state()
		return len(h.Resolvers) == 1 && h.Resolvers[0].Differs && h.Resolvers[0].Server == slow.Addr() &&
			h.Resolvers[0].Given == "198.51.100.7"
	}, 3*time.Second, 20*time.Millisecond, "the resolver that differs is named")
	require.EventuallyWithT(t, func(c *assert) {
		moves, err := s.Client.Moves(context.Background(), contract.MoveQuery{Site: "KET-07", Limit: 1})
		require.NoError(c, err)
		require.False(c, stageOf(moves[0], "seen").At.IsZero())
		require.Equal(c, names.StatePointed, state().State)
	}, 20*time.Second, 50*time.Millisecond)
	moves, err := s.Client.Moves(t.Context(), contract.MoveQuery{Site: "KET-07", Limit: 1})
	require.NoError(t, err)
	after := stageOf(moves[0], "seen").At.Sub(moved)
	require.Greater(t, after, 500*time.Millisecond, "seen is when the cache let go, not when we published")
	require.Less(t, after, 9*time.Second)
}

package store_test

import (
	"context"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/testbed"
)

func connected(t *testing.T, url string) *store.Store {
	t.Helper()
	st, err := store.Connect(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(st.Close)
	return st
}

func TestOneStoreLeadsAndTheOthersAreRefused(t *testing.T) {
	url := testbed.Database(t)
	first, second := connected(t, url), connected(t, url)
	ctx := t.Context()
	held, err := first.Lead(ctx, "first")
	require.NoError(t, err)
	require.NotNil(t, held)
	require.NoError(t, first.Prepare(ctx, "first", morning))
	none, err := second.Lead(ctx, "second")
	require.NoError(t, err)
	require.Nil(t, none, "the lock is taken")
	require.True(t, first.Leads())
	require.False(t, second.Leads())
	add := func(s *store.Store, code string) error {
		return s.Together(ctx, func(tx *store.Store) error {
			_, err := tx.AddSite(ctx, site.Site{Code: code, Name: code})
			return err
		})
	}
	require.NoError(t, add(first, "KET-07"))
	require.ErrorIs(t, add(second, "OYS-03"), store.ErrNotWriter)
	server, since, err := second.Writer(ctx)
	require.NoError(t, err)
	require.Equal(t, "first", server)
	require.WithinDuration(t, time.Now(), since, time.Minute)

	// What was bound to the lease of the first is bound to it for ever.
	bound := first.Now()
	held.Release()
	require.False(t, bound.Leads())
	next, err := second.Lead(ctx, "second")
	require.NoError(t, err)
	require.NotNil(t, next)
	require.Greater(t, next.Epoch, held.Epoch)
	require.NoError(t, add(second, "OYS-03"))
	require.ErrorIs(t, add(first, "BAK-02"), store.ErrNotWriter)
	next.Release()
	first.ForgetLease()
	again, err := first.Lead(ctx, "first")
	require.NoError(t, err)
	require.NotNil(t, again)
	require.NoError(t, add(first, "BAK-02"))
	require.ErrorIs(t, add(bound, "BIR-08"), store.ErrNotWriter, "although the same server leads once more")
	again.Release()
}

func TestALeaseEndsWithItsConnectionAtOnce(t *testing.T) {
	url := testbed.Database(t)
	st := connected(t, url)
	held, err := st.Lead(t.Context(), "first")
	require.NoError(t, err)
	require.NoError(t, st.Prepare(t.Context(), "first", morning))
	began := time.Now()
	_, err = st.Pool().Exec(t.Context(), `SELECT pg_terminate_backend(pid) FROM pg_stat_activity
		WHERE application_name = 'inkpost writer' AND datname = current_database()`)
	require.NoError(t, err)
	select {
	case <-held.Lost():
		require.Less(t, time.Since(began), time.Second)
	case <-time.After(5 * time.Second):
		require.Fail(t, "nobody noticed that the lock is gone")
	}
	require.False(t, st.Leads())
	st.Abandon()
}

func TestOfManyThatAskOneLeads(t *testing.T) {
	url := testbed.Database(t)
	var wg sync.WaitGroup
	leases := make([]*store.Lease, 8)
	for i := range leases {
		st := connected(t, url)
		wg.Go(func() { leases[i], _ = st.Lead(t.Context(), "one of many") })
	}
	wg.Wait()
	leading := 0
	for _, l := range leases {
		if l != nil {
			leading++
			l.Release()
		}
	}
	require.Equal(t, 1, leading)
}

func TestAMemberHearsOfWhatIsWritten(t *testing.T) {
	url := testbed.Database(t)
	writer, member := connected(t, url), connected(t, url)
	held, err := writer.Lead(t.Context(), "writer")
	require.NoError(t, err)
	defer held.Release()
	require.NoError(t, writer.Prepare(t.Context(), "writer", morning))
	ctx, end := context.WithCancel(t.Context())
	heard := make(chan string, 10)
	var wg sync.WaitGroup
	wg.Go(func() { _ = member.Listen(ctx, func(channel string) { heard <- channel }) })
	require.Equal(t, "", <-heard, "first, that it listens: what came before has to be read")
	require.NoError(t, writer.TellMoves(t.Context()))
	require.Equal(t, store.ChannelMoves, <-heard)
	require.NoError(t, writer.Together(t.Context(), func(tx *store.Store) error { return nil }))
	require.Equal(t, store.ChannelRecord, <-heard)
	end()
	wg.Wait()
}

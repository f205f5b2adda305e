package store_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/probe"
)

func TestWhatCannotBeSoIsFound(t *testing.T) {
	f := furnish(t, open(t), "KET")
	ctx := t.Context()
	vantage, err := f.OwnVantage(ctx, "server", true)
	require.NoError(t, err)
	span := func(from, until time.Duration, count, timed int64) ledger.Span {
		return ledger.Span{ServiceID: f.service.ID, VantageID: vantage, Vantage: "server", Outcome: probe.Opened, From: morning.Add(from),
			Until: morning.Add(until), Count: count, Timed: timed, Fastest: 10, Total: 40 * timed, Slowest: 40}
	}
	found := func() (words []string) {
		t.Helper()
		list, kinds, err := f.Contradictions(ctx)
		require.NoError(t, err)
		require.Greater(t, kinds, 10)
		for _, one := range list {
			words = append(words, one.Where+": "+one.What)
		}
		return words
	}
	require.NoError(t, f.PutSpans(ctx, []ledger.Span{span(0, time.Hour, 5, 4), span(2*time.Hour, 3*time.Hour, 1, 1)}))
	require.Empty(t, found())

	require.NoError(t, f.PutSpans(ctx, []ledger.Span{span(30*time.Minute, 40*time.Minute, 1, 1), span(4*time.Hour, 5*time.Hour, 1, 2)}))
	words := found()
	require.Len(t, words, 2, "%v", words)
	require.Contains(t, words[0], "1 probes of which 2 timed")
	require.Contains(t, words[1], "the one before it is until")

	_, err = f.Pool().Exec(context.Background(), `INSERT INTO fault (site_id, key, finding, opened_at, closed_at)
		SELECT id, 'service-stopped recorder', '{}', now(), now() - interval '1 hour' FROM site`)
	require.NoError(t, err)
	words = found()
	require.Len(t, words, 3, "%v", words)
	require.Contains(t, words[2], "fault 1: opened")
	_, err = f.Pool().Exec(context.Background(), `UPDATE link SET ipv4 = '198.51.100.99'`)
	require.NoError(t, err)
	require.Len(t, found(), 3, "a link that never moved is where it is")
	_, err = f.Pool().Exec(context.Background(), `INSERT INTO move (site_id, link_id, old_ipv4, new_ipv4, source, noticed_at, received_at)
		SELECT site_id, id, NULL, '198.51.100.1', 'gateway', now(), now() FROM link`)
	require.NoError(t, err)
	words = found()
	require.Len(t, words, 4, "%v", words)
	require.Contains(t, words[2], "is at 198.51.100.99, and its newest move, 1, went to 198.51.100.1")
}

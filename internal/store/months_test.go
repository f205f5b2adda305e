package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/store"
)

func TestMonthsThatAreOverArePackedAndReadLikeDays(t *testing.T) {
	st := open(t)
	ctx, first := t.Context(), time.Date(2026, 9, 1, 0, 0, 0, 0, time.UTC)
	day := func(id int64, n, bad int) store.ServiceDay {
		d := store.ServiceDay{ServiceID: id, Day: ledger.Day{Start: first.AddDate(0, 0, n)}}
		d.Hours[3] = ledger.Hour{Good: 3000, Bad: uint16(bad)}
		return d
	}
	put := func(list ...store.ServiceDay) {
		t.Helper()
		require.NoError(t, st.EnsurePartitions(ctx, list[0].Start))
		require.NoError(t, st.PutDays(ctx, list))
	}
	for id := int64(1); id <= 3; id++ {
		for n := range 35 { // September, and some of October
			put(day(id, n, int(id)))
		}
	}
	days := func(from time.Time) map[int64][]ledger.Day {
		t.Helper()
		out, err := st.Days(ctx, []int64{1, 2, 3, 4}, from)
		require.NoError(t, err)
		return out
	}
	before, later := days(first), days(first.AddDate(0, 0, 20))
	require.Len(t, before[2], 35)
	require.Len(t, later[2], 15)

	packed, err := st.PackMonths(ctx, time.Date(2026, 10, 2, 0, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	require.Empty(t, packed, "days may still be late")
	packed, err = st.PackMonths(ctx, time.Date(2026, 10, 5, 0, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	require.Equal(t, []string{"2026-09"}, packed)
	require.Equal(t, before, days(first))
	require.Equal(t, later, days(first.AddDate(0, 0, 20)))
	packed, err = st.PackMonths(ctx, time.Date(2026, 10, 5, 0, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	require.Empty(t, packed, "once")

	// One that is very late counts, and is packed with the others.
	put(day(2, 7, 600), day(4, 7, 600))
	require.Equal(t, uint16(600), days(first)[2][7].Hours[3].Bad)
	packed, err = st.PackMonths(ctx, time.Date(2026, 10, 6, 0, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	require.Equal(t, []string{"2026-09"}, packed)
	after := days(first)
	require.Equal(t, uint16(600), after[2][7].Hours[3].Bad)
	require.Len(t, after[2], 35)
	require.Len(t, after[4], 1)
	require.Equal(t, before[1], after[1])

	require.NoError(t, st.CopyHistory(ctx, 1, []int64{9}))
	copied, err := st.Days(ctx, []int64{9}, first)
	require.NoError(t, err)
	require.Equal(t, before[1], copied[9])

	_, err = st.DropOldPartitions(ctx, first.AddDate(4, 0, 0))
	require.NoError(t, err)
	require.Empty(t, days(first), "what is older than is kept goes")
}

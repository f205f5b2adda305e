package store_test

import (
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/testbed"
)

// TestATableThatGrewIsNotReadWhole: statistics say that there is nothing in it, as they do until they are made anew.
func TestATableThatGrewIsNotReadWhole(t *testing.T) {
	url := testbed.Database(t)
	st, err := store.Open(t.Context(), url)
	require.NoError(t, err)
	defer st.Close()
	db, err := pgx.Connect(t.Context(), url)
	require.NoError(t, err)
	defer db.Close(t.Context())
	_, err = db.Exec(t.Context(), `ANALYZE`)
	require.NoError(t, err)

	const many = 200
	for range many {
		act := store.Act{Person: "ida", Kind: "edit", Words: "words"}
		act.At.Time = morning
		id, err := st.BeginAct(t.Context(), act)
		require.NoError(t, err)
		require.NoError(t, st.EndAct(t.Context(), store.Act{ID: id, Status: 200}))
	}
	st.Close() // its connections count what they read when they end
	var whole, byIndex int
	require.Eventually(t, func() bool {
		err := db.QueryRow(t.Context(), `SELECT seq_tup_read, idx_scan FROM pg_stat_user_tables WHERE relname = 'audit'`).Scan(&whole,
			&byIndex)
		return err == nil && byIndex+whole >= many
	}, 10*time.Second, 20*time.Millisecond)
	require.Less(t, whole, many, "of %d rows", many)
}

package store_test

import (
	"database/sql"
	"os"
	"testing"

	_ "github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/testbed"
)

// What was written under each older schema is still read: from the first one on, and from the last before columns were renamed.
func TestAnOlderDatabaseIsBroughtUpToDate(t *testing.T) {
	ctx, url := t.Context(), testbed.EmptyDatabase(t)
	db, err := sql.Open("pgx", url)
	require.NoError(t, err)
	defer db.Close()
	old, err := goose.NewProvider(goose.DialectPostgres, db, os.DirFS("migrations"))
	require.NoError(t, err)
	to := func(version int64, statements ...string) {
		_, err := old.UpTo(ctx, version)
		require.NoError(t, err)
		for _, one := range statements {
			_, err := db.ExecContext(ctx, one)
			require.NoError(t, err, one)
		}
	}
	to(1, `INSERT INTO person (name, password_hash) VALUES ('owner', 'x')`,
		`INSERT INTO site (code, name, note) VALUES ('KET-07', 'Lighthouse Museum', 'key at the cottage')`,
		`INSERT INTO link (site_id, label, mode, position, ipv4) VALUES (1, 'main', 'dynamic', 1, '198.51.100.7')`,
		`INSERT INTO access_key (hash, scope, label, link_id) VALUES ('k', 'agent', 'agent', 1)`,
		`INSERT INTO zone (apex, contact, serial, refresh, retry, expire, negative, ttl, servers)
			VALUES ('isles.example', 'h.example', 7, 1, 1, 1, 1, 60, '[]')`,
		`INSERT INTO hostname (zone_id, site_id, name, ttl) VALUES (1, 1, 'ket-07.isles.example', 60)`,
		`INSERT INTO device (site_id, name, address) VALUES (1, 'recorder', '192.168.7.20')`,
		`INSERT INTO service (site_id, device_id, name, kind, transport, external_from, external_to, internal_from, expected, interval_s)
			VALUES (1, 1, 'page', 'https', 'tcp', 8443, 8443, 443, 'reachable', 60)`,
		`INSERT INTO move (site_id, link_id, old_ipv4, new_ipv4, source, noticed_at, received_at)
			VALUES (1, 1, '198.51.100.1', '198.51.100.7', 'observed', now(), now())`)
	to(15, `UPDATE hostname SET kept_by = 'operator', kept_ipv4 = '198.51.100.7'`, `UPDATE access_key SET turn = true`,
		`UPDATE link SET standing = '{"nat": "direct"}'`)

	st, err := store.Open(ctx, url)
	require.NoError(t, err)
	defer st.Close()
	s, err := st.Site(ctx, "KET-07")
	require.NoError(t, err)
	require.Equal(t, "key at the cottage", s.Note)
	hostnames, err := st.Hostnames(ctx, s.ID)
	require.NoError(t, err)
	require.Equal(t, "198.51.100.7", hostnames[0].Hold.IPv4.String())
	require.Equal(t, site.HoldByOperator, hostnames[0].HoldBy)
	services, err := st.Services(ctx, s.ID)
	require.NoError(t, err)
	require.Equal(t, 443, services[0].InternalFrom)
	keys, err := st.KeysOf(ctx, s.ID)
	require.NoError(t, err)
	require.True(t, keys[0].Rotate)
	reports, err := st.LinkReports(ctx)
	require.NoError(t, err)
	require.JSONEq(t, `{"nat": "direct"}`, string(reports[1]))
	moves, err := st.Moves(ctx, store.MoveFilter{Limit: 10})
	require.NoError(t, err)
	require.Equal(t, "198.51.100.7", moves[0].New.String())
}

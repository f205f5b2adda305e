package store_test

import (
	"context"
	"net/netip"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/testbed"
)

var removal = store.Removal{Person: "bryn", At: morning, Until: morning.Add(30 * 24 * time.Hour)}

// everyRow is each row of each table of the record, as JSON, by table. Serials go on rising, and removals are not the record.
func everyRow(t *testing.T, database string) map[string][]string {
	t.Helper()
	ctx := t.Context()
	db, err := pgx.Connect(ctx, database)
	require.NoError(t, err)
	defer db.Close(context.Background())
	rows, err := db.Query(ctx, `SELECT relname FROM pg_class WHERE relkind IN ('r', 'p') AND NOT relispartition AND relnamespace =
		'public'::regnamespace
		AND relname NOT LIKE 'river%' AND relname NOT IN ('zone', 'removed', 'removed_row', 'goose_db_version')`)
	require.NoError(t, err)
	tables, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	require.Greater(t, len(tables), 20)
	out := map[string][]string{}
	for _, table := range tables {
		rows, err := db.Query(ctx, `SELECT to_jsonb(t)::text FROM `+table+` t ORDER BY 1`)
		require.NoError(t, err)
		out[table], err = pgx.CollectRows(rows, pgx.RowTo[string])
		require.NoError(t, err)
	}
	return out
}

// last is the newest removal.
func last(t *testing.T, st *store.Store) store.Removed {
	t.Helper()
	list, err := st.RemovedAt(t.Context(), morning)
	require.NoError(t, err)
	require.NotEmpty(t, list)
	return list[0]
}

func TestWhatWasRemovedComesBackAsItWas(t *testing.T) {
	database := testbed.Database(t)
	st, err := store.Open(t.Context(), database)
	require.NoError(t, err)
	t.Cleanup(st.Close)
	f := furnish(t, st, "KET")
	furnish(t, st, "OYS")
	ctx := t.Context()
	require.NoError(t, st.AddAlias(ctx, site.Alias{ZoneID: f.zone.ID, HostnameID: f.host.ID, Name: "old.isles.example", TTL: 30}))
	g := store.Group{Changes: []store.Change{{ID: 1, SiteID: f.site.ID, LinkID: f.link.ID, Source: wan.SourceObserved, Noticed: morning,
		New: wan.PairOf(netip.MustParseAddr("198.51.100.7")), Received: morning}}}
	require.NoError(t, st.Accept(ctx, g))
	require.NoError(t, st.Settle(ctx, g, nil))
	db, err := pgx.Connect(ctx, database)
	require.NoError(t, err)
	defer db.Close(context.Background())
	for _, statement := range []string{
		`INSERT INTO site_photo (site_id, at, person, caption, kind, width, height, image)
			VALUES ($1, now(), 'bryn', 'the rack', 'image/png', 1, 1, '\x89504e47')`,
		`INSERT INTO fault (site_id, key, finding, opened_at) VALUES ($1, 'k', '{"cause": "site-dark"}', now())`,
		`INSERT INTO commissioning (site_id, began_at, began_by) VALUES ($1, now(), 'bryn')`,
	} {
		_, err := db.Exec(ctx, statement, f.site.ID)
		require.NoError(t, err, statement)
	}
	full := everyRow(t, database)

	zone, err := st.Zone(ctx, "isles.example")
	require.NoError(t, err)
	_, err = st.RemoveSite(ctx, f.site, removal)
	require.NoError(t, err)
	r := last(t, st)
	require.Equal(t, store.Removed{ID: r.ID, Kind: "site", Ref: f.site.ID, Name: "KET", Site: "KET", Tags: []string{}, Person: "bryn",
		At:    removal.At,
		Until: removal.Until}, r)
	require.NotEqual(t, full, everyRow(t, database))
	_, err = st.Restore(ctx, r.ID, removal.Until)
	require.ErrorAs(t, err, &store.Missing{}, "a day too late")
	_, err = st.Restore(ctx, r.ID, morning)
	require.NoError(t, err)
	require.Equal(t, full, everyRow(t, database))
	again, err := st.Zone(ctx, "isles.example")
	require.NoError(t, err)
	require.Equal(t, zone.Serial+2, again.Serial, "names left the zone, and came back")
	_, err = st.Restore(ctx, r.ID, morning)
	require.ErrorAs(t, err, &store.Missing{}, "once")

	// A part of a site that was removed before goes and comes back with the site.
	require.NoError(t, st.RemoveService(ctx, f.service, removal))
	service := last(t, st)
	require.NoError(t, st.RemoveDevice(ctx, f.device, removal))
	device := last(t, st)
	_, err = st.RemoveSite(ctx, f.site, removal)
	require.NoError(t, err)
	_, err = st.Restore(ctx, service.ID, morning)
	require.ErrorAs(t, err, &store.Missing{})
	_, err = st.Restore(ctx, last(t, st).ID, morning)
	require.NoError(t, err)
	var without store.Without
	_, err = st.Restore(ctx, service.ID, morning)
	require.ErrorAs(t, err, &without)
	require.Equal(t, store.Without{Kind: "service", Name: "page", Needs: "device", Named: "recorder", Removed: device.ID}, without)
	for _, id := range []int64{device.ID, service.ID} {
		_, err = st.Restore(ctx, id, morning)
		require.NoError(t, err)
	}
	require.Equal(t, full, everyRow(t, database))

	_, err = st.RemoveHostname(ctx, f.host, removal)
	require.NoError(t, err)
	_, err = st.Restore(ctx, last(t, st).ID, morning)
	require.NoError(t, err)
	require.Equal(t, full, everyRow(t, database), "with its alias")
}

func TestWhatWasRemovedDoesNotPushOthersAside(t *testing.T) {
	st := open(t)
	f := furnish(t, st, "KET")
	ctx := t.Context()
	require.NoError(t, st.RemoveService(ctx, f.service, removal))
	first := last(t, st)
	other := f.service
	other.ID, other.Name = 0, "door"
	_, err := st.PutService(ctx, other)
	require.NoError(t, err)
	_, err = st.Restore(ctx, first.ID, morning)
	var flaws site.Flaws
	require.ErrorAs(t, err, &flaws, "its port is somebody else's")
	list, err := st.Services(ctx, f.site.ID)
	require.NoError(t, err)
	require.Len(t, list, 1, "nothing was done")

	require.NoError(t, st.RemoveService(ctx, list[0], removal))
	_, err = st.PutService(ctx, site.Service{SiteID: f.site.ID, DeviceID: f.device.ID, Name: "page", Kind: probe.KindTCP,
		Transport:    probe.TCP,
		ExternalFrom: 9000, ExternalTo: 9000, InternalFrom: 443, Expected: probe.ExpectReachable, Interval: 60})
	require.NoError(t, err)
	var taken store.Taken
	_, err = st.Restore(ctx, first.ID, morning)
	require.ErrorAs(t, err, &taken)
	require.Equal(t, store.Taken{Kind: "service", Field: "name", Name: "page"}, taken)

	_, err = st.RemoveSite(ctx, f.site, removal)
	require.NoError(t, err)
	second := furnish(t, st, "KEE")
	_, _, err = st.PutHostname(ctx, site.Hostname{ZoneID: second.zone.ID, SiteID: second.site.ID, Name: f.host.Name, TTL: 30})
	require.NoError(t, err)
	_, err = st.Restore(ctx, last(t, st).ID, morning)
	require.ErrorAs(t, err, &taken)
	require.Equal(t, "hostname", taken.Kind)
	require.Equal(t, string(f.host.Name), taken.Name)

	n, err := st.ForgetRemoved(ctx, removal.Until)
	require.NoError(t, err)
	require.EqualValues(t, 1, n, "the site, with what was removed of it")
}

// Package stocked makes databases of the service with many sites on record, written into them directly: through the API that would take
// longer than what is measured.
package stocked

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/store/cluster"
)

// Policy lets the loopback addresses of the sites stand for public ones.
var Policy = wan.Policy{StandIns: []netip.Prefix{netip.MustParsePrefix("127.64.0.0/10")}}

// Sites are statements that record n sites, each with a static link main at an address of Policy and a device box. Codes are S1-1, S2-1
// and so on.
func Sites(n int) []string {
	return []string{
		fmt.Sprintf(`INSERT INTO site (code, name) SELECT 'S' || g || '-1', 'Site ' || g FROM generate_series(1, %d) g`, n),
		`INSERT INTO link (site_id, label, mode, position, ipv4, since_at, heard_at)
			SELECT id, 'main', 'static', 1, '127.64.0.1'::inet + id, now(), now() FROM site`,
		`INSERT INTO device (site_id, name, address, reserved) SELECT id, 'box', '192.168.7.20', true FROM site`}
}

// Services is a statement that gives each device n services, on ports from first, that are probed once in so many seconds.
func Services(n, first, seconds int, expected probe.Expected) string {
	return fmt.Sprintf(`INSERT INTO service (site_id, device_id, name, kind, transport, external_from, external_to, internal_from, expected,
		interval_s) SELECT d.site_id, d.id, 'service-' || g, 'tcp', 'tcp', %[1]d + g, %[1]d + g, %[1]d + g, '%[4]s', %[2]d
			FROM device d, generate_series(0, %[3]d) g`, first, seconds, n-1, expected)
}

// Database makes a database in a cluster, runs statements on it and returns its URL. Error: that of the database.
func Database(ctx context.Context, c *cluster.Cluster, name string, statements ...string) (string, error) {
	url, err := c.NewDatabase(ctx, name)
	if err != nil {
		return "", err
	}
	st, err := store.Open(ctx, url) // brings the schema up to date
	if err != nil {
		return "", err
	}
	st.Close()
	db, err := pgx.Connect(ctx, url)
	if err != nil {
		return "", err
	}
	defer db.Close(ctx)
	for _, s := range append(slices.Clone(statements), `ANALYZE`) {
		if _, err := db.Exec(ctx, s); err != nil {
			return "", fmt.Errorf("%s: %w", strings.Join(strings.Fields(s)[:3], " "), err)
		}
	}
	return url, nil
}

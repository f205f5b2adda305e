// Keeping writes a year of two thousand services through the real ledger, and prints what a service costs a year on
// disk and how long the pages that show it take.
package main

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"inkpost.example/inkpost/bench/figures"
	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/daemon"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/store/cluster"
)

const (
	perSite = 10
	every   = 5 * time.Minute // between the simulated probes: what is kept does not depend on it
	flushes = 6               // a day: how often the day under way is written, as the service does
)

func main() {
	services := flag.Int("services", 2000, "how many services")
	days := flag.Int("days", 365, "how many days")
	flag.Parse()
	if err := run(*services, *days); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(services, days int) error {
	ctx := context.Background()
	dir, err := os.MkdirTemp("", "inkpost-keeping-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	c, err := cluster.Start(ctx, cluster.Options{Dir: dir, Fast: true})
	if err != nil {
		return err
	}
	defer c.Stop()
	url := c.URL("inkpost")
	st, err := store.Open(ctx, url)
	if err != nil {
		return err
	}
	db, err := pgx.Connect(ctx, url)
	if err != nil {
		return err
	}
	defer db.Close(ctx)
	for _, statement := range []string{
		fmt.Sprintf(`INSERT INTO site (code, name) SELECT 'S' || g, 'Site ' || g FROM generate_series(1, %d) g`, services/perSite),
		`INSERT INTO link (site_id, label, mode, position, ipv4, since_at, heard_at)
			SELECT id, 'main', 'static', 1, '127.64.0.1'::inet + id, now(), now() FROM site`,
		`INSERT INTO device (site_id, name, address, reserved) SELECT id, 'box', '192.168.7.20', true FROM site`,
		fmt.Sprintf(`INSERT INTO service (site_id, device_id, name, kind, transport, external_from, external_to, internal_from,
			expected, interval_s)
			SELECT d.site_id, d.id, 'service-' || g, 'tcp', 'tcp', 22000 + g, 22000 + g, 22000 + g, 'reachable', 86400
				FROM device d, generate_series(0, %d) g`, perSite-1),
	} {
		if _, err := db.Exec(ctx, statement); err != nil {
			return err
		}
	}
	vantage, err := st.OwnVantage(ctx, "server", true)
	if err != nil {
		return err
	}
	ids, err := st.Services(ctx, 0)
	if err != nil {
		return err
	}
	end := time.Now().UTC().Truncate(24 * time.Hour)
	empty, err := size(ctx, db)
	if err != nil {
		return err
	}
	// Steady: one short failure a month. Restless, further services of a tenth of the number: four a day.
	began := time.Now()
	var steady []int64
	for _, s := range ids {
		steady = append(steady, s.ID)
	}
	if err := keep(ctx, st, vantage, steady, end, days, 1.0/30, true); err != nil {
		return err
	}
	if _, err := st.PackMonths(ctx, end); err != nil { // as the service does each day
		return err
	}
	full, err := size(ctx, db)
	if err != nil {
		return err
	}
	if err := tables(ctx, db, services); err != nil {
		return err
	}
	year := func(bytes int64, n int) float64 { return float64(bytes) / float64(n) / float64(days) * 365 / 1000 }
	fmt.Printf("%d steady services, %d days, written in %.0f s: %.1f MB, %.1f kB a service and year (goal 30)\n", services, days,
		time.Since(began).Seconds(), float64(full-empty)/1e6, year(full-empty, services))
	figures.AtMost("history", "a steady service and year in the database", year(full-empty, services), "kB", 30, "")
	var restless []int64
	for i := range services / 10 {
		restless = append(restless, int64(1<<40+i))
	}
	if err := keep(ctx, st, vantage, restless, end, days, 4, false); err != nil {
		return err
	}
	if _, err := st.PackMonths(ctx, end); err != nil {
		return err
	}
	more, err := size(ctx, db)
	if err != nil {
		return err
	}
	fmt.Printf("%d restless ones, four failures a day: %.1f kB a service and year\n", len(restless), year(more-full, len(restless)))
	figures.Plain("history", "a service that fails four times a day, and year", year(more-full, len(restless)), "kB", "")
	if _, err := db.Exec(ctx, `ANALYZE`); err != nil {
		return err
	}
	st.Close() // it holds the lock of whoever writes
	return pages(ctx, url, services/perSite)
}

// tables prints what each table of the ledger takes of a service.
func tables(ctx context.Context, db *pgx.Conn, services int) error {
	rows, err := db.Query(ctx, `SELECT relname, pg_total_relation_size(c.oid) FROM pg_class c WHERE relkind = 'r'
		AND (relname LIKE 'span%' OR relname LIKE 'rollup%') ORDER BY 2 DESC LIMIT 10`)
	if err != nil {
		return err
	}
	fmt.Println()
	for rows.Next() {
		var name string
		var n int64
		if err := rows.Scan(&name, &n); err != nil {
			return err
		}
		fmt.Printf("%-20s %6.2f kB a service\n", name, float64(n)/1000/float64(services))
	}
	return rows.Err()
}

// size of the ledger's tables with their indexes, in octets.
func size(ctx context.Context, db *pgx.Conn) (n int64, err error) {
	err = db.QueryRow(ctx, `SELECT sum(pg_total_relation_size(relid)) FROM (SELECT relid FROM pg_partition_tree('span') UNION ALL
		SELECT relid FROM pg_partition_tree('rollup') UNION ALL SELECT 'rollup_today'::regclass
		UNION ALL SELECT 'rollup_month'::regclass) t`).Scan(&n)
	return n, err
}

// keep runs every probe of the days through the ledger. failures is how many a service has a day, of 5 to 30 minutes each.
func keep(ctx context.Context, st *store.Store, vantage int64, ids []int64, end time.Time, days int, failures float64, show bool) error {
	type one struct {
		span  ledger.Span
		day   ledger.Day
		bad   int // probes that still fail
		until time.Time
	}
	r := rand.New(rand.NewPCG(1, 2))
	all := make([]one, len(ids))
	perDay := int(24 * time.Hour / every)
	for d := range days {
		start := end.AddDate(0, 0, d-days)
		if start.Day() == 1 || d == 0 {
			if err := st.EnsurePartitions(ctx, start); err != nil {
				return err
			}
		}
		var ended []ledger.Span
		for n := range perDay {
			at := start.Add(time.Duration(n) * every)
			for i := range all {
				o := &all[i]
				if o.day.Start.IsZero() || n == 0 {
					o.day = ledger.Day{Start: start}
				}
				if o.bad == 0 && r.Float64() < failures/float64(perDay) {
					o.bad = 1 + r.IntN(6)
				}
				result := ledger.Result{ServiceID: ids[i], VantageID: vantage, Outcome: probe.Answered, At: at,
					Latency: time.Duration(8000+2000*r.ExpFloat64()) * time.Microsecond}
				state := probe.StateReachable
				if o.bad > 0 {
					o.bad--
					result.Outcome, result.Latency, state = probe.Silent, 0, probe.StateUnreachable
				}
				if !o.until.IsZero() {
					o.day.Account(probe.ExpectReachable, state, o.until, at)
				}
				o.until = at
				if result.Latency > 0 {
					o.day.Latency.Add(result.Latency)
				}
				next, fresh := ledger.Fold(o.span, result, ledger.Gap(every))
				if fresh && o.span.Count > 0 {
					ended = append(ended, o.span)
				}
				o.span = next
			}
			if (n+1)%(perDay/flushes) != 0 {
				continue
			}
			var rows []store.ServiceDay
			for i := range all {
				rows = append(rows, store.ServiceDay{ServiceID: ids[i], Day: all[i].day})
				ended = append(ended, all[i].span)
			}
			put := st.PutToday
			if n+1 == perDay {
				put = st.PutDays
			}
			for part := range slices.Chunk(rows, 5000) {
				if err := put(ctx, part); err != nil {
					return err
				}
			}
			for part := range slices.Chunk(ended, 5000) {
				if err := st.PutSpans(ctx, part); err != nil {
					return err
				}
			}
			ended = ended[:0]
		}
		if show && (d+1)%30 == 0 {
			fmt.Printf("%3d of %d days\n", d+1, days)
		}
	}
	return nil
}

// pages asks the service for what its pages show of random sites.
func pages(ctx context.Context, url string, sites int) error {
	d, err := daemon.Start(ctx, daemon.Options{Database: url, HTTP: "127.0.0.1:0", DNS: "127.0.0.1:0",
		Policy: wan.Policy{StandIns: []netip.Prefix{netip.MustParsePrefix("127.64.0.0/10")}}})
	if err != nil {
		return err
	}
	defer d.Stop()
	if _, err := d.Engine().Access.EnsureOwner(ctx, "owner"); err != nil {
		return err
	}
	p, err := d.Store().PersonNamed(ctx, "owner")
	if err != nil {
		return err
	}
	key, err := d.Engine().AddKey(ctx, p.ID, p.Name, contract.KeyInput{Label: "bench"})
	if err != nil {
		return err
	}
	api, err := client.New(d.URL, key.Secret)
	if err != nil {
		return err
	}
	r := rand.New(rand.NewPCG(3, 4))
	for _, page := range []struct {
		name string
		ask  func(code, service string) error
	}{
		{"a service's spans over 90 days", func(code, service string) error {
			_, err := api.History(ctx, code, service, time.Now().AddDate(0, 0, -90), time.Time{})
			return err
		}},
		{"a service's availability over a year", func(code, service string) error {
			_,
				err := api.Availability(ctx, code, service)
			return err
		}},
		{"the availability of a site's ten services", func(code, _ string) error { _, err := api.Availability(ctx, code, ""); return err }},
		{"a site with everything on its record", func(code, _ string) error { _, err := api.Site(ctx, code); return err }},
	} {
		var took []time.Duration
		for range 300 {
			began := time.Now()
			if err := page.ask(fmt.Sprintf("S%d", 1+r.IntN(sites)), fmt.Sprintf("service-%d", r.IntN(perSite))); err != nil {
				return err
			}
			took = append(took, time.Since(began))
		}
		slices.Sort(took)
		median, p99 := figures.Quantile(took, 0.5).Seconds()*1000, figures.Quantile(took, 0.99).Seconds()*1000
		figures.AtMost("history", page.name+", p99", p99, "ms", 50, "")
		fmt.Printf("%-45s median %5.1f ms, p99 %5.1f ms (goal 50)\n", page.name, median, p99)
	}
	return nil
}

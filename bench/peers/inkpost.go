package main

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/daemon"
	"inkpost.example/inkpost/internal/store/cluster"
)

// ours is Ink Post with a PostgreSQL of its own, which waits for the disk.
type ours struct {
	*daemon.Daemon
	cluster *cluster.Cluster
	port    int
	links   []int64
}

// inkpost runs the service in this process with a zone of n names, each of a link of its own. With together, all are of one
// site, so that one TSIG key may update them; else each has a site of its own.
func (r rig) inkpost(n int, together bool) (*ours, error) {
	dir := filepath.Join(r.dir, "inkpost"+fmt.Sprint(time.Now().UnixNano()))
	if err := os.MkdirAll(dir, 0o777); err != nil {
		return nil, err
	}
	c, err := cluster.Start(r.ctx, cluster.Options{Dir: dir})
	if err != nil {
		return nil, err
	}
	d, err := daemon.Start(r.ctx, daemon.Options{KeyRate: 1e6, Database: c.URL("inkpost"), HTTP: "127.0.0.1:0", DNS: "127.0.0.1:0",
		VerifyEvery: time.Hour,
		Policy:      wan.Policy{StandIns: anywhere},
		Log:         slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}))})
	if err != nil {
		c.Stop()
		return nil, err
	}
	o := &ours{Daemon: d, cluster: c}
	if err := o.stock(r.ctx, n, together); err != nil {
		o.stop()
		return nil, err
	}
	_, port, err := net.SplitHostPort(d.DNS)
	if err == nil {
		o.port, err = strconv.Atoi(port)
	}
	return o, err
}

func (o *ours) stop() {
	o.Stop()
	o.cluster.Stop()
}

func (o *ours) stock(ctx context.Context, n int, together bool) error {
	if _, err := o.Engine().AddZone(ctx, contract.ZoneInput{Apex: apex, Servers: []string{"ns1.elsewhere.example"}}); err != nil {
		return err
	}
	if _, err := o.Engine().AddSite(ctx, contract.SiteInput{Code: "BEN-01", Name: "Bench"}); err != nil {
		return err
	}
	if _, err := o.Engine().AddSigningKey(ctx, contract.SigningKeyInput{Name: keyName, Secret: keySecret, Site: "BEN-01",
		MayAnnounce: anywhere}); err != nil {
		return err
	}
	for _, statement := range []string{
		`INSERT INTO site (code, name) SELECT 'B-' || i, 'Bench' FROM generate_series(1, $1::int - 1) i WHERE NOT $2`,
		`INSERT INTO link (site_id, label, mode, position, ipv4, source, since_at)
			SELECT (SELECT min(id) FROM site) + CASE WHEN $2 THEN 0
				ELSE i END, 'l' || i, 'dynamic', i + 1, ('198.51.100.' || i % 250 + 1)::inet, 'interface', now() - interval '1 day'
			FROM generate_series(0, $1::int - 1) i`,
		`INSERT INTO hostname (zone_id, site_id, link_id, name, ttl) SELECT (SELECT id
			FROM zone), site_id, id, 'site-' || substr(label, 2) || '.` + apex + `', 30
			FROM link WHERE $1::int > 0 AND $2::boolean IS NOT NULL`,
	} {
		if _, err := o.Store().Pool().Exec(ctx, statement, n, together); err != nil {
			return err
		}
	}
	links, err := o.Store().Links(ctx, 0)
	if err != nil {
		return err
	}
	for _, l := range links {
		o.links = append(o.links, l.ID)
	}
	return o.Engine().Reload(ctx)
}

// move has addresses change so many times a second until ctx ends, spread over all links.
func (o *ours) move(ctx context.Context, aSecond int) (moved func() int) {
	done := make(chan int, 1)
	go func() {
		tick := time.NewTicker(10 * time.Millisecond)
		defer tick.Stop()
		count, began := 0, time.Now()
		results := make(chan error, aSecond)
		for {
			select {
			case <-tick.C:
				for due := int(time.Since(began).Seconds() * float64(aSecond)); count < due; {
					i := count
					count++
					go func() {
						_, err := o.Engine().Announce(ctx, o.links[i%len(o.links)],
							wan.Announcement{Source: wan.SourceGateway, Noticed: time.Now(),
								Addresses: wan.PairOf(netip.AddrFrom4([4]byte{198, 51, 100, byte(1 + (i+i/len(o.links)*7+3)%250)}))})
						results <- err
					}()
				}
			case err := <-results:
				if err != nil && ctx.Err() == nil {
					fmt.Fprintln(os.Stderr, "a move failed:", err)
				}
			case <-ctx.Done():
				done <- count
				return
			}
		}
	}()
	return func() int { return <-done }
}

// ticks returns the processor time of this process: server, moves and the database's client side.
func ticks() spent {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return spent{time.Duration(u.Utime.Nano() + u.Stime.Nano()).Seconds(), time.Duration(u.Stime.Nano()).Seconds()}
}

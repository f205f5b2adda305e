package bench

import (
	"context"
	"fmt"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"inkpost.example/inkpost/bench/figures"
	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/store/cluster"
	"inkpost.example/inkpost/internal/testbed"
)

// alone is a server on a durable database, as a process of its own.
func alone(b *testing.B, flags ...string) (*testbed.Process, *testbed.Service) {
	b.Helper()
	dir, err := os.MkdirTemp("", "inkpost-bench-") // not b.TempDir: the database's user may not enter that
	require.NoError(b, err)
	b.Cleanup(func() { _ = os.RemoveAll(dir) })
	c, err := cluster.Start(b.Context(), cluster.Options{Dir: dir})
	require.NoError(b, err)
	b.Cleanup(c.Stop)
	p := testbed.Launch(b, c.URL("inkpost"), append([]string{"--lab-public", "127.96.0.0/11"}, flags...)...)
	owner, key := p.Owner(b)
	return p, &testbed.Service{Client: owner, Key: key}
}

// recorded puts sites with a link, a hostname and a service on record, a few at once, and returns their routers.
func recorded(b *testing.B, s *testbed.Service, n, port int) []testbed.Router {
	b.Helper()
	s.Record(b, "FIRST-1") // with the zone
	out := make([]testbed.Router, n)
	var g errgroup.Group
	g.SetLimit(8)
	for i := range n {
		g.Go(func() error {
			ctx, code := b.Context(), fmt.Sprintf("SITE-%d", i)
			if _, err := s.Client.AddSite(ctx, contract.SiteInput{Code: code, Name: code}); err != nil {
				return err
			}
			if _, err := s.Client.AddLink(ctx, code, contract.LinkInput{Label: "main"}); err != nil {
				return err
			}
			if _, err := s.Client.AddHostname(ctx, contract.HostnameInput{Name: nameOf(i), Site: code}); err != nil {
				return err
			}
			if _, err := s.Client.AddDevice(ctx, code, contract.DeviceInput{Name: "box", Address: "192.168.7.20"}); err != nil {
				return err
			}
			if _, err := s.Client.AddService(ctx, code, contract.ServiceInput{Name: "page", Device: "box", Kind: "tcp",
				External: fmt.Sprint(port), Interval: 60}); err != nil {
				return err
			}
			r, err := testbed.NewRouter(ctx, s.Client, code, "main")
			out[i] = r
			return err
		})
	}
	require.NoError(b, g.Wait())
	return out
}

func nameOf(site int) string { return fmt.Sprintf("site-%d.%s", site, testbed.Zone) }

// at is an address of a site: each has a few, all of which answer.
func at(site, round int) string {
	return fmt.Sprintf("127.%d.%d.%d", 100+round, site/250, 1+site%250)
}

// answering accepts connections at every loopback address.
func answering(b *testing.B) (port int) {
	b.Helper()
	l, err := net.Listen("tcp4", "0.0.0.0:0")
	require.NoError(b, err)
	b.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				_, _ = c.Read(make([]byte, 1))
				_ = c.Close()
			}()
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}

// BenchmarkMoves measures moves end to end, at several rates: from the router's announcement until it is acknowledged, answered here,
// answered by a standard secondary, and until the service is seen at the new address.
func BenchmarkMoves(b *testing.B) {
	const sites = 1000
	port := answering(b)
	p, s := alone(b)
	routers := recorded(b, s, sites, port)
	key, err := s.Client.AddSigningKey(b.Context(), contract.SigningKeyInput{Name: "transfer.saltmarsh.example"})
	require.NoError(b, err)
	_, dns, err := net.SplitHostPort(p.DNS)
	require.NoError(b, err)
	primary, err := strconv.Atoi(dns)
	require.NoError(b, err)
	nsd := testbed.StartNSD(b, testbed.Secondary{Zone: testbed.Zone, Primary: primary, Key: key.Name, Secret: key.Secret,
		Listen: testbed.FreePort(b)})
	z, err := s.Client.EditZone(b.Context(), testbed.Zone, client.Fields{"transfer_key": key.Name, "notify": []string{nsd.Addr()}})
	require.NoError(b, err)
	require.Eventually(b, func() bool { return testbed.Serial(nsd.Addr(), testbed.Zone) == z.Serial }, 30*time.Second, 50*time.Millisecond)

	// Each site moves a few times in all: one that moves all the time is damped.
	round := make([]int, sites)
	next := 0
	for _, rate := range []struct{ aSecond, moves, sampled int }{{1000, 1000, 50}, {1, 10, 10}, {100, 600, 60}, {1000, 1000, 50}} {
		var mu sync.Mutex
		took := map[string][]time.Duration{}
		note := func(what string, began time.Time) {
			mu.Lock()
			defer mu.Unlock()
			took[what] = append(took[what], time.Since(began))
		}
		var wg sync.WaitGroup
		began := time.Now()
		for n := range rate.moves {
			i := next % sites
			next++
			address := at(i, round[i])
			round[i]++
			time.Sleep(time.Until(began.Add(time.Duration(n) * time.Second / time.Duration(rate.aSecond))))
			wg.Go(func() {
				announced := time.Now()
				if err := routers[i].Announce(b.Context(), address); err != nil {
					b.Error(err)
					return
				}
				note("acknowledged", announced)
				if n%(rate.moves/rate.sampled) != 0 {
					return
				}
				for what, server := range map[string]string{"answered": p.DNS, "secondary": nsd.Addr()} {
					wg.Go(func() {
						for testbed.Resolve(server, nameOf(i)) != address && time.Since(announced) < 20*time.Second {
							time.Sleep(2 * time.Millisecond)
						}
						note(what, announced)
					})
				}
			})
		}
		wg.Wait()
		if next == rate.moves {
			continue // the first ones are learnt, not moved
		}
		confirmed := confirmations(b, s.Client, rate.moves)
		for _, what := range []string{"acknowledged", "answered", "secondary"} {
			slices.Sort(took[what])
		}
		took["confirmed"] = confirmed
		for _, x := range []struct {
			what, words string
			goal        float64
		}{{"acknowledged", "acknowledged", 0}, {"answered", "answered here", 0}, {"secondary", "answered by a secondary (NSD)", 100},
			{"confirmed", "its service seen at the new address", 0}} {
			list := took[x.what]
			if len(list) == 0 {
				b.Errorf("nothing %s at %d a second", x.words, rate.aSecond)
				continue
			}
			p50, p99 := ms(figures.Quantile(list, 0.5)), ms(figures.Quantile(list, 0.99))
			b.Logf("%4d moves/s: %-40s median %7.1f ms, 99 %% %7.1f ms (%d)", rate.aSecond, x.words, p50, p99, len(list))
			what := fmt.Sprintf("%d moves/s: %s", rate.aSecond, x.words)
			figures.Plain("moves", what+", median", p50, "ms", "")
			figures.AtMost("moves", what+", 99 %", p99, "ms", x.goal, "")
		}
	}
	b.ReportMetric(0, "ns/op")
}

// confirmations waits until the newest n moves are confirmed, and returns how long that took each, from when they were received.
func confirmations(b *testing.B, c *client.Client, n int) (list []time.Duration) {
	b.Helper()
	require.Eventually(b, func() bool {
		moves, err := c.Moves(context.Background(), contract.MoveQuery{Limit: min(n, 500)})
		if err != nil {
			return false
		}
		list = nil
		for _, m := range moves {
			received, confirmed := m.Stage(contract.StageReceived), m.Stage(contract.StageConfirmed)
			if confirmed.At.IsZero() {
				return false
			}
			list = append(list, confirmed.At.Sub(received.At))
		}
		return true
	}, time.Minute, 200*time.Millisecond, "all moves are confirmed")
	slices.Sort(list)
	return list
}

// BenchmarkImport takes zone files of 50,000 records over; the median counts.
func BenchmarkImport(b *testing.B) {
	const records, rounds = 50_000, 3
	_, s := alone(b)
	var took []float64
	for round := range rounds {
		apex := fmt.Sprintf("large-%d.saltmarsh.example", round)
		var file strings.Builder
		fmt.Fprintf(&file, "$ORIGIN %s.\n$TTL 300\n@ SOA ns1.elsewhere.example. hostmaster.elsewhere.example. 1 3600 300 1209600 300\n"+
			"@ NS ns1.elsewhere.example.\n", apex)
		for i := range records {
			fmt.Fprintf(&file, "host-%d A 198.51.100.%d\n", i, 1+i%250)
		}
		began := time.Now()
		out, err := s.Client.ImportZone(b.Context(), apex, strings.NewReader(file.String()), contract.ZoneImportInput{})
		require.NoError(b, err)
		took = append(took, time.Since(began).Seconds())
		require.GreaterOrEqual(b, len(out.Added), records)
	}
	slices.Sort(took)
	figures.AtMost("import", "import of 50,000 records", took[rounds/2], "s", 3, "")
	b.ReportMetric(took[rounds/2], "s")
	b.ReportMetric(0, "ns/op")
}

package bench

import (
	"context"
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/bench/figures"
	"inkpost.example/inkpost/internal/store/cluster"
	"inkpost.example/inkpost/internal/testbed"
)

// servers are processes on one durable database, the first of which writes, and routers of as many links as ask at once.
func servers(b *testing.B, n, links int) ([]*testbed.Process, []testbed.Router) {
	b.Helper()
	dir, err := os.MkdirTemp("", "inkpost-members-") // not b.TempDir: the database's user may not enter that
	require.NoError(b, err)
	b.Cleanup(func() { _ = os.RemoveAll(dir) })
	c, err := cluster.Start(b.Context(), cluster.Options{Dir: dir})
	require.NoError(b, err)
	b.Cleanup(c.Stop)
	list := []*testbed.Process{testbed.Launch(b, c.URL("inkpost"))}
	owner, _ := list[0].Owner(b)
	for len(list) < n {
		list = append(list, testbed.Launch(b, c.URL("inkpost")))
	}
	return list, routers(b, &testbed.Service{Client: owner}, links)
}

// routers puts links on record, each with a hostname.
func routers(b *testing.B, s *testbed.Service, links int) []testbed.Router {
	b.Helper()
	out := make([]testbed.Router, links)
	for i := range out {
		code := fmt.Sprintf("SITE-%d", i)
		s.Record(b, code)
		s.Name(b, code)
		out[i] = s.Router(b, code)
	}
	return out
}

// BenchmarkMembers measures what several servers on one database give: announcements that are spread over them, what passing on costs, how
// soon a move is answered at another server, and how soon another one writes.
func BenchmarkMembers(b *testing.B) {
	const links = 90
	list, ask := servers(b, 3, links)
	announce := func(b *testing.B, workers, n int, to func(worker, round int) *testbed.Process) {
		b.Helper()
		began := time.Now()
		took := together(workers, max(n, workers), func(i, round int) {
			require.NoError(b, ask[i].At(to(i, round).URL).Announce(b.Context(), address(i, round)))
		})
		whole := time.Since(began)
		report(b, took, whole)
		what := strings.TrimPrefix(b.Name(), "BenchmarkMembers/")
		figures.Plain("several servers", "announcements, "+what, float64(len(took))/whole.Seconds(), "a second", "")
		figures.Plain("several servers", "announcements, "+what+", median", ms(figures.Quantile(took, 0.5)), "ms", "")
	}
	for n := 1; n <= len(list); n++ {
		b.Run(fmt.Sprintf("spread over %d", n), func(b *testing.B) {
			announce(b, links, b.N, func(i, _ int) *testbed.Process { return list[i%n] })
		})
	}
	b.Run("one at a time, to the writer", func(b *testing.B) {
		announce(b, 1, b.N/10, func(int, int) *testbed.Process { return list[0] })
	})
	b.Run("one at a time, passed on", func(b *testing.B) {
		announce(b, 1, b.N/10, func(int, int) *testbed.Process { return list[1] })
	})
	b.Run("answered at another server", func(b *testing.B) {
		name := "site-0." + testbed.Zone
		took := together(1, max(b.N/10, 1), func(_, round int) {
			require.NoError(b, ask[0].At(list[0].URL).Announce(b.Context(), address(0, round)))
			for testbed.Resolve(list[1].DNS, name) != address(0, round) {
				time.Sleep(time.Millisecond)
			}
		})
		report(b, took, 0)
		figures.AtMost("several servers", "a move answered at another server, 99 %", ms(figures.Quantile(took, 0.99)), "ms", 100, "")
	})
	takeover := sync.OnceValue(func() time.Duration { // a benchmark is run more than once, and there is one to kill
		list[0].Kill()
		killed := time.Now()
		for n := 0; ask[0].At(list[1].URL).Announce(context.Background(), address(1, n)) != nil; n++ {
			time.Sleep(5 * time.Millisecond)
		}
		return time.Since(killed)
	})
	b.Run("the writer killed", func(b *testing.B) {
		b.ReportMetric(float64(takeover().Milliseconds()), "ms-until-taken")
		figures.AtMost("several servers", "announcements taken again after the writer was killed", takeover().Seconds(), "s", 5, "")
		b.ReportMetric(0, "ns/op")
	})
}

package trials_test

import (
	"context"
	"fmt"
	"os"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/store/cluster"
	"inkpost.example/inkpost/internal/testbed"
)

// PostgreSQL loses power, and its standby is promoted: both servers go on without a restart, and nothing that was acknowledged is lost.
func TestADatabasesStandbyIsPromoted(t *testing.T) {
	t.Parallel()
	var both [2]*cluster.Cluster
	for i := range both {
		dir, err := os.MkdirTemp("", "inkpost-own-") // not t.TempDir: the database's user may not enter that
		require.NoError(t, err)
		t.Cleanup(func() { _ = os.RemoveAll(dir) })
		both[i], err = cluster.Start(t.Context(), cluster.Options{Dir: dir, Of: both[0]})
		require.NoError(t, err)
	}
	first, second := both[0], both[1]
	t.Cleanup(second.Stop)
	for _, statement := range []string{`ALTER SYSTEM SET synchronous_standby_names = '*'`, `SELECT pg_reload_conf()`} {
		query(t, first.URL("inkpost"), statement)
	}
	soon(t, 10*time.Second, "what is committed is at both", func() bool {
		return one[int](t, first.URL("inkpost"), `SELECT count(*) FROM pg_stat_replication WHERE sync_state = 'sync'`) == 1
	})

	database := cluster.URLOf("inkpost", first, second)
	s := start(t, func(o *options) { o.Database = database })
	beside := testbed.Beside(t, s, database, nil)
	s.Record(t, "KET-07")
	name, router := s.Name(t, "KET-07"), s.Router(t, "KET-07")
	require.NoError(t, router.Announce(t.Context(), "198.51.100.1"))
	soon(t, 5*time.Second, "both answer", func() bool { return testbed.Resolve(beside.DNS, name) == "198.51.100.1" })

	ctx, end := context.WithCancel(t.Context())
	defer end()
	var load sync.WaitGroup
	var mu sync.Mutex
	var acknowledged []string
	load.Go(func() {
		for n := 0; ctx.Err() == nil; n++ {
			address := fmt.Sprintf("198.51.100.%d", 2+n%250)
			if router.At([]string{s.URL, beside.URL}[n%2]).Announce(ctx, address) == nil {
				mu.Lock()
				acknowledged = append(acknowledged, address)
				mu.Unlock()
			}
		}
	})
	load.Go(func() { // names are answered throughout
		for ctx.Err() == nil {
			for _, at := range []string{s.DNS, beside.DNS} {
				c := dns.Client{Timeout: 2 * time.Second}
				r, _, err := c.Exchange(new(dns.Msg).SetQuestion(name+".", dns.TypeA), at)
				if err != nil || len(r.Answer) == 0 {
					t.Errorf("%s %s (s %s): %v %v", time.Now().Format("05.000"), at, s.DNS, err, r)
				}
			}
			<-time.After(5 * time.Millisecond)
		}
	})
	count := func() int { mu.Lock(); defer mu.Unlock(); return len(acknowledged) }
	soon(t, 20*time.Second, "announcements are taken", func() bool { return count() > 50 })
	first.Kill()
	killed := time.Now()
	require.NoError(t, second.Promote(t.Context()))
	promoted := time.Now()
	query(t, second.URL("inkpost"), `ALTER SYSTEM SET synchronous_standby_names = ''`)
	query(t, second.URL("inkpost"), `SELECT pg_reload_conf()`)
	was := count()
	soon(t, 20*time.Second, "announcements are taken again", func() bool { return count() > was+20 })
	t.Logf("promoted %v after the power cut; announcements again %v after that", promoted.Sub(killed).Round(time.Millisecond),
		time.Since(promoted).Round(time.Millisecond))
	end()
	load.Wait()
	// Each announcement that was acknowledged and differs from the one before is a move.
	soon(t, 5*time.Second, "all that was acknowledged is recorded", func() bool {
		return one[int](t, second.URL("inkpost"), `SELECT (SELECT count(*) FROM move) + (SELECT count(*) FROM
			accepted)`) >= len(acknowledged)
	})
	soon(t, 5*time.Second, "both answer the same", func() bool { return testbed.Resolve(s.DNS, name) == testbed.Resolve(beside.DNS, name) })
	writers := 0
	for _, at := range []*testbed.Service{s, beside} {
		is, _ := ready(t, at.URL)
		if is.Role == contract.RoleWriter {
			writers++
		}
		soon(t, 5*time.Second, "edits are taken at each", func() bool {
			_, err := at.Client.EditSite(context.Background(), "KET-07", client.Fields{"note": "after"})
			return err == nil
		})
	}
	require.Equal(t, 1, writers)
	consistent(t, database)
}

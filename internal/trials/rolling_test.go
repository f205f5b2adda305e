package trials_test

import (
	"context"
	"fmt"
	"os/exec"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/testbed"
)

// Two servers are upgraded one after the other, to a program with a newer schema, while a router announces and names are asked for: each
// is stopped and started once, the one that writes last. Nothing acknowledged is lost, and at least one of them answers at all times.
func TestTwoServersAreUpgradedOneAfterTheOther(t *testing.T) {
	t.Parallel()
	newer := testbed.NextProgram(t)
	database := testbed.Database(t)
	var flags [2][]string // of each: its ports and its folder stay
	for i := range flags {
		flags[i] = []string{"--http", fmt.Sprintf("127.0.0.1:%d", testbed.FreePort(t)), "--dns",
			fmt.Sprintf("127.0.0.1:%d", testbed.FreePort(t)), "--state-dir", t.TempDir()}
	}
	writer := testbed.Launch(t, database, flags[0]...)
	owner, key := writer.Owner(t)
	s := &testbed.Service{Client: owner, Key: key}
	s.Record(t, "KET-07")
	name := s.Name(t, "KET-07")
	router := s.Router(t, "KET-07")
	other := testbed.Launch(t, database, flags[1]...)
	at := [2]string{writer.URL, other.URL}

	run, end := context.WithCancel(t.Context())
	var under sync.WaitGroup
	var offered, acknowledged atomic.Int64
	pace := testbed.Watch(t)
	type gap struct {
		most    time.Duration // that there may be
		what    string
		longest atomic.Int64 // that there was, in milliseconds
	}
	taken, answered := gap{most: 8 * time.Second, what: "announcements are taken"}, gap{most: time.Second, what: "the name is answered"}
	ends := func(g *gap, since *time.Time) {
		now := time.Now()
		pace.Within(t, *since, now, g.most, g.what)
		g.longest.Store(max(g.longest.Load(), now.Sub(*since).Milliseconds()))
		*since = now
	}
	address := func(n int64) string { return fmt.Sprintf("198.51.100.%d", 1+n%250) }
	under.Go(func() { // a router that goes to the other one when one does not take it
		last := time.Now()
		for n := int64(0); run.Err() == nil; n++ {
			offered.Store(n)
			for i := 0; run.Err() == nil; i++ {
				once, cancel := context.WithTimeout(run, 2*time.Second)
				err := router.At(at[i%2]).Announce(once, address(n))
				if cancel(); err == nil {
					acknowledged.Add(1)
					ends(&taken, &last)
					break
				}
				<-time.After(20 * time.Millisecond)
			}
			<-time.After(5 * time.Millisecond)
		}
	})
	servers := [2]string{writer.DNS, other.DNS}
	under.Go(func() {
		for last := time.Now(); run.Err() == nil; {
			if testbed.Resolve(servers[0], name) != "" || testbed.Resolve(servers[1], name) != "" {
				ends(&answered, &last)
			}
			<-time.After(5 * time.Millisecond)
		}
	})
	more := func() {
		before := acknowledged.Load()
		soon(t, 20*time.Second, "announcements are taken", func() bool { return acknowledged.Load() > before+50 })
	}
	more()
	other.Stop(t)
	other = testbed.LaunchOf(t, newer, database, flags[1]...)
	more()
	require.NotEmpty(t, testbed.Resolve(other.DNS, name), "it answers from the copy on its disk: the schema is an older one than its own")
	passedOn, err := client.New(other.URL, key)
	require.NoError(t, err)
	_, err = passedOn.AddSite(t.Context(), contract.SiteInput{Code: "PIE-20", Name: "Harbour Office"})
	require.NoError(t, err, "it passes edits on to the older program")

	writer.Stop(t)
	soon(t, 10*time.Second, "the newer program writes", func() bool {
		is, _ := ready(t, other.URL)
		return is.Role == contract.RoleWriter
	})
	more()
	require.Equal(t, 1, one[int](t, database, `SELECT count(*)::int FROM information_schema.columns WHERE column_name = 'of_next_release'`))
	said, err := exec.Command(testbed.Program(t), "serve", "--database-url", database, "--http", "127.0.0.1:0", "--dns", "127.0.0.1:0",
		"--redirect", "", "--stun", "", "--state-dir", t.TempDir()).CombinedOutput()
	require.Error(t, err, "the older program does not begin again")
	require.Contains(t, string(said), "a newer inkpost has used it")
	writer = testbed.LaunchOf(t, newer, database, flags[0]...)
	more()
	end()
	under.Wait()

	for _, p := range []*testbed.Process{writer, other} {
		c, err := client.New(p.URL, key)
		require.NoError(t, err)
		site, err := c.Site(t.Context(), "PIE-20")
		require.NoError(t, err)
		require.Equal(t, "Harbour Office", site.Name)
		soon(t, 5*time.Second, "it answers the newest address", func() bool {
			return testbed.Resolve(p.DNS, name) == address(offered.Load()) || testbed.Resolve(p.DNS, name) == address(offered.Load()-1)
		})
	}
	recorded := one[int64](t, database, `SELECT (SELECT count(*) FROM move) + (SELECT count(*) FROM accepted)`)
	t.Logf("%d acknowledged, %d recorded; longest time without an announcement that was taken %d ms, without an answer %d ms",
		acknowledged.Load(), recorded, taken.longest.Load(), answered.longest.Load())
	require.GreaterOrEqual(t, recorded, acknowledged.Load())
	said, err = exec.Command(newer, "consistency", "--database-url", database).CombinedOutput()
	require.NoError(t, err, string(said))
}

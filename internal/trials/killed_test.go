package trials_test

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/testbed"
)

func TestTheActiveServerIsKilledWithAStandbyBesideIt(t *testing.T) {
	t.Parallel()
	const links = 6
	kills, changes := 12, int64(20) // and how many of one site lie in between
	if soaking() > 0 {
		kills, changes = 50, 70
	}
	database := testbed.Database(t)
	ports := [2]int{testbed.FreePort(t), testbed.FreePort(t)} // a secondary has to know where its primaries are
	launch := func(n int) *testbed.Process {
		return testbed.Launch(t, database, "--dns", fmt.Sprintf("127.0.0.1:%d", ports[n%2]))
	}
	active := launch(0)
	owner, _ := active.Owner(t)
	s := &testbed.Service{Client: owner}
	var routers [links]testbed.Router
	for i := range links {
		code := fmt.Sprintf("SITE-%d", i)
		s.Record(t, code)
		s.Name(t, code)
		routers[i] = s.Router(t, code)
	}
	name := func(i int) string { return fmt.Sprintf("site-%d.%s", i, zone) }
	address := func(i, n int64) string { return fmt.Sprintf("198.51.100.%d", 1+(i*40+n%40)%250) }
	standby := launch(1)
	others := besides(t, s, ports, "site-0."+zone, "SITE-1")

	var offered, acknowledged [links]atomic.Int64
	var total atomic.Int64
	pace := testbed.Watch(t)
	longest, worst := time.Duration(0), time.Duration(0)
	var serial uint32
	for round := range kills {
		// Load on the active one; the standby is asked for a name all the while, also through the takeover.
		run, end := context.WithCancel(t.Context())
		var load, asking sync.WaitGroup
		for i := range links {
			load.Go(func() {
				for run.Err() == nil {
					n := offered[i].Add(1)
					if routers[i].At(active.URL).Announce(run, address(int64(i), n)) != nil {
						return // killed
					}
					acknowledged[i].Store(n)
					total.Add(1)
				}
			})
		}
		watch, enough := context.WithCancel(t.Context())
		asking.Go(func() {
			last := time.Now()
			answered := func() {
				now := time.Now()
				pace.Within(t, last, now, time.Second, "the standby answers all the while")
				longest, last = max(longest, now.Sub(last)), now
			}
			for watch.Err() == nil {
				c := dns.Client{Timeout: 300 * time.Millisecond}
				if r, _, err := c.Exchange(new(dns.Msg).SetQuestion(name(0)+".", dns.TypeSOA), standby.DNS); err == nil &&
					r.Rcode == dns.RcodeSuccess {
					answered()
				}
				<-time.After(5 * time.Millisecond) // 200 questions a second
			}
			answered()
		})
		before := acknowledged[0].Load()
		soon(t, 20*time.Second, "the active server is under load", func() bool { return acknowledged[0].Load() > before+changes })
		active.Kill()
		load.Wait()
		end()
		killed := time.Now()
		soon(t, 60*time.Second, "the standby takes over",
			func() bool { is, _ := ready(t, standby.URL); return is.Role == contract.RoleWriter })
		pace.Within(t, killed, time.Now(), 5*time.Second, "the standby takes over")
		worst = max(worst, time.Since(killed))
		for i := range links {
			got := testbed.Resolve(standby.DNS, name(i))
			is, was := acknowledged[i].Load(), offered[i].Load()
			require.Contains(t, []string{address(int64(i), is), address(int64(i), was)}, got,
				"round %d, site %d: acknowledged %d, offered %d", round, i, is, was)
		}
		now := testbed.Serial(standby.DNS, zone)
		require.False(t, serial != 0 && names.SerialAfter(serial, now), "round %d: serial %d after %d", round, now, serial)
		serial = now
		enough()
		asking.Wait()
		others.have(t, standby.DNS, name, links)
		active, standby = standby, launch(round)
	}
	// Each change that was acknowledged differs from the one before, so each of them has a move; one on its way at a kill may have.
	recorded := one[int64](t, database, `SELECT (SELECT count(*) FROM move) + (SELECT count(*) FROM accepted)`)
	t.Logf("%d acknowledged, %d recorded; longest takeover %v, longest gap of the standby's answers %v", total.Load(), recorded,
		worst.Round(time.Millisecond), longest.Round(time.Millisecond))
	require.GreaterOrEqual(t, recorded, total.Load())
	require.LessOrEqual(t, recorded, total.Load()+int64(links*kills))
	others.were(t)
	consistent(t, database)
}

package trials_test

import (
	"context"
	"fmt"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/testbed"
)

// door is a service's port, and when it was knocked at.
type door struct {
	mu sync.Mutex
	at []time.Time
}

// openDoor listens at an address, and returns its port.
func openDoor(t *testing.T, address string) (d *door, port int) {
	t.Helper()
	l, err := net.Listen("tcp", address+":0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	d = &door{}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			d.mu.Lock()
			d.at = append(d.at, time.Now())
			d.mu.Unlock()
			_ = c.Close()
		}
	}()
	return d, l.Addr().(*net.TCPAddr).Port
}

// since counts the knocks after a moment, and measures the longest time without one until now.
func (d *door) since(began time.Time) (count int, quiet time.Duration) {
	d.mu.Lock()
	defer d.mu.Unlock()
	last := began
	for _, at := range d.at {
		if at.After(began) {
			count, quiet, last = count+1, max(quiet, at.Sub(last)), at
		}
	}
	return count, max(quiet, time.Since(last))
}

// Services are probed by one server each, by another within seconds when that one is gone, and by nobody twice.
func TestServersShareTheProbes(t *testing.T) {
	t.Parallel()
	const count = 24
	database := testbed.Database(t)
	s := start(t, func(o *options) { o.Database = database })
	var doors []*door
	for i := range count {
		code, address := fmt.Sprintf("KET-%02d", i+1), fmt.Sprintf("127.99.40.%d", i+1)
		s.Record(t, code)
		s.Device(t, code, "recorder")
		require.NoError(t, s.Router(t, code).Announce(t.Context(), address))
		d, port := openDoor(t, address)
		doors = append(doors, d)
		_, err := s.Client.AddService(t.Context(), code, contract.ServiceInput{Name: "recorder-rtsp", Device: "recorder", Kind: "tcp",
			External: fmt.Sprint(port), Interval: 1})
		require.NoError(t, err)
	}
	servers := func() []contract.Server {
		list, err := s.Client.Servers(context.Background())
		require.NoError(t, err)
		return list
	}
	require.Len(t, servers(), 1)
	one := testbed.Launch(t, database, "--lab-public", "127.96.0.0/11")
	other := testbed.Launch(t, database, "--lab-public", "127.96.0.0/11")
	soon(t, 5*time.Second, "all three probe", func() bool { return len(servers()) == 3 })
	before := servers()
	for _, is := range before {
		require.InDelta(t, 85, is.Shards, 40, is.Name)
	}

	// The way to each port that works for the first time is measured once, with four packets that knock, too.
	soon(t, 15*time.Second, "the ways are measured", func() bool { return s.Engine().ProbeCounts().Limited >= 4*count })

	// watched counts over a while, and checks that every service is looked at, and by one server only. A machine that has much to do is
	// late, and looks again where an answer came late; nobody looks at everything twice.
	const while = 6 * time.Second
	watched := func(why string) {
		t.Helper()
		began, all := time.Now(), 0
		time.Sleep(while)
		for i, d := range doors {
			knocks, quiet := d.since(began)
			require.Less(t, quiet, 5*time.Second, "%s: service %d", why, i)
			all += knocks
		}
		require.InDelta(t, count*while.Seconds(), all, count*while.Seconds()/2.5, why)
	}
	watched("three servers")
	for i, is := range servers() {
		require.Greater(t, is.Rounds-before[i].Rounds, int64(5), is.Name)
	}

	// One is cut off, one hangs: what was theirs is looked at by who is left.
	gone := time.Now()
	one.Kill()
	other.Freeze(t)
	soon(t, 20*time.Second, "nobody counts on them", func() bool { return len(servers()) == 1 })
	for i, d := range doors {
		_, quiet := d.since(gone)
		require.Less(t, quiet, 15*time.Second, "service %d", i)
	}
	watched("one server")
	for i := range count {
		svc, err := s.Client.Service(t.Context(), fmt.Sprintf("KET-%02d", i+1), "recorder-rtsp")
		require.NoError(t, err)
		require.Equal(t, "reachable", string(svc.State))
	}
	faults, err := s.Client.Faults(t.Context(), "", false)
	require.NoError(t, err)
	require.Empty(t, faults)
	consistent(t, database)
}

package trials_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/testbed"
)

// listener keeps the events of a server's stream, with when each came.
type listener struct {
	mu   sync.Mutex
	came map[string]time.Time // by ID
	list []contract.Event
	anew int // how often everything had to be read again

	ended chan struct{} // closed with the stream
}

// listen follows the events of a server until the test ends, after the one with the ID after.
func listen(t *testing.T, url, key, after string) *listener {
	t.Helper()
	q, err := http.NewRequestWithContext(t.Context(), http.MethodGet, url+"/api/v1/events", nil)
	require.NoError(t, err)
	q.Header.Set("Authorization", "Bearer "+key)
	if after != "" {
		q.Header.Set("Last-Event-ID", after)
	}
	answer, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, answer.StatusCode)
	x := &listener{came: map[string]time.Time{}, ended: make(chan struct{})}
	go func() {
		defer func() {
			answer.Body.Close()
			close(x.ended)
		}()
		for lines := bufio.NewScanner(answer.Body); lines.Scan(); {
			x.mu.Lock()
			if lines.Text() == "event: reread" {
				x.anew++
			}
			var e contract.Event
			if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok && json.Unmarshal([]byte(data), &e) == nil && e.ID != "" {
				x.came[e.ID] = time.Now()
				x.list = append(x.list, e)
			}
			x.mu.Unlock()
		}
	}()
	return x
}

// first is the first event of a kind about a site, with when it came; ok is false where none came yet.
func (x *listener) first(kind, site string) (e contract.Event, at time.Time, ok bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, e := range x.list {
		if e.Type == kind && e.Subject == site {
			return e, x.came[e.ID], true
		}
	}
	return e, at, false
}

// A server that stands by shows what the one that writes knows from its own memory, as soon as that one: also while that one hangs.
func TestAServerThatStandsByShowsWhatIsKnownFromItsOwnMemory(t *testing.T) {
	t.Parallel()
	database := testbed.Database(t)
	writer := testbed.Launch(t, database, "--lab-public", "127.96.0.0/11")
	owner, key := writer.Owner(t)
	s := &testbed.Service{Client: owner, Key: key}
	s.Record(t, "KET-07")
	s.Name(t, "KET-07")
	s.Device(t, "KET-07", "recorder")
	beside := testbed.Launch(t, database, "--lab-public", "127.96.0.0/11")
	there, err := client.New(beside.URL, key)
	require.NoError(t, err)
	soon(t, 5*time.Second, "it knows the site", func() bool { _, err := there.Site(context.Background(), "KET-07"); return err == nil })
	soon(t, 5*time.Second, "both are there", func() bool {
		l, err := there.Servers(context.Background())
		return err == nil && len(l) == 2
	})
	pace := testbed.Watch(t)
	here, others := listen(t, writer.URL, key, ""), listen(t, beside.URL, key, "")

	door, err := net.Listen("tcp", "127.99.41.1:0")
	require.NoError(t, err)
	go func() {
		for c, err := door.Accept(); err == nil; c, err = door.Accept() {
			_ = c.Close()
		}
	}()
	router := s.Router(t, "KET-07")
	require.NoError(t, router.At(beside.URL).Announce(t.Context(), "127.99.41.1"))
	_, err = there.AddService(t.Context(), "KET-07", contract.ServiceInput{Name: "page", Device: "recorder", Kind: "tcp", InUse: true,
		External: fmt.Sprint(door.Addr().(*net.TCPAddr).Port), Interval: 10})
	require.NoError(t, err)
	site, err := there.Site(t.Context(), "KET-07")
	require.NoError(t, err)
	require.Len(t, site.Services, 1, "who has changed something sees it at once")
	require.Equal(t, "127.99.41.1", site.Links[0].IPv4.String())

	both := func(kind string) {
		t.Helper()
		soon(t, 30*time.Second, kind+" is told by both", func() bool {
			_, _, a := here.first(kind, "KET-07")
			_, _, b := others.first(kind, "KET-07")
			return a && b
		})
		a, first, _ := here.first(kind, "KET-07")
		b, then, _ := others.first(kind, "KET-07")
		require.Equal(t, a.ID, b.ID)
		require.Equal(t, a.Data, b.Data)
		t.Logf("%s: %v later", kind, then.Sub(first).Round(time.Millisecond))
		pace.Within(t, first, then, time.Second, kind)
	}
	both(contract.EventMoveRecorded)
	both(contract.EventServiceState)
	require.NoError(t, door.Close())
	both(contract.EventFaultOpened)
	equal := func() bool {
		a, err := owner.Site(context.Background(), "KET-07")
		require.NoError(t, err)
		b, err := there.Site(context.Background(), "KET-07")
		require.NoError(t, err)
		return len(a.Faults) == 1 && len(b.Faults) == 1 && a.Faults[0].ID == b.Faults[0].ID && a.Services[0].State == b.Services[0].State &&
			a.Services[0].Outcome == b.Services[0].Outcome && a.Services[0].Message == b.Services[0].Message &&
			a.Hostnames[0].State == b.Hostnames[0].State && len(a.Paths) == len(b.Paths) && a.Paths[0].Verdict == b.Paths[0].Verdict
	}
	soon(t, 10*time.Second, "both show the same", equal)
	last, _, _ := here.first(contract.EventFaultOpened, "KET-07")
	_, err = owner.AddService(t.Context(), "KET-07", contract.ServiceInput{Name: "spare", Device: "recorder", Kind: "tcp", External: "9"})
	require.NoError(t, err)
	run, err := owner.Commission(t.Context(), "KET-07", contract.CommissioningInput{})
	require.NoError(t, err)
	again := listen(t, beside.URL, key, last.ID)

	// It is not passed on: the one that writes hangs.
	soon(t, 10*time.Second, "it answers by itself", func() bool {
		m, err := there.Moves(context.Background(), contract.MoveQuery{Limit: 5})
		return err == nil && len(m) == 1
	})
	known := func() int64 {
		list, err := there.Availability(context.Background(), "KET-07", "page")
		require.NoError(t, err)
		require.Len(t, list, 1)
		return list[0].Windows[0].Known()
	}
	soon(t, 20*time.Second, "it knows what the database has only after minutes", func() bool { return known() > 0 })
	paper := func(c *client.Client) contract.Sheet {
		out, err := c.Sheet(t.Context(), "KET-07", 0)
		require.NoError(t, err)
		out.At, out.URL = time.Time{}, "" // when it was asked for, and where: these servers were not told of one console
		return out
	}
	lacks := func(c *client.Client) []contract.ToCommission {
		out, err := c.ToCommission(t.Context())
		require.NoError(t, err)
		return out
	}
	soon(t, 30*time.Second, "the sheet and what is to be commissioned are the same", func() bool {
		return assert.ObjectsAreEqual(paper(owner), paper(there)) && assert.ObjectsAreEqual(lacks(owner), lacks(there))
	})
	printed, missing := paper(owner), lacks(owner)
	require.NotEmpty(t, printed.Steps, "a step of the run is over")
	require.Len(t, missing, 1)
	require.Equal(t, run.ID, missing[0].Run)
	writer.Freeze(t)
	for _, read := range []func() error{
		func() error { require.Positive(t, known()); return nil },
		func() error { require.Equal(t, printed.Steps, paper(there).Steps); return nil },
		func() error { require.Equal(t, missing, lacks(there)); return nil },
		func() error { _, err := there.Overview(t.Context()); return err },
		func() error { _, err := there.Sites(t.Context()); return err },
		func() error { _, err := there.Service(t.Context(), "KET-07", "page"); return err },
		func() error { _, err := there.People(t.Context()); return err },
		func() error { _, err := there.NoticeRules(t.Context()); return err },
		func() error { _, err := there.Removed(t.Context()); return err },
	} {
		began := time.Now()
		require.NoError(t, read())
		pace.Within(t, began, time.Now(), 1500*time.Millisecond, "read")
	}
	b, err := there.Site(t.Context(), "KET-07")
	require.NoError(t, err)
	require.Len(t, b.Faults, 1)
	require.Equal(t, "KET-07", b.Faults[0].Site)
	select { // a stream on which nothing can come does not go on as if nothing happened
	case <-again.ended:
	case <-time.After(40 * time.Second):
		t.Fatal("the stream of a server that hears nothing of what happens has not ended")
	}
	again.mu.Lock()
	defer again.mu.Unlock()
	require.Zero(t, again.anew, "whoever goes from one server to another misses nothing, and reads nothing again")
}

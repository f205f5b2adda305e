package days_test

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/core/notice"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/daemon"
	"inkpost.example/inkpost/internal/engine"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/testbed"
	"inkpost.example/inkpost/internal/wire/authdns"
	"inkpost.example/inkpost/internal/wire/hook"
)

const (
	apex = "isles.saltmarsh.example"
	// closesWithin is how long after a trouble is over its fault may be open, as services are probed once a minute.
	closesWithin = 6 * time.Minute
)

// begins is before clocks go back, and so long ago that all of it is past for a database, whose clock is the real one.
var begins = time.Date(2026, 10, 24, 20, 0, 0, 0, time.UTC)

func TestMain(m *testing.M) { testbed.Main(m) }

// number is what the environment says, else what is usual.
func number(name string, usual int) int {
	if n, err := strconv.Atoi(os.Getenv(name)); err == nil && n > 0 {
		return n
	}
	return usual
}

// told counts notices that a receiver got, by their ID.
type told struct {
	mu  sync.Mutex
	ids map[string]int
}

func (x *told) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	var e hook.Event
	if json.NewDecoder(r.Body).Decode(&e) != nil {
		w.WriteHeader(http.StatusBadRequest)
		return
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	x.ids[e.ID]++
}

// Days of many sites pass: what is told is what the script did, and nothing else; the record does not contradict itself; memory stays as
// it is.
func TestDaysPass(t *testing.T) {
	hours, sites := number("INKPOST_HOURS", 9), number("INKPOST_SITES", 20)
	database := testbed.Database(t)
	// All connections are there before the clock is a simulated one, and stay.
	st, err := store.Open(t.Context(), database+"&pool_min_conns=8&pool_max_conn_lifetime=1000000h&pool_max_conn_idle_time=1000000h")
	require.NoError(t, err)
	defer st.Close()
	receiver := &told{ids: map[string]int{}}
	server := httptest.NewServer(receiver)
	defer server.Close()
	var s *script
	synctest.Test(t, func(t *testing.T) { s = pass(t, st, server.URL, hours, sites) })

	check(t, st, s)
	found, kinds, err := daemon.Contradictions(context.Background(), database)
	require.NoError(t, err)
	require.Greater(t, kinds, 10)
	require.Empty(t, found)
	require.NotEmpty(t, receiver.ids)
	for id, times := range receiver.ids {
		require.Equal(t, 1, times, "notice %s came once", id)
	}
}

// check compares what was told with what the script did.
func check(t *testing.T, st *store.Store, s *script) {
	list, err := st.Faults(t.Context(), store.FaultFilter{Since: begins, Limit: 1 << 20})
	require.NoError(t, err)
	for _, f := range list {
		lines, err := st.Timeline(t.Context(), f.ID)
		require.NoError(t, err)
		for _, x := range spells(lines) {
			at := s.of(f.Site, fault.ProviderOf(f.Finding.Subject), x.opened, x.closed)
			if at == nil {
				t.Errorf("%s %s was told, and the script did nothing of the kind: %s", f.Site, f.Finding.Key(), x)
				continue
			}
			at.told++
			for _, e := range x.told {
				if !at.says(e.Words, e.At) {
					t.Errorf("%s: %s was told as: %s, at %s (%s)", at, f.Site, e.Words, e.At.Format(time.TimeOnly), x)
				}
			}
		}
	}
	for _, x := range s.troubles {
		if x.told == 0 && !x.may {
			t.Errorf("nothing was told: %s", x)
		}
	}
}

// spell is a stretch of time in which a fault was open, and what was told of it.
type spell struct {
	opened, closed time.Time
	told           []store.FaultEvent
}

func (x spell) String() string {
	return fmt.Sprintf("%s to %s", x.opened.Format(time.DateTime), x.closed.Format(time.TimeOnly))
}

func spells(lines []store.FaultEvent) (out []spell) {
	for _, e := range lines {
		switch e.Kind {
		case fault.Opened, fault.Reopened:
			out = append(out, spell{opened: e.At, told: []store.FaultEvent{e}})
		case fault.Changed:
			out[len(out)-1].told = append(out[len(out)-1].told, e)
		case fault.Closed, fault.Joined:
			out[len(out)-1].closed = e.At
		}
	}
	return out
}

// pass runs the service and its world for so many hours.
func pass(t *testing.T, st *store.Store, receiver string, hours, sites int) *script {
	time.Sleep(time.Until(begins))
	w := &world{at: map[netip.Addr]*place{}}
	began := time.Now()
	local, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	e, err := engine.New(t.Context(), st, &authdns.Directory{}, engine.Config{Policy: wan.Policy{StandIns: testbed.Public},
		CheckEvery: checkEvery, Clock: w.clock, Ticks: func() time.Time { return began.Add(time.Since(began)) }, Local: local,
		Speak: w.speak, Quiet: true,
		Hooks: hook.Sender{Allowed: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}},
		Log:   slog.New(slog.NewTextHandler(t.Output(), &slog.HandlerOptions{Level: slog.LevelWarn}))})
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	var under sync.WaitGroup
	under.Go(func() { e.Run(ctx) })
	defer under.Wait()
	defer func() {
		synctest.Wait() // a connection that a query is cut off on would be taken down by a goroutine of the bubble, which it is not of
		stop()
	}()
	furnish(t, ctx, e, w, sites, receiver)
	s := write(w, hours, 7)
	for i, p := range w.places {
		under.Go(func() { w.agent(ctx, e, p, time.Duration(i)*checkEvery/time.Duration(sites)) })
	}
	at, next := time.Now(), time.Hour
	var heaps []uint64
	for _, x := range append(s.steps, step{time.Duration(hours) * time.Hour, func() {}}) {
		for ; next <= x.at; next += time.Hour {
			time.Sleep(time.Until(at.Add(next)))
			heaps = append(heaps, watch(t, w, next))
		}
		time.Sleep(time.Until(at.Add(x.at)))
		x.do()
	}
	require.EqualValues(t, sites+s.renumbered, w.moves.Load(),
		"every change of an address was noticed, and nothing else was taken for one")
	require.Less(t, heaps[len(heaps)-1], heaps[len(heaps)/3]*5/4+(4<<20), "memory stays as it is: %v", heaps)
	return s
}

// watch notes how things are after a while, and returns the size of the heap.
func watch(t *testing.T, w *world, after time.Duration) uint64 {
	var m runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&m)
	t.Logf("%s: %d rounds, %d moves, %d MB", after, w.rounds.Load(), w.moves.Load(), m.HeapAlloc>>20)
	return m.HeapAlloc
}

// furnish puts sites on record, and whom to tell.
func furnish(t *testing.T, ctx context.Context, e *engine.Engine, w *world, sites int, receiver string) {
	_, err := e.AddZone(ctx, contract.ZoneInput{Apex: apex, Servers: []string{"ns1." + apex + "=198.51.100.1"}})
	require.NoError(t, err)
	_, err = e.AddHook(ctx, contract.HookInput{Name: "desk", URL: receiver})
	require.NoError(t, err)
	_, err = e.AddNoticeRule(ctx, notice.Rule{Hook: "desk", Topic: notice.Faults})
	require.NoError(t, err)
	for i := range sites {
		p := &place{code: fmt.Sprintf("BUO-%04d", i), provider: providers[i%len(providers)]}
		w.set(func() { w.address(p) })
		_, err := e.AddSite(ctx, contract.SiteInput{Code: p.code, Name: "Buoy " + strconv.Itoa(i)})
		require.NoError(t, err)
		l, err := e.AddLink(ctx, p.code, contract.LinkInput{Label: "main", Provider: p.provider})
		require.NoError(t, err)
		p.link = l.ID
		code, _, err := e.Access.Invite(ctx, p.link, testbed.Public)
		require.NoError(t, err)
		_, _, err = e.Access.Enrol(ctx, code, "", "agent of "+p.code)
		require.NoError(t, err)
		_, err = e.AddHostname(ctx, contract.HostnameInput{Name: strings.ToLower(p.code) + "." + apex, Site: p.code})
		require.NoError(t, err)
		w.report(ctx, e, p, p.at, false, time.Minute) // nobody is told that the address is not known yet
		for n, name := range []string{"recorder", "panel"} {
			_, err = e.AddDevice(ctx, p.code, contract.DeviceInput{Name: name, Address: fmt.Sprintf("192.168.7.%d", 20+n)})
			require.NoError(t, err)
		}
		for _, x := range []contract.ServiceInput{{Name: "cameras", Device: "recorder", External: strconv.Itoa(recorderPort)},
			{Name: "panel", Device: "panel", External: strconv.Itoa(webPort)}} {
			x.Kind, x.Transport, x.Interval, x.InUse = "tcp", "tcp", 60, true
			_, err = e.AddService(ctx, p.code, x)
			require.NoError(t, err)
		}
		w.places = append(w.places, p)
	}
}

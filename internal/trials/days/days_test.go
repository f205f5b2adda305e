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

// told counts what a receiver was told, by fault and what became of it.
type told struct {
	mu     sync.Mutex
	events map[string]int
	ids    map[string]bool
}

func (x *told) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	var e hook.Event
	if json.NewDecoder(r.Body).Decode(&e) != nil {
		w.WriteHeader(http.StatusBadRequest)
		return
	}
	doc, _ := json.Marshal(e)
	x.mu.Lock()
	defer x.mu.Unlock()
	x.ids[e.ID] = true
	x.events[string(doc)]++
}

// Days of many sites pass: what is told is what the script did, and nothing else; the record does not contradict itself; memory stays as
// it is.
func TestDaysPass(t *testing.T) {
	hours, sites := number("INKPOST_DAYS_HOURS", 14), number("INKPOST_DAYS_SITES", 24)
	database := testbed.Database(t)
	// All connections are there before the clock is a simulated one, and stay.
	st, err := store.Open(t.Context(), database+"&pool_min_conns=8&pool_max_conn_lifetime=1000000h&pool_max_conn_idle_time=1000000h")
	require.NoError(t, err)
	defer st.Close()
	receiver := &told{events: map[string]int{}, ids: map[string]bool{}}
	server := httptest.NewServer(receiver)
	defer server.Close()
	var s *script
	synctest.Test(t, func(t *testing.T) { s = pass(t, st, server.URL, hours, sites) })

	list, err := st.Faults(t.Context(), store.FaultFilter{Since: begins, Limit: 1 << 20})
	require.NoError(t, err)
	for _, f := range list {
		fmt.Println("FAULT", f.ID, f.Site, f.Finding.Cause, f.Finding.Subject, f.Opened.Format(time.DateTime), f.Closed.Format(time.TimeOnly), f.Under, f.Returns, f.Finding.Next)
		b, _ := json.MarshalIndent(f.Finding, "", " ")
		if f.Site == "BUO-0004" { fmt.Println(string(b)) }
	}
	for _, tr := range s.troubles {
		fmt.Println("TROUBLE", tr)
	}
	found, kinds, err := daemon.Contradictions(context.Background(), database)
	require.NoError(t, err)
	require.Greater(t, kinds, 10)
	require.Empty(t, found)
}

// pass runs the service and its world for so many hours.
func pass(t *testing.T, st *store.Store, receiver string, hours, sites int) *script {
	time.Sleep(time.Until(begins))
	w := &world{at: map[netip.Addr]*place{}}
	began := time.Now()
	local, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	e, err := engine.New(t.Context(), st, &authdns.Directory{}, engine.Config{Policy: wan.Policy{StandIns: testbed.Public}, CheckEvery: checkEvery,
		Clock: w.clock, Ticks: func() time.Time { return began.Add(time.Since(began)) }, Local: local, Speak: w.speak, Quiet: true,
		Hooks: hook.Sender{Allowed: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}},
		Log:   slog.New(slog.NewTextHandler(t.Output(), &slog.HandlerOptions{Level: slog.LevelWarn}))})
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	var under sync.WaitGroup
	under.Go(func() { e.Run(ctx) })
	defer under.Wait()
	defer stop()
	furnish(t, ctx, e, w, sites, receiver)
	s := write(w, hours, 7)
	for i, p := range w.places {
		under.Go(func() { w.agent(ctx, e, p, time.Duration(i)*checkEvery/time.Duration(sites)) })
	}
	at, next := time.Now(), time.Hour
	for _, x := range append(s.steps, step{time.Duration(hours) * time.Hour, func() {}}) {
		for ; next <= x.at; next += time.Hour {
			time.Sleep(time.Until(at.Add(next)))
			watch(t, w, next)
		}
		time.Sleep(time.Until(at.Add(x.at)))
		x.do()
	}
	return s
}

// watch notes how things are after a while.
func watch(t *testing.T, w *world, after time.Duration) {
	var m runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&m)
	t.Logf("%s: %d rounds, %d moves, %d MB", after, w.rounds.Load(), w.moves.Load(), m.HeapAlloc>>20)
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
		_, _, err = e.Access.Enrol(ctx, code, "agent of "+p.code)
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

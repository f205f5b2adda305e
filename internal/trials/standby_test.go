package trials_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/testbed"
)

// said keeps what a service logs.
type said struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (s *said) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.Write(p)
}

func (s *said) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.String()
}

func (s *said) log() *slog.Logger { return slog.New(slog.NewTextHandler(s, nil)) }

// ready reads /readyz.
func ready(t require.TestingT, url string) (out contract.Ready, status int) {
	r, err := http.Get(url + "/readyz")
	require.NoError(t, err)
	defer r.Body.Close()
	require.NoError(t, json.NewDecoder(r.Body).Decode(&out))
	return out, r.StatusCode
}

// soon waits until a condition holds, and says how long that took.
func soon(t testing.TB, within time.Duration, what string, holds func() bool) time.Duration {
	t.Helper()
	began := time.Now()
	require.Eventually(t, holds, within, 5*time.Millisecond, what)
	return time.Since(began)
}

// two are a server that writes and one that stands by.
func two(t *testing.T, edit func(*options)) (s, beside *testbed.Service, database string, log *said) {
	t.Helper()
	database, log = testbed.Database(t), &said{}
	s = start(t, func(o *options) {
		o.Database = database
		if edit != nil {
			edit(o)
		}
	})
	beside = testbed.Beside(t, s, database, func(o *options) {
		o.Log = log.log()
		if edit != nil {
			edit(o)
		}
	})
	return s, beside, database, log
}

// sign sends a DNS UPDATE that puts an address on a name.
func sign(server, name, address string, key contract.SigningKey) (rcode int, err error) {
	m := new(dns.Msg).SetUpdate(zone + ".")
	rr, err := dns.NewRR(fmt.Sprintf("%s. 60 IN A %s", name, address))
	if err != nil {
		return 0, err
	}
	m.RemoveRRset([]dns.RR{rr})
	m.Insert([]dns.RR{rr})
	m.SetTsig(key.Name+".", key.Algorithm+".", 300, time.Now().Unix())
	c := dns.Client{Timeout: 5 * time.Second, TsigSecret: map[string]string{key.Name + ".": key.Secret}}
	r, _, err := c.Exchange(m, server)
	if err != nil {
		return 0, err
	}
	return r.Rcode, nil
}

func TestASecondServerAnswersAndPassesOn(t *testing.T) {
	t.Parallel()
	s, beside, _, log := two(t, nil)
	s.Record(t, "KET-07")
	name, router := s.Name(t, "KET-07"), s.Router(t, "KET-07")
	key, err := s.Client.AddSigningKey(t.Context(),
		contract.SigningKeyInput{Name: "router.example", Site: "KET-07", MayAnnounce: testbed.Public})
	require.NoError(t, err)

	is, code := ready(t, beside.URL)
	require.Equal(t, contract.RoleStandby, is.Role)
	require.Equal(t, 200, code)
	require.Contains(t, is.Writer, s.URL, "it says who writes")
	require.Contains(t, log.String(), "this server stands by")
	was, _ := ready(t, s.URL)
	require.Equal(t, contract.RoleWriter, was.Role)

	require.NoError(t, router.Announce(t.Context(), "198.51.100.7"))
	behind := soon(t, time.Second, "a move is answered at the standby within a second",
		func() bool { return testbed.Resolve(beside.DNS, name) == "198.51.100.7" })
	t.Logf("the standby answered a move %v after it was acknowledged", behind)
	require.Equal(t, testbed.Serial(s.DNS, zone), testbed.Serial(beside.DNS, zone))
	_, err = s.Client.AddZoneRecord(t.Context(), zone,
		contract.RecordInput{Name: "typed." + zone, Type: "A", Data: "198.51.100.9", TTL: new(30)})
	require.NoError(t, err)
	soon(t, time.Second, "an edit is answered at the standby within a second",
		func() bool { return testbed.Resolve(beside.DNS, "typed."+zone) == "198.51.100.9" })

	// What writes is passed on at every entrance, and whoever changed something reads it at once.
	for n := range 5 {
		note := fmt.Sprintf("pass %d", n)
		_, err = beside.Client.EditSite(t.Context(), "KET-07", client.Fields{"note": note})
		require.NoError(t, err)
		got, err := beside.Client.Site(t.Context(), "KET-07")
		require.NoError(t, err)
		require.Equal(t, note, got.Note)
	}
	_, err = beside.Client.EditSite(t.Context(), "NOT-99", client.Fields{"note": "x"})
	require.Equal(t, 404, status(err), "the writer's own words come back: %v", err)
	there, err := testbed.NewRouter(t.Context(), s.Client, "KET-07", "main")
	require.NoError(t, err)
	require.NoError(t, there.At(beside.URL).Announce(t.Context(), "198.51.100.8"))
	require.Equal(t, "198.51.100.8", testbed.Resolve(s.DNS, name))
	soon(t, time.Second, "it is answered here, too", func() bool { return testbed.Resolve(beside.DNS, name) == "198.51.100.8" })
	rcode, err := sign(beside.DNS, name, "198.51.100.7", key)
	require.NoError(t, err)
	require.Equal(t, dns.RcodeSuccess, rcode)
	require.Equal(t, "198.51.100.7", testbed.Resolve(s.DNS, name))
	rcode, err = sign(beside.DNS, "ket-08."+zone, "198.51.100.7", key)
	require.NoError(t, err)
	require.Equal(t, dns.RcodeRefused, rcode, "what the writer refuses is refused")

	// What is read is what the writer knows.
	o, err := beside.Client.Overview(t.Context())
	require.NoError(t, err)
	require.Empty(t, o.Standby)
	require.Len(t, o.Sites, 1)

	// A key that is revoked at the one does not work at the other.
	keys, err := s.Client.Keys(t.Context())
	require.NoError(t, err)
	for _, k := range keys {
		if k.Label == "test" {
			require.NoError(t, s.Client.RevokeKey(t.Context(), k.ID))
		}
	}
	soon(t, time.Second, "the revoked key is refused at the standby",
		func() bool { _, err := beside.Client.Sites(t.Context()); return status(err) == 401 })
}

func TestAStandbyTakesOverAndGoesOnWhereTheOtherEnded(t *testing.T) {
	t.Parallel()
	s, beside, _, log := two(t, nil)
	s.Record(t, "KET-07")
	name, router := s.Name(t, "KET-07"), s.Router(t, "KET-07")
	require.NoError(t, router.Announce(t.Context(), "198.51.100.7"))
	serial := testbed.Serial(s.DNS, zone)
	s.Stop()
	at := router.At(beside.URL)
	took := soon(t, 5*time.Second, "the standby takes announcements",
		func() bool { return at.Announce(t.Context(), "198.51.100.8") == nil })
	t.Logf("taken over after %v", took)
	require.Equal(t, "198.51.100.8", testbed.Resolve(beside.DNS, name))
	require.True(t, names.SerialAfter(testbed.Serial(beside.DNS, zone), serial))
	require.Contains(t, log.String(), "this server writes")
	moves, err := beside.Client.Moves(t.Context(), contract.MoveQuery{Limit: 9})
	require.NoError(t, err)
	require.Len(t, moves, 2)
}

func TestAServerThatLosesItsLockTakesNothingFromThatMomentOn(t *testing.T) {
	t.Parallel()
	s, beside, database, _ := two(t, nil)
	s.Record(t, "KET-07")
	name, router := s.Name(t, "KET-07"), s.Router(t, "KET-07")
	require.NoError(t, router.Announce(t.Context(), "198.51.100.1"))
	for round := range 4 {
		writer, other := s, beside
		if is, _ := ready(t, s.URL); is.Role != contract.RoleWriter {
			writer, other = beside, s
		}
		// The backend with the lock is ended, as a fail-over of the database or a broken connection would.
		query(t, database, `SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database()
			AND application_name = 'inkpost writer'`)
		var wg sync.WaitGroup
		acknowledged := make([][]string, 2)
		for i, at := range []*testbed.Service{writer, other} {
			wg.Go(func() {
				r := router.At(at.URL)
				for n := range 60 {
					address := fmt.Sprintf("198.51.100.%d", 2+(round*120+i*60+n)%250)
					if r.Announce(t.Context(), address) == nil {
						acknowledged[i] = append(acknowledged[i], address)
					}
				}
			})
		}
		wg.Wait()
		soon(t, 5*time.Second, "one of them writes", func() bool {
			a, _ := ready(t, writer.URL)
			b, _ := ready(t, other.URL)
			return (a.Role == contract.RoleWriter) != (b.Role == contract.RoleWriter)
		})
		for i, list := range acknowledged {
			for _, address := range list {
				// What the new writer accepted comes into the table a second later.
				soon(t, 3*time.Second, fmt.Sprintf("round %d: what server %d acknowledged is recorded: %s", round, i, address),
					func() bool {
						return one[int](t, database, `SELECT count(*) FROM move WHERE host(new_ipv4) = $1`, address) > 0
					})
			}
		}
		soon(t, 2*time.Second, "both answer the same", func() bool {
			return testbed.Resolve(s.DNS, name) == testbed.Resolve(beside.DNS, name) &&
				testbed.Serial(s.DNS, zone) == testbed.Serial(beside.DNS, zone)
		})
	}
}

func TestTwoServersTwoAgentsAndTwoEditorsAtWork(t *testing.T) {
	t.Parallel()
	s, beside, database, _ := two(t, nil)
	length := max(60*time.Second, soaking())
	if testing.Short() {
		length = 5 * time.Second
	}
	ctx, end := context.WithTimeout(t.Context(), length)
	defer end()
	var wg sync.WaitGroup
	var mu sync.Mutex
	moves, edits := 0, 0
	for i := range 2 {
		code := fmt.Sprintf("SITE-%d", i)
		s.Record(t, code)
		s.Name(t, code)
		agent := s.Enrol(t, code)
		wg.Go(func() {
			for n := 0; ctx.Err() == nil; n++ {
				if _, err := agent.Announce(ctx, testbed.Says(fmt.Sprintf("198.51.100.%d", 1+(i*100+n%90)))); err == nil {
					mu.Lock()
					moves++
					mu.Unlock()
				}
				_, _ = agent.Tasks(ctx, "", 0)
				_ = agent.ReportLAN(ctx, contract.LANReport{})
			}
		})
		wg.Go(func() {
			for n := 0; ctx.Err() == nil; n++ {
				field := []string{"note", "name"}[i]
				if _, err := s.Client.EditSite(ctx, "SITE-0", client.Fields{field: fmt.Sprintf("%s %d", field, n)}); err == nil {
					mu.Lock()
					edits++
					mu.Unlock()
				}
				if n%20 == 0 {
					_, err := s.Client.AddZoneRecord(ctx, zone,
						contract.RecordInput{Name: names.Name(fmt.Sprintf("r%d-%d.%s", i, n, zone)), Type: "TXT", Data: `"x"`,
							TTL: new(60)})
					require.True(t, err == nil || ctx.Err() != nil, "%v", err)
				}
				_, _ = beside.Client.Overview(ctx)
			}
		})
	}
	wg.Wait()
	t.Logf("%d moves, %d edits in %v", moves, edits, length)
	require.Greater(t, moves, 20)
	require.Greater(t, edits, 50)
	soon(t, 2*time.Second, "both servers answer the same in the end", func() bool {
		return testbed.Serial(s.DNS, zone) == testbed.Serial(beside.DNS, zone)
	})
	require.Zero(t, one[int](t, database, `SELECT count(*) FROM (SELECT id FROM move GROUP BY id HAVING count(*) > 1) x`))
}

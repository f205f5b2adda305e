package push

import (
	"context"
	"errors"
	"log/slog"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/record/recordtest"
	"inkpost.example/inkpost/internal/engine/zones"
	"inkpost.example/inkpost/internal/lab"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/authdns"
)

const (
	apex   = "quay.saltmarsh.example"
	ket    = names.Name("ket-07." + apex)
	oys    = names.Name("oys-03." + apex)
	secret = "c2xpcHdheS1nYW5uZXQta2V0dGxlLWZlcnJ5LTAwMDE="
)

var noon = time.Date(2026, 3, 14, 12, 0, 0, 0, time.UTC)

// memory is a table in memory, which can fail.
type memory struct {
	mu     sync.Mutex
	rows   map[names.Name]store.RemoteName
	failed error
}

func (m *memory) RemoteNames(context.Context) (out []store.RemoteName, err error) {
	for _, n := range m.rows {
		out = append(out, n)
	}
	return out, nil
}
func (m *memory) PutRemoteName(_ context.Context, n store.RemoteName) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.failed == nil {
		m.rows[n.Name] = n
	}
	return m.failed
}
func (m *memory) DropRemoteName(_ context.Context, _ int64, name names.Name) error {
	delete(m.rows, name)
	return m.failed
}
func (m *memory) AdoptJobs(context.Context, string) error { return nil }

// engine notes what was taken.
type engine struct{ taken []string }

func (e *engine) Taken(h site.Hostname, _ int64, _ time.Time, done bool) {
	e.taken = append(e.taken, string(h.Name)+map[bool]string{true: " and all of it"}[done])
}
func (e *engine) Retain(context.Context) error                                  { return nil }
func (e *engine) ExpectedChange(site.Link) time.Time                            { return time.Time{} }
func (e *engine) Retime(context.Context, []int64) error                         { return nil }
func (e *engine) RaiseSerials(context.Context, map[string]uint32, string) error { return nil }

// stand is the room, what it works on, and the primary that it pushes to.
type stand struct {
	*Pusher
	t       *testing.T
	now     time.Time
	engine  *engine
	table   *memory
	rows    *recordtest.Rows
	primary *lab.Primary
	hub     *events.Hub
}

func pushing(t *testing.T) *stand {
	primary, err := lab.NewPrimary("127.120.77.53:8453", apex, "push.example", secret)
	require.NoError(t, err)
	t.Cleanup(func() { _ = primary.SetRunning(false) })
	s := &stand{t: t, now: noon, engine: &engine{}, table: &memory{rows: map[names.Name]store.RemoteName{}}, primary: primary}
	s.hub = events.NewHub(func() time.Time { return s.now })
	s.rows = &recordtest.Rows{
		ZoneRows: []names.Zone{{ID: 1, Apex: apex, Kind: names.Remote, TTL: 300, Primary: netip.MustParseAddrPort(primary.Addr()),
			Transport: "udp", PrimaryKey: "push.example", Reassert: 3600, Pushing: true}},
		SigningRows: []store.SigningKey{{Name: "push.example", Algorithm: "hmac-sha256", Secret: secret}},
		SiteRows:    []site.Site{{ID: 1, Code: "KET-07"}, {ID: 2, Code: "OYS-03"}},
		LinkRows: []site.Link{{ID: 10, SiteID: 1, Label: "main", Position: 1, IPv4: netip.MustParseAddr("198.51.100.7")},
			{ID: 20, SiteID: 2, Label: "main", Position: 1, IPv4: netip.MustParseAddr("198.51.100.3")}},
		HostnameRows: []site.Hostname{{ID: 100, SiteID: 1, ZoneID: 1, Name: ket, TTL: 60, Extras: []string{"www"}},
			{ID: 200, SiteID: 2, ZoneID: 1, Name: oys, TTL: 30}}}
	s.restart()
	return s
}

// restart has the room read its table and the record anew.
func (s *stand) restart() {
	clock := func() time.Time { return s.now }
	rec := &record.Record{}
	_, err := rec.Load(s.t.Context(), s.rows)
	require.NoError(s.t, err)
	log := slog.New(slog.DiscardHandler)
	z := zones.New(s.engine, rec, &authdns.Directory{}, nil, clock, log)
	s.Pusher, err = remembering(s.t.Context(), s.engine, s.table, rec, z, s.hub, Config{Now: clock, Ticks: clock, Log: log})
	require.NoError(s.t, err)
}

func (s *stand) due() []names.Name { return s.dueNames(s.record.Zone(1), s.now) }

func (s *stand) push(name names.Name) time.Duration {
	s.t.Helper()
	wait, err := s.Pusher.push(s.t.Context(), key{1, name})
	require.NoError(s.t, err)
	return wait
}

// move gives a link another address.
func (s *stand) move(linkID int64, to string) {
	for i := range s.rows.LinkRows {
		if s.rows.LinkRows[i].ID == linkID {
			s.rows.LinkRows[i].IPv4 = netip.MustParseAddr(to)
			s.record.SetLinks([]site.Link{s.rows.LinkRows[i]})
		}
	}
}

// answer is what the primary has at a name; empty where it has none.
func (s *stand) answer(name names.Name) string {
	r, _, err := new(dns.Client).Exchange(new(dns.Msg).SetQuestion(string(name)+".", dns.TypeA), s.primary.Addr())
	require.NoError(s.t, err)
	if len(r.Answer) == 0 {
		return ""
	}
	return r.Answer[0].(*dns.A).A.String()
}

func TestWhatAPrimaryDoesNotHaveIsDueUntilItTookIt(t *testing.T) {
	s := pushing(t)
	require.Equal(t, []names.Name{ket, oys, "www." + ket}, s.due())
	require.Zero(t, s.push(ket))
	require.Equal(t, "198.51.100.7", s.answer(ket))
	require.Equal(t, []string{string(ket)}, s.engine.taken, "its label www is not there yet")
	require.Zero(t, s.push("www."+ket))
	require.Zero(t, s.push(oys))
	require.Equal(t, []string{string(ket), string(ket) + " and all of it", string(oys) + " and all of it"}, s.engine.taken)
	require.Empty(t, s.due())

	s.move(10, "198.51.100.77")
	require.Equal(t, []names.Name{ket, "www." + ket}, s.due(), "what moved, and nothing else")
	require.Zero(t, s.push(ket))
	require.Equal(t, "198.51.100.77", s.answer(ket))
	s.restart()
	require.Equal(t, []names.Name{"www." + ket}, s.due(), "what was taken is remembered")
	s.now = s.now.Add(2 * time.Hour)
	require.Len(t, s.due(), 3, "it is asserted again at intervals")
}

func TestANameThatIsGoneIsTakenBack(t *testing.T) {
	s := pushing(t)
	require.Zero(t, s.push(oys))
	s.rows.HostnameRows = s.rows.HostnameRows[:1]
	s.restart()
	require.Contains(t, s.due(), oys)
	require.Zero(t, s.push(oys))
	require.Empty(t, s.answer(oys))
	require.NotContains(t, s.due(), oys)
	require.NotContains(t, s.table.rows, oys, "nothing is left to remember of it")
}

func TestAPrimaryThatRefusesIsAskedAgainLaterAndLater(t *testing.T) {
	s := pushing(t)
	s.rows.SigningRows[0].Secret = "bm90IHRoZSBzZWNyZXQgb2YgdGhpcyBrZXkgYXQgYWxs"
	s.restart()
	first := s.push(oys)
	require.GreaterOrEqual(t, first, firstRefusedRetry/2)
	push, held := s.Of(s.rows.HostnameRows[1])
	require.True(t, held)
	require.Equal(t, diagnose.PushRefused, push.Problem)
	require.Equal(t, 1, push.Tries)
	require.Equal(t, noon, push.Since)
	s.now = s.now.Add(time.Hour)
	for range 12 {
		require.LessOrEqual(t, s.push(oys), maxRefusedRetry)
	}
	push, _ = s.Of(s.rows.HostnameRows[1])
	require.Equal(t, 13, push.Tries)
	require.Equal(t, noon, push.Since, "since the first try in vain")

	s.rows.SigningRows[0].Secret = secret
	s.restart()
	require.Zero(t, s.push(oys))
	_, held = s.Of(s.rows.HostnameRows[1])
	require.False(t, held)
	require.Zero(t, s.table.rows[oys].Tries)
}

// Of the names of a primary that is away, one tries for all.
func TestOneNameTriesForAllWhileAPrimaryIsAway(t *testing.T) {
	s := pushing(t)
	require.NoError(t, s.primary.SetRunning(false))
	rest := s.push(oys)
	require.Positive(t, rest)
	require.LessOrEqual(t, rest, maxRetry)
	began := time.Now()
	require.Positive(t, s.push(ket))
	require.Less(t, time.Since(began), time.Second, "nobody is asked for it")
	push, held := s.Of(s.rows.HostnameRows[0])
	require.True(t, held, "it shows what keeps it")
	require.Equal(t, diagnose.PushUnreachable, push.Problem)

	s.move(20, "198.51.100.33")
	s.move(20, "198.51.100.34")
	require.NoError(t, s.primary.SetRunning(true))
	s.now = s.now.Add(rest + time.Second)
	require.Zero(t, s.push(oys))
	require.Equal(t, "198.51.100.34", s.answer(oys), "the newest address, once")
	require.Len(t, s.added, 2, "the others need not wait for their turns")
	require.True(t, (<-s.added).now)
	require.Zero(t, s.push(ket))
}

func TestWhatCouldNotBeRecordedIsPushedAgain(t *testing.T) {
	s := pushing(t)
	s.table.failed = errors.New("the database is away")
	wait, err := s.Pusher.push(t.Context(), key{1, oys})
	require.ErrorIs(t, err, s.table.failed)
	require.Positive(t, wait)
	s.table.failed = nil
	s.restart()
	require.Contains(t, s.due(), oys, "the table says that it was not taken: pushing it twice does no harm")
	require.Zero(t, s.push(oys))
}

func TestAZoneThatIsNotPushedKeepsItsNames(t *testing.T) {
	s := pushing(t)
	s.rows.ZoneRows[0].Pushing = false
	s.restart()
	require.Zero(t, s.push(oys))
	require.Empty(t, s.answer(oys))
	_, held := s.Of(s.rows.HostnameRows[1])
	require.True(t, held)
	s.Due(s.record.Zone(1), true)
	require.Empty(t, s.added)
}

func TestWhatSomebodyChangedAtThePrimaryIsRestored(t *testing.T) {
	s := pushing(t)
	require.Zero(t, s.push(oys))
	m := new(dns.Msg).SetUpdate(apex + ".")
	a, err := dns.NewRR(string(oys) + ". 30 A 203.0.113.66")
	require.NoError(t, err)
	m.RemoveRRset([]dns.RR{a})
	m.Insert([]dns.RR{a})
	m.SetTsig("push.example.", dns.HmacSHA256, 300, time.Now().Unix())
	c := dns.Client{TsigSecret: map[string]string{"push.example.": secret}}
	r, _, err := c.Exchange(m, s.primary.Addr())
	require.NoError(t, err)
	require.Equal(t, dns.RcodeSuccess, r.Rcode)
	require.NoError(t, s.Repair(t.Context(), s.record.Zone(1), s.rows.HostnameRows[1]))
	require.Len(t, s.added, 1)
	require.Zero(t, s.push((<-s.added).key.name))
	require.Equal(t, "198.51.100.3", s.answer(oys))
	require.NoError(t, s.Repair(t.Context(), s.record.Zone(1), s.rows.HostnameRows[1]))
	require.Empty(t, s.added, "nothing is wrong any more")
}

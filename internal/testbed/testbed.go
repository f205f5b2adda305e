// Package testbed starts what tests run against: a PostgreSQL of their own, and the service on it.
package testbed

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/alexedwards/argon2id"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/daemon"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/store/cluster"
)

// Public holds addresses for documentation (RFC 5737) that count as public in tests, and the lab's.
var Public = []netip.Prefix{netip.MustParsePrefix("198.51.100.0/24"), netip.MustParsePrefix("203.0.113.0/24"),
	netip.MustParsePrefix("2001:db8::/32"), netip.MustParsePrefix("127.96.0.0/11")}

// LANs stand for sites' LANs in tests.
var LANs = []netip.Prefix{netip.MustParsePrefix("127.192.0.0/10")}

var (
	start   sync.Once
	shared  *cluster.Cluster
	failed  error
	dir     string
	counter atomic.Int64
)

// Main runs a package's tests and stops its PostgreSQL after them.
func Main(m *testing.M) {
	code := m.Run()
	if shared != nil {
		shared.Stop()
	}
	if dir != "" {
		_ = os.RemoveAll(dir)
	}
	os.Exit(code)
}

// Database returns the URL of a database with the schema as it is and nothing on record. The package's TestMain has to be Main.
func Database(t testing.TB) string {
	t.Helper()
	at := databases(t)
	url, err := at.DatabaseLike(t.Context(), nextName(), schema)
	require.NoError(t, err)
	return url
}

// EmptyDatabase returns the URL of a database without a schema. The package's TestMain has to be Main.
func EmptyDatabase(t testing.TB) string {
	t.Helper()
	at := databases(t)
	url, err := at.NewDatabase(t.Context(), nextName())
	require.NoError(t, err)
	return url
}

// schema is the database that most others of a package are made like.
const schema = "schema"

func nextName() string { return fmt.Sprintf("t%d", counter.Add(1)) }

func databases(t testing.TB) *cluster.Cluster {
	t.Helper()
	start.Do(func() { failed = startDatabases(context.Background()) })
	require.NoError(t, failed, "start PostgreSQL")
	return shared
}

// startDatabases starts PostgreSQL, and makes the schema once.
func startDatabases(ctx context.Context) (err error) {
	if err := scratch(); err != nil {
		return err
	}
	if shared, err = cluster.Start(ctx, cluster.Options{Dir: dir, Fast: true}); err != nil {
		return err
	}
	url, err := shared.NewDatabase(ctx, schema)
	if err != nil {
		return err
	}
	st, err := store.Open(ctx, url)
	if err != nil {
		return err
	}
	defer st.Close()
	return st.Prepare(ctx, "testbed", time.Now())
}

// Scratch is a folder that lasts as long as the package's tests.
func Scratch() string {
	if err := scratch(); err != nil {
		panic(err)
	}
	return dir
}

var scratch = sync.OnceValue(func() (err error) {
	dir, err = os.MkdirTemp("", "inkpost-test-")
	return err
})

// OwnDatabase returns the URL of a database in a PostgreSQL of the test's own, and a function that takes it away.
func OwnDatabase(t testing.TB) (url string, away func()) {
	t.Helper()
	own, err := os.MkdirTemp("", "inkpost-own-") // not t.TempDir: the database's user may not enter that
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(own) })
	c, err := cluster.Start(t.Context(), cluster.Options{Dir: own, Fast: true})
	require.NoError(t, err)
	away = sync.OnceFunc(c.Stop)
	t.Cleanup(away)
	return c.URL("inkpost"), away
}

// Says is the report of an agent whose sources agree on addresses. Its key has to be allowed to announce them, as they are not those that
// the test speaks from.
func Says(addresses ...string) contract.Announcement {
	in := contract.Announcement{Source: "gateway",
		AgentSelf: contract.AgentSelf{Protocol: contract.AgentProtocol, Version: "test", Sent: time.Now().UTC()}}
	for _, source := range []string{"stun", "gateway"} {
		report := contract.SourceReport{Source: source, Via: "test"}
		for _, text := range addresses {
			if netip.MustParseAddr(text).Is4() {
				report.IPv4 = text
			} else {
				report.IPv6 = text
			}
		}
		in.Reports = append(in.Reports, report)
	}
	return in
}

// Router announces as a router does that can only fetch a URL: what it says is not weighed against anything, and not damped.
type Router struct{ base, secret string }

// NewRouter makes a router's key for a link, with which it may announce any of the addresses that stand for public ones. Errors: those
// of package client.
func NewRouter(ctx context.Context, c *client.Client, code, link string) (Router, error) {
	key, err := c.AddRouterKey(ctx, code, link, "router", Public...)
	return Router{c.Base(), key.Secret}, err
}

// At is the same router, at another server.
func (r Router) At(base string) Router { return Router{base, r.secret} }

// Announce announces addresses. Everything but a reply that they are taken is an error.
func (r Router) Announce(ctx context.Context, addresses ...string) error {
	q := url.Values{}
	for _, text := range addresses {
		family := "ipv6"
		if netip.MustParseAddr(text).Is4() {
			family = "ipv4"
		}
		q.Set(family, text)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, r.base+"/announce/"+r.secret+"?"+q.Encode(), nil)
	if err != nil {
		return err
	}
	reply, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer reply.Body.Close()
	line, err := io.ReadAll(reply.Body)
	if err == nil && reply.StatusCode != http.StatusOK {
		err = fmt.Errorf("%d: %s", reply.StatusCode, strings.TrimSpace(string(line)))
	}
	return err
}

// Options of the service.
type Options = daemon.Options

// Service is a running service with its owner signed in.
type Service struct {
	*daemon.Daemon
	Client   *client.Client // with the owner's key
	Password string         // the owner's
	Key      string         // likewise
}

// options are those of a service on free ports; edit may change them.
func options(t testing.TB, edit func(*Options)) Options {
	o := daemon.Options{HTTP: "127.0.0.1:0", DNS: "127.0.0.1:0", Redirect: "127.0.0.1:0", STUN: "127.0.0.1:0",
		Policy: wan.Policy{StandIns: Public, LANs: LANs}, KeyRate: 1000, ProbeDeadline: 300 * time.Millisecond,
		ShortestInterval: time.Second,
		CheckEvery:       time.Second, VerifyEvery: time.Second, Log: slog.New(slog.NewTextHandler(&lines{t: t}, nil))}
	if edit != nil {
		edit(&o)
	}
	if o.Database == "" {
		o.Database = Database(t)
	}
	return o
}

// Bare runs a service in which nobody has signed in. Error: that of daemon.Start.
func Bare(t testing.TB, edit func(*Options)) (*daemon.Daemon, error) {
	t.Helper()
	d, err := daemon.Start(t.Context(), options(t, edit))
	if err == nil {
		t.Cleanup(d.Stop)
	}
	return d, err
}

// Beside runs a further service, on the database of one that runs.
func Beside(t testing.TB, s *Service, database string, edit func(*Options)) *Service {
	t.Helper()
	d, err := daemon.Start(t.Context(), options(t, func(o *Options) {
		o.Database = database
		if edit != nil {
			edit(o)
		}
	}))
	require.NoError(t, err)
	t.Cleanup(d.Stop)
	c, err := client.New(d.URL, s.Key)
	require.NoError(t, err)
	return &Service{Daemon: d, Client: c, Password: s.Password, Key: s.Key}
}

// Start runs the service on free ports; edit may change its options.
func Start(t testing.TB, edit func(*Options)) *Service {
	t.Helper()
	o := options(t, edit)
	d, err := daemon.Start(t.Context(), o)
	require.NoError(t, err)
	t.Cleanup(d.Stop)
	s := &Service{Daemon: d, Password: "slipway-gannet-kettle"}
	// A cheap hash: signing in is not what most tests are about.
	hash, err := argon2id.CreateHash(s.Password, &argon2id.Params{Memory: 64, Iterations: 1, Parallelism: 1, SaltLength: 16, KeyLength: 32})
	require.NoError(t, err)
	require.NoError(t, d.Store().PutPassword(t.Context(), "owner", []byte(hash), time.Time{}, true))
	anonymous, err := client.New(d.URL, "")
	require.NoError(t, err)
	visit, err := anonymous.SignIn(t.Context(), "owner", s.Password)
	require.NoError(t, err)
	key, err := visit.AddKey(t.Context(), "test")
	require.NoError(t, err)
	s.Key = key.Secret
	s.Client, err = client.New(d.URL, key.Secret)
	require.NoError(t, err)
	return s
}

// Join makes somebody part of the team, and returns their visit and a client with a key of theirs.
func (s *Service) Join(t testing.TB, name string, role team.Role, tags ...string) (*client.Visit, *client.Client) {
	t.Helper()
	inv, err := s.Client.InvitePerson(t.Context(), contract.PersonInvitationInput{Name: name, Role: role, Tags: tags})
	require.NoError(t, err)
	anonymous, err := client.New(s.URL, "")
	require.NoError(t, err)
	visit, err := anonymous.Accept(t.Context(), inv.Code, s.Password)
	require.NoError(t, err)
	key, err := visit.AddKey(t.Context(), "test")
	require.NoError(t, err)
	c, err := client.New(s.URL, key.Secret)
	require.NoError(t, err)
	return visit, c
}

// lines hands log lines to the test, until it has ended.
type lines struct {
	t  testing.TB
	mu sync.Mutex
}

func (l *lines) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.t.Context().Err() == nil {
		l.t.Log(strings.TrimSpace(string(p)))
	}
	return len(p), nil
}

package trials_test

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/testbed"
	"inkpost.example/inkpost/internal/wire/relay"
)

// asker asks from an address of this machine.
func asker(from string) *http.Client {
	return &http.Client{Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, network,
		to string) (net.Conn, error) {
		return (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}).DialContext(ctx, network, to)
	}}}
}

// edit sends a change of a site's note, with a header if one is given, and returns the status.
func edit(t *testing.T, asks *http.Client, at *testbed.Service, name, value string) int {
	t.Helper()
	q, err := http.NewRequestWithContext(t.Context(), http.MethodPatch, at.URL+"/api/v1/sites/KET-07", strings.NewReader(`{"note":"x"}`))
	require.NoError(t, err)
	q.Header.Set("Authorization", "Bearer "+at.Key)
	q.Header.Set("Content-Type", "application/json")
	if name != "" {
		q.Header.Set(name, value)
	}
	answer, err := asks.Do(q)
	require.NoError(t, err)
	_ = answer.Body.Close()
	return answer.StatusCode
}

func TestWhoIsPassedOnIsWhoAsked(t *testing.T) {
	t.Parallel()
	s, beside, database, _ := two(t, nil)
	s.Record(t, "KET-07")
	require.Equal(t, 200, edit(t, asker("127.0.0.77"), beside, "", ""))
	list, err := s.Client.Acts(t.Context(), url.Values{"site": {"KET-07"}})
	require.NoError(t, err)
	require.Equal(t, "127.0.0.77", list[0].Address, "the record names the client, not the server in between")

	// Nobody says so but a server on the database.
	q, err := http.NewRequestWithContext(t.Context(), http.MethodPatch, s.URL+"/api/v1/sites/KET-07", nil)
	require.NoError(t, err)
	relay.Sign(q, []byte("guessed"), relay.From{Address: netip.MustParseAddr("198.51.100.7")}, time.Now())
	for _, at := range []*testbed.Service{s, beside} {
		require.Equal(t, http.StatusMisdirectedRequest, edit(t, asker("127.0.0.78"), at, relay.Header, q.Header.Get(relay.Header)))
		require.Equal(t, http.StatusMisdirectedRequest, edit(t, asker("127.0.0.78"), at, relay.Header, "127.0.0.1"))
	}
	answer, err := http.Post(s.URL+"/api/v1/members/heartbeats", "application/json", strings.NewReader("[]"))
	require.NoError(t, err)
	_ = answer.Body.Close()
	require.Equal(t, 403, answer.StatusCode, "a door for servers on the database only")
	require.NotEmpty(t, one[string](t, database, `SELECT relay_key FROM writer`))
}

func TestASessionIsGoodAtEveryServer(t *testing.T) {
	t.Parallel()
	s, beside, _, _ := two(t, nil)
	s.Record(t, "KET-07")
	anonymous, err := client.New(beside.URL, "")
	require.NoError(t, err)
	visit, err := anonymous.SignIn(t.Context(), "owner", s.Password)
	require.NoError(t, err)
	k, err := visit.AddKey(t.Context(), "made in a session that began at the other server")
	require.NoError(t, err)
	here, err := client.New(beside.URL, k.Secret)
	require.NoError(t, err)

	// Events of the writer come through, also after it has gone and the other writes.
	ctx, end := context.WithCancel(t.Context())
	defer end()
	heard := make(chan contract.Event, 256)
	go func() { _ = here.Follow(ctx, "KET-07", func(ev contract.Event) { heard <- ev }, func(error) {}) }()
	hears := func(why string, at *client.Client) {
		t.Helper()
		require.Eventually(t, func() bool {
			_, _ = at.EditSite(context.Background(), "KET-07", client.Fields{"note": time.Now().String()})
			return len(heard) > 0
		}, 10*time.Second, 50*time.Millisecond, why)
		for len(heard) > 0 {
			<-heard
		}
	}
	hears("what the writer tells comes through", s.Client)
	s.Stop()
	soon(t, 5*time.Second, "the other takes over", func() bool {
		_, err := here.EditSite(context.Background(), "KET-07", client.Fields{"note": "after"})
		return err == nil
	})
	hears("the stream has begun anew", beside.Client)
}

func TestAWriterThatDoesNotAnswerLeavesWhatIsKnownHere(t *testing.T) {
	t.Parallel()
	database := testbed.Database(t)
	active := testbed.Launch(t, database)
	owner, key := active.Owner(t)
	s := &testbed.Service{Client: owner}
	s.Record(t, "KET-07")
	standby := testbed.Launch(t, database)
	at, err := client.New(standby.URL, key)
	require.NoError(t, err)
	_, err = at.EditSite(t.Context(), "KET-07", client.Fields{"note": "passed on"})
	require.NoError(t, err)
	active.Freeze(t)
	began := time.Now()
	o, err := at.Overview(t.Context())
	require.NoError(t, err)
	require.NotEmpty(t, o.Standby, "it says that it is not the newest")
	require.Len(t, o.Sites, 1)
	require.Less(t, time.Since(began), 4*time.Second)
	_, err = at.EditSite(t.Context(), "KET-07", client.Fields{"note": "not passed on"})
	require.Equal(t, 503, status(err), "%v", err)
	active.Kill()
	soon(t, 5*time.Second, "it takes over", func() bool {
		_, err := at.EditSite(context.Background(), "KET-07", client.Fields{"note": "here"})
		return err == nil
	})
	got, err := at.Site(t.Context(), "KET-07")
	require.NoError(t, err)
	require.Equal(t, "here", got.Note)
}

// A server whose program is newer than the schema has no record until it writes; until then it passes on.
func TestANewerProgramPassesOnUntilItWrites(t *testing.T) {
	t.Parallel()
	database := testbed.Database(t)
	s := start(t, func(o *options) { o.Database = database })
	s.Record(t, "KET-07")
	router := s.Router(t, "KET-07")
	newest := one[int64](t, database, `SELECT max(version_id) FROM goose_db_version`)
	query(t, database, `DELETE FROM goose_db_version WHERE version_id = $1`, newest)
	beside := testbed.Beside(t, s, database, nil)
	is, _ := ready(t, beside.URL)
	require.Equal(t, contract.RoleStarting, is.Role)
	_, err := beside.Client.EditSite(t.Context(), "KET-07", client.Fields{"note": "passed on"})
	require.NoError(t, err)
	got, err := beside.Client.Site(t.Context(), "KET-07")
	require.NoError(t, err)
	require.Equal(t, "passed on", got.Note)
	require.NoError(t, router.At(beside.URL).Announce(t.Context(), "198.51.100.7"))

	query(t, database, `INSERT INTO goose_db_version (version_id, is_applied) VALUES ($1, true)`, newest) // what is in it is there
	s.Stop()
	soon(t, 5*time.Second, "it writes", func() bool { is, _ := ready(t, beside.URL); return is.Role == contract.RoleWriter })
	link, err := beside.Client.Link(t.Context(), "KET-07", "main")
	require.NoError(t, err)
	require.Equal(t, "198.51.100.7", link.IPv4.String())
}

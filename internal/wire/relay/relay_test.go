package relay_test

import (
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/wire/relay"
)

func TestOnlyServersOnTheDatabaseSayWhomTheySpeakFor(t *testing.T) {
	key, now := relay.NewKey(), time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	of := func(method, path string) *http.Request { return httptest.NewRequest(method, path, nil) }
	from := relay.From{Address: netip.MustParseAddr("2001:db8::7"), Secure: true}
	q := of("POST", "/api/v1/announcements?x=1")
	require.False(t, relay.Relayed(q))
	relay.Sign(q, key, from, now)
	require.True(t, relay.Relayed(q))
	got, err := relay.Read(q, key, now.Add(30*time.Second))
	require.NoError(t, err)
	require.Equal(t, from, got)

	wrong := func(why string, change func(q *http.Request) ([]byte, time.Time)) {
		t.Helper()
		q := of("POST", "/api/v1/announcements?x=1")
		relay.Sign(q, key, from, now)
		with, at := change(q)
		_, err := relay.Read(q, with, at)
		require.ErrorIs(t, err, relay.ErrNotOurs, why)
	}
	edit := func(old, new string) func(q *http.Request) ([]byte, time.Time) {
		return func(q *http.Request) ([]byte, time.Time) {
			q.Header.Set(relay.Header, strings.Replace(q.Header.Get(relay.Header), old, new, 1))
			return key, now
		}
	}
	wrong("the key of another epoch", func(*http.Request) ([]byte, time.Time) { return relay.NewKey(), now })
	wrong("no key: this server does not write", func(*http.Request) ([]byte, time.Time) { return nil, now })
	wrong("too old", func(*http.Request) ([]byte, time.Time) { return key, now.Add(2 * time.Minute) })
	wrong("of the future", func(*http.Request) ([]byte, time.Time) { return key, now.Add(-2 * time.Minute) })
	wrong("another client", edit("2001:db8::7", "2001:db8::8"))
	wrong("another protocol", edit("true", "false"))
	wrong("half a header", edit("true ", ""))
	wrong("another path", func(q *http.Request) ([]byte, time.Time) { q.URL.Path = "/api/v1/sites"; return key, now })
	wrong("another method", func(q *http.Request) ([]byte, time.Time) { q.Method = "DELETE"; return key, now })
}

// Whatever a header says, nobody is believed who does not have the key.
func FuzzRead(f *testing.F) {
	f.Add("198.51.100.7 true 1795420800 00ff")
	f.Add("")
	f.Fuzz(func(t *testing.T, header string) {
		q := httptest.NewRequest("POST", "/api/v1/announcements", nil)
		q.Header.Set(relay.Header, header)
		_, err := relay.Read(q, relay.NewKey(), time.Unix(1795420800, 0))
		require.ErrorIs(t, err, relay.ErrNotOurs)
	})
}

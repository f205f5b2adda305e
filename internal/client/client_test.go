package client

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
)

func open(t *testing.T, h http.HandlerFunc) *Client {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	c, err := New(s.URL+"/", "the-key")
	require.NoError(t, err)
	return c
}

func TestRequestsAreWhatTheAPIExpects(t *testing.T) {
	var method, path, query, auth, kind string
	var body map[string]any
	c := open(t, func(w http.ResponseWriter, r *http.Request) {
		method, path, query, auth, kind = r.Method, r.URL.EscapedPath(), r.URL.RawQuery, r.Header.Get("Authorization"),
			r.Header.Get("Content-Type")
		body = nil
		_ = json.NewDecoder(r.Body).Decode(&body)
		_, _ = w.Write([]byte(`{}`))
	})
	_, err := c.EditSite(t.Context(), "A/B", Fields{"note": "x"})
	require.NoError(t, err)
	require.Equal(t, []string{"PATCH", "/api/v1/sites/A%2FB", "", "Bearer the-key", "application/json"},
		[]string{method, path, query, auth, kind})
	require.Equal(t, map[string]any{"note": "x"}, body, "only what changes is sent")
	_, _ = c.Moves(t.Context(), contract.MoveQuery{Site: "KET-07", Before: 7, Limit: 20})
	require.Equal(t, "before=7&limit=20&site=KET-07", query)
	_, _ = c.Faults(t.Context(), "", false)
	require.Empty(t, query)
	_ = c.SetLabForward(t.Context(), "KET-07", "page", false)
	require.Equal(t, "DELETE /api/v1/lab/sites/KET-07/services/page/forward", method+" "+path)
}

func TestProblemsComeBackAsErrors(t *testing.T) {
	reply := func(w http.ResponseWriter) {}
	c := open(t, func(w http.ResponseWriter, _ *http.Request) { reply(w) })
	reply = func(w http.ResponseWriter) {
		w.WriteHeader(422)
		_, _ = w.Write([]byte(`{"type":"urn:x","title":"Unprocessable","status":422,"detail":"name: is empty",` +
			`"errors":[{"field":"name","detail":"is empty"}]}`))
	}
	_, err := c.Sites(t.Context())
	var e *Error
	require.ErrorAs(t, err, &e)
	require.Equal(t, "name: is empty", err.Error())
	require.Equal(t, "name", e.Errors[0].Field)
	require.True(t, IsStatus(err, 422))
	require.False(t, IsStatus(err, 404))
	reply = func(w http.ResponseWriter) { http.Error(w, "<html>proxy</html>", http.StatusBadGateway) }
	_, err = c.Sites(t.Context())
	require.ErrorContains(t, err, "502")
	reply = func(w http.ResponseWriter) { _, _ = w.Write([]byte("not json")) }
	_, err = c.Sites(t.Context())
	require.ErrorContains(t, err, "cannot be read")
	reply = func(w http.ResponseWriter) { w.WriteHeader(204) }
	require.NoError(t, c.RemoveSite(t.Context(), "KET-07"))

	away, err := New("http://127.0.0.1:9", "")
	require.NoError(t, err)
	_, err = away.Sites(t.Context())
	var u *Unreachable
	require.ErrorAs(t, err, &u)
	require.ErrorContains(t, err, "http://127.0.0.1:9 does not answer")
	for _, bad := range []string{"", "127.0.0.1:8460", "ftp://x", "http://"} {
		_, err := New(bad, "")
		require.ErrorContains(t, err, "give one such as", bad)
	}
}

func TestFollowComesBackAndTakesUpWhatItMissed(t *testing.T) {
	var mu sync.Mutex
	var resumed []string
	c := open(t, func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		resumed = append(resumed, r.Header.Get("Last-Event-ID"))
		n := len(resumed)
		mu.Unlock()
		w.Header().Set("Content-Type", "text/event-stream")
		switch n {
		case 1:
			_, _ = fmt.Fprint(w, ": listening\n\nid: 1\ndata: {\"id\":\"1\",\"type\":\"a\"}\n\n") // and the connection breaks
		case 2:
			_, _ = fmt.Fprint(w, "id: 2\ndata: {\"id\":\"2\",\"type\":\"b\"}\n\n")
		case 3:
			w.WriteHeader(503) // another server takes over
			_, _ = w.Write([]byte(`{"status":503,"detail":"this server stands by"}`))
		case 4:
			_, _ = fmt.Fprint(w, "event: reread\ndata: {}\n\nid: 9\ndata: {\"id\":\"9\",\"type\":\"c\"}\n\n")
		default:
			w.WriteHeader(401)
			_, _ = w.Write([]byte(`{"status":401,"detail":"the key was revoked"}`))
		}
	})
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	var got []string
	lost := 0
	err := c.Follow(ctx, "", func(ev contract.Event) { got = append(got, ev.Type) }, func(err error) {
		if err == nil {
			lost++
		}
	})
	require.ErrorContains(t, err, "the key was revoked", "a refusal ends it")
	require.Equal(t, []string{"a", "b", "c"}, got)
	require.Equal(t, []string{"", "1", "2", "2", "9"}, resumed)
	require.Equal(t, 1, lost, "where events were lost, that is told")

	ended, stop := context.WithCancel(t.Context())
	stop()
	require.NoError(t, c.Follow(ended, "", nil, func(error) {}))
}

func TestAChangeSaysWhichRevisionItIsOf(t *testing.T) {
	var method, match string
	c := open(t, func(w http.ResponseWriter, r *http.Request) {
		method, match = r.Method, r.Header.Get("If-Match")
		if match == `"7-1"` {
			w.WriteHeader(412)
			_, _ = w.Write([]byte(`{"type":"urn:x","title":"Precondition Failed","status":412,"detail":"owner changed note","current":"7-2",
				"meanwhile":[{"revision":2,"person":"owner","at":"2026-03-04T12:00:00Z","changes":[{"field":"note",` +
				`"before":"\"\"","after":"\"x\""}]}]}`))
			return
		}
		_, _ = w.Write([]byte(`{}`))
	})
	_, err := c.EditSite(t.Context(), "KET-07", Fields{"note": "x"})
	require.NoError(t, err)
	require.Empty(t, match, "whoever has read nothing edits whatever is there")
	_, err = c.EditSite(OnlyIf(t.Context(), "7-2"), "KET-07", Fields{"note": "x"})
	require.NoError(t, err)
	require.Equal(t, `"7-2"`, match)
	require.NoError(t, c.RemoveSite(OnlyIf(t.Context(), "7-3"), "KET-07"))
	require.Equal(t, `DELETE "7-3"`, method+" "+match)
	_, err = c.HoldHostname(OnlyIf(t.Context(), "9-9"), "ket-07.isles.saltmarsh.example")
	require.NoError(t, err)
	require.Equal(t, `PUT "9-9"`, method+" "+match)

	_, err = c.EditSite(OnlyIf(t.Context(), "7-1"), "KET-07", Fields{"note": "x"})
	var p *Error
	require.ErrorAs(t, err, &p)
	require.True(t, IsStatus(err, 412))
	require.Equal(t, "7-2", p.Current)
	require.Len(t, p.Meanwhile, 1)
	require.Equal(t, "owner", p.Meanwhile[0].Person)
	require.Equal(t, "note", p.Meanwhile[0].Changes[0].Field)
}

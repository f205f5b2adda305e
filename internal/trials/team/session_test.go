package team_test

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/testbed"
)

// posted sends a document, with headers as "Name: value".
func posted(t *testing.T, url string, doc any, headers ...string) (*http.Response, string) {
	t.Helper()
	body, isText := doc.(string)
	if !isText {
		text, err := json.Marshal(doc)
		require.NoError(t, err)
		body = string(text)
	}
	req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, url, strings.NewReader(body))
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/json")
	for _, h := range headers {
		name, value, _ := strings.Cut(h, ": ")
		req.Header.Set(name, value)
	}
	r, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	return r, string(text)
}

func TestASessionIsTheServersToGive(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	in := contract.SignIn{Name: "owner", Password: s.Password}
	fixed := strings.Repeat("A", 43)
	r, _ := posted(t, s.URL+"/api/v1/session", in, "Cookie: inkpost_session="+fixed)
	require.Equal(t, http.StatusOK, r.StatusCode)
	require.Len(t, r.Cookies(), 1)
	cookie := r.Cookies()[0]
	require.NotEqual(t, fixed, cookie.Value, "one that a stranger set is not taken over")
	require.True(t, cookie.HttpOnly)
	require.Equal(t, http.SameSiteStrictMode, cookie.SameSite)
	again, _ := posted(t, s.URL+"/api/v1/session", in, "Cookie: inkpost_session="+cookie.Value)
	require.NotEqual(t, cookie.Value, again.Cookies()[0].Value, "each sign-in has its own")
	for value, want := range map[string]int{cookie.Value: 200, fixed: 401, "": 401, cookie.Value + "x": 401,
		strings.ToLower(cookie.Value): 401} {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.URL+"/api/v1/session", nil)
		require.NoError(t, err)
		req.Header.Set("Cookie", "inkpost_session="+value)
		got, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		got.Body.Close()
		require.Equal(t, want, got.StatusCode, value)
	}
}

func TestWhoIsOnRecordCannotBeFoundOutByTrying(t *testing.T) { // alone: it measures
	s := testbed.Start(t, nil)
	hash, err := s.Store().PersonNamed(t.Context(), "owner")
	require.NoError(t, err)
	require.NotEmpty(t, hash.PasswordHash)
	s.Join(t, "dispatch", team.Viewer) // with a password that costs what passwords cost
	took := map[string]time.Duration{}
	words := map[string]string{}
	for _, name := range []string{"dispatch", "nobody at all"} {
		for range 2 {
			began := time.Now()
			r, text := posted(t, s.URL+"/api/v1/session", contract.SignIn{Name: name, Password: "a wrong password"})
			took[name] += time.Since(began)
			require.Equal(t, http.StatusUnauthorized, r.StatusCode)
			words[name] = text
		}
	}
	require.Equal(t, words["dispatch"], words["nobody at all"])
	require.Less(t, took["dispatch"], 8*took["nobody at all"], "%v", took)
	require.Less(t, took["nobody at all"], 8*took["dispatch"], "%v", took)
}

func TestWhatABrowserMayDoWithOurPagesIsBounded(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	for _, path := range []string{"/api/v1/session", "/api/v1/sites", "/healthz", "/handover/nothing"} {
		r, err := http.Get(s.URL + path)
		require.NoError(t, err)
		r.Body.Close()
		policy := r.Header.Get("Content-Security-Policy")
		require.Contains(t, policy, "default-src 'self'", path)
		require.Contains(t, policy, "frame-ancestors 'none'", path)
		require.NotContains(t, strings.Split(policy, "style-src")[0], "unsafe", path)
		require.Equal(t, "nosniff", r.Header.Get("X-Content-Type-Options"), path)
	}
	for _, path := range []string{"/../../../../etc/passwd", "/%2e%2e/%2e%2e/%2e%2e/etc/passwd", "/assets/..%2f..%2f..%2fetc%2fpasswd",
		"//etc/passwd", "/api/v1/../../etc/passwd"} {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.URL, nil)
		require.NoError(t, err)
		req.URL.Opaque = "//" + req.URL.Host + path
		r, err := http.DefaultTransport.RoundTrip(req)
		require.NoError(t, err)
		body, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		r.Body.Close()
		require.NotContains(t, string(body), "root:", path)
	}
}

func TestDocumentsThatExplodeAreRefused(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	auth := "Authorization: Bearer " + s.Key
	for name, doc := range map[string]string{
		"deep":       strings.Repeat(`[`, 30_000) + strings.Repeat(`]`, 30_000),
		"deep field": `{"code": "KET-07", "tags": ` + strings.Repeat(`[`, 20_000) + strings.Repeat(`]`, 20_000) + `}`,
		"wide":       `{` + strings.TrimSuffix(strings.Repeat(`"a":1,`, 10_000), ",") + `}`,
		"large":      `{"code": "KET-07", "name": "` + strings.Repeat("x", 80_000) + `"}`,
		"number":     `{"code": 1e999999}`,
		"twice":      `{"code": "KET-07", "code": "KET-08", "name": "x"} {"code": "KET-09"}`,
		"header":     "{\"code\": \"KET-07\\r\\nSet-Cookie: a=b\", \"name\": \"x\"}",
	} {
		began := time.Now()
		r, text := posted(t, s.URL+"/api/v1/sites", doc, auth)
		require.GreaterOrEqual(t, r.StatusCode, 400, name)
		require.Less(t, r.StatusCode, 500, name)
		require.Less(t, len(text), 20_000, name)
		require.Empty(t, r.Header.Get("Set-Cookie"), name)
		require.Less(t, time.Since(began), 5*time.Second, name)
	}
	list, err := s.Client.Sites(t.Context())
	require.NoError(t, err)
	require.Empty(t, list)
	r, _ := posted(t, s.URL+"/api/v1/sites/KET-07/photos", bytes.NewBuffer(nil).String(), auth)
	require.Less(t, r.StatusCode, 500)
}

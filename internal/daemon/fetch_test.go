package daemon_test

import (
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/testbed"
)

// fetch makes a request as a router would.
func fetch(t *testing.T, method, address string, form url.Values, edit func(*http.Request)) (int, string) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), method, address, strings.NewReader(form.Encode()))
	require.NoError(t, err)
	if method == "POST" {
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	if edit != nil {
		edit(req)
	}
	r, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer r.Body.Close()
	body, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	return r.StatusCode, string(body)
}

func TestARouterAnnouncesByFetchingAURL(t *testing.T) {
	s := testbed.Start(t, func(o *options) { o.KeyRate = 2 })
	record(t, s, "KET-07")
	record(t, s, "OYS-03")
	for _, in := range []contract.HostnameInput{{Name: "ket-07." + zone, Site: "KET-07"}, {Name: "oys-03." + zone, Site: "OYS-03"}} {
		_, err := s.Client.AddHostname(t.Context(), in)
		require.NoError(t, err)
	}
	key, err := s.Client.AddRouterKey(t.Context(), "KET-07", "main", "router", testbed.Public...)
	require.NoError(t, err)
	at := s.URL + "/announce/" + key.Secret
	status, line := fetch(t, "GET", at+"?ipv4=198.51.100.7", nil, nil)
	require.Equal(t, 200, status)
	require.Equal(t, "moved 198.51.100.7 ket-07."+zone+"\n", line)
	got, _, _ := answers(t, s.DNS, "ket-07."+zone)
	require.Equal(t, []string{"198.51.100.7"}, got, "acknowledged means answering")
	_, line = fetch(t, "GET", at+"?ipv4=198.51.100.7&name=KET-07."+zone, nil, nil)
	require.Equal(t, "same 198.51.100.7\n", line)
	_, line = fetch(t, "POST", at, url.Values{"ipv4": {"198.51.100.8"}, "ipv6": {"2001:db8::8"}}, nil)
	require.Equal(t, "moved 198.51.100.8 2001:db8::8 ket-07."+zone+"\n", line)
	_, line = fetch(t, "GET", s.URL+"/announce?ipv4=198.51.100.9", nil, func(r *http.Request) {
		r.SetBasicAuth("anybody", key.Secret)
		r.Header.Set("Accept", "application/json")
	})
	var doc map[string]any
	require.NoError(t, json.Unmarshal([]byte(line), &doc))
	require.Equal(t, "moved", doc["word"])
	require.Equal(t, []any{"ket-07." + zone}, doc["hostnames"])

	for name, x := range map[string]struct {
		address string
		status  int
		says    string
	}{
		"the socket's own address": {at, 422, "refused: 127.0.0.1 is a loopback address"},
		"a private address":        {at + "?ipv4=192.168.1.1", 422, "refused: 192.168.1.1 is a private address"},
		"no address":               {at + "?ipv4=here", 422, `refused: ipv4: "here" is not an IP address`},
		"another site's name":      {at + "?ipv4=198.51.100.1&name=oys-03." + zone, 422, "does not follow the link of this key"},
		"one of two is foreign":    {at + "?ipv4=198.51.100.1&name=ket-07." + zone + ",oys-03." + zone, 422, "does not follow"},
		"a wrong key":              {s.URL + "/announce/nonsense?ipv4=198.51.100.1", 401, "refused: this key cannot announce"},
		"no key":                   {s.URL + "/announce?ipv4=198.51.100.1", 401, "refused: this key cannot announce"},
	} {
		t.Run(name, func(t *testing.T) {
			status, line := fetch(t, "GET", x.address, nil, nil)
			require.Equal(t, x.status, status)
			require.Contains(t, line, x.says)
			require.Equal(t, 1, strings.Count(line, "\n"), "one line")
		})
	}
	got, _, _ = answers(t, s.DNS, "ket-07."+zone)
	require.Equal(t, []string{"198.51.100.9"}, got, "nothing was done")
	l, err := s.Client.Link(t.Context(), "KET-07", "main")
	require.NoError(t, err)
	require.False(t, l.Agent, "nobody expects a router to check in")
	status, _ = post(t, s, key.Secret, "/api/v1/agent/announcements", "application/json", `{"source":"gateway","ipv4":"198.51.100.1"}`)
	require.Equal(t, 403, status, "its key is for the URL only")
	last := 0
	for range 20 {
		last, line = fetch(t, "GET", at+"?ipv4=198.51.100.9", nil, nil)
	}
	require.Equal(t, 429, last, "a router gone wrong is slowed down")
	require.Contains(t, line, "later: this key announces too often")
	require.NoError(t, s.Client.RevokeKey(t.Context(), key.ID))
	status, _ = fetch(t, "GET", at+"?ipv4=198.51.100.1", nil, nil)
	require.Equal(t, 401, status)
}

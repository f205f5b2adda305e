package redirect

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/site"
)

func handler() http.Handler {
	known := map[string]site.Redirect{
		"view.isles.saltmarsh.example": {Hostname: "ket-07.isles.saltmarsh.example", Scheme: "http", Port: 8081, Path: "/view",
			Status: 307},
		"kept.isles.saltmarsh.example": {Hostname: "ket-07.isles.saltmarsh.example", Scheme: "https", Path: "/base/", KeepPath: true,
			Status: 308},
	}
	return Handler(func(host string) (site.Redirect, bool) { r, ok := known[host]; return r, ok })
}

func ask(t *testing.T, method, host, target string) *http.Response {
	t.Helper()
	r := httptest.NewRequest(method, target, nil)
	r.Host = host
	w := httptest.NewRecorder()
	handler().ServeHTTP(w, r)
	return w.Result()
}

func TestABrowserIsSentOn(t *testing.T) {
	for what, x := range map[string]struct {
		host, target, location, cache string
		status                        int
	}{
		"a path of its own": {"view.isles.saltmarsh.example", "/anything?x=1",
			"http://ket-07.isles.saltmarsh.example:8081/view", "no-store", 307},
		"upper case and a dot": {"VIEW.Isles.Saltmarsh.Example.", "/", "http://ket-07.isles.saltmarsh.example:8081/view",
			"no-store", 307},
		"a port behind the name": {"view.isles.saltmarsh.example:8080", "/", "http://ket-07.isles.saltmarsh.example:8081/view",
			"no-store", 307},
		"the path that was asked": {"kept.isles.saltmarsh.example", "/cam%2F2/a?b=c&d",
			"https://ket-07.isles.saltmarsh.example/base/cam%2F2/a?b=c&d", "max-age=3600", 308},
		"a path to another host":   {"kept.isles.saltmarsh.example", "//evil.example/x", "", "max-age=3600", 308},
		"an address in the path":   {"kept.isles.saltmarsh.example", "/http://evil.example/", "", "max-age=3600", 308},
		"a name that is not there": {"nobody.isles.saltmarsh.example", "/", "", "no-store", 404},
		"an address":               {"127.0.0.1", "/", "", "no-store", 404},
		"no name at all":           {"", "/", "", "no-store", 404},
	} {
		t.Run(what, func(t *testing.T) {
			for _, method := range []string{"GET", "HEAD", "POST"} {
				r := ask(t, method, x.host, x.target)
				require.Equal(t, x.status, r.StatusCode)
				require.Equal(t, x.cache, r.Header.Get("Cache-Control"))
				at := r.Header.Get("Location")
				if x.location != "" {
					require.Equal(t, x.location, at)
				}
				if at != "" {
					require.True(t, strings.HasPrefix(at, "http://ket-07.isles.saltmarsh.example") ||
						strings.HasPrefix(at, "https://ket-07.isles.saltmarsh.example"),
						"what is in the request never decides the host: %s", at)
					require.NotContains(t, at, "\r")
				}
			}
		})
	}
}

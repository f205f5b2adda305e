// Package redirect answers browsers that asked for a redirect name: with 307 or 308 and where to go (RFC 9110 section 15.4),
// and nothing else.
package redirect

import (
	"fmt"
	"net"
	"net/http"
	"strings"

	"inkpost.example/inkpost/internal/core/site"
)

// Handler sends requests on. find gives the redirect of a host in lower case, without port and final dot. What is in the
// request never decides the host that it leads to.
func Handler(find func(host string) (site.Redirect, bool)) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host := r.Host
		if name, _, err := net.SplitHostPort(host); err == nil {
			host = name
		}
		to, ok := find(strings.ToLower(strings.TrimSuffix(host, ".")))
		w.Header().Set("Cache-Control", "no-store") // it may lead elsewhere tomorrow
		if !ok {
			w.Header().Set("Content-Type", "text/plain; charset=utf-8")
			w.WriteHeader(http.StatusNotFound)
			_, _ = fmt.Fprintln(w, "No redirect is on record for this name.")
			return
		}
		if to.Status == http.StatusPermanentRedirect {
			w.Header().Set("Cache-Control", "max-age=3600")
		}
		w.Header().Set("Location", to.Location(r.URL.EscapedPath(), r.URL.RawQuery))
		w.Header().Set("Referrer-Policy", "no-referrer")
		w.WriteHeader(to.Status)
	})
}

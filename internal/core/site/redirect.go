package site

import (
	"fmt"
	"net/url"
	"strings"

	"inkpost.example/inkpost/internal/core/names"
)

// Redirect is a name that sends a browser on to a hostname with a scheme, port and path. Port 0 is the scheme's own. With
// KeepPath the path and query that were asked for follow behind Path. Status is 307 or 308 (RFC 9110 section 15.4).
type Redirect struct {
	ID         int64      `json:"id"`
	ZoneID     int64      `json:"-"`
	HostnameID int64      `json:"-"`
	SiteID     int64      `json:"-"`
	Name       names.Name `json:"name"`
	Zone       names.Name `json:"zone"`
	Hostname   names.Name `json:"hostname"`
	Site       string     `json:"site"`
	TTL        int        `json:"ttl_seconds"`
	Scheme     string     `json:"scheme"`
	Port       int        `json:"port,omitempty"`
	Path       string     `json:"path"`
	KeepPath   bool       `json:"keep_path"`
	Status     int        `json:"status"`
	Revision   int64      `json:"revision"`
}

// Checked fills what was left out (http, "/", 307) and returns what is wrong as Flaws.
func (r Redirect) Checked() (Redirect, error) {
	var f Flaws
	if r.Scheme == "" {
		r.Scheme = "http"
	}
	if r.Scheme != "http" && r.Scheme != "https" {
		f.add("scheme", "%q is unknown; it is http or https", r.Scheme)
	}
	if r.Port < 0 || r.Port > 65535 {
		f.add("port", "%d is out of range; 1 to 65535 are allowed, 0 for the scheme's own", r.Port)
	}
	if r.Status == 0 {
		r.Status = 307
	}
	if r.Status != 307 && r.Status != 308 {
		f.add("status", "%d is not allowed; it is 307 (temporary) or 308 (permanent)", r.Status)
	}
	if r.Path == "" {
		r.Path = "/"
	}
	u, err := url.Parse(r.Path)
	if err != nil || !strings.HasPrefix(r.Path, "/") || strings.HasPrefix(r.Path, "//") || strings.ContainsAny(r.Path, "\\\r\n\t ") ||
		u.Host != "" || len(r.Path) > 500 {
		f.add("path", "%q is not a path such as /view?camera=2", r.Path)
	}
	if strings.Contains(r.Path, "#") {
		f.add("path", "has a fragment (#), which is never sent to a server")
	}
	if r.KeepPath && strings.Contains(r.Path, "?") {
		f.add("path", "has a query, so that no path can follow behind it; leave the query out or do not keep the path")
	}
	return r, f.Err()
}

// Base is where the name leads, without what was asked for.
func (r Redirect) Base() string {
	port := ""
	if r.Port != 0 && (r.Scheme != "http" || r.Port != 80) && (r.Scheme != "https" || r.Port != 443) {
		port = fmt.Sprintf(":%d", r.Port)
	}
	return r.Scheme + "://" + string(r.Hostname) + port + r.Path
}

// Location is where a request for path (escaped, beginning with a slash) and query goes. The host is always the hostname on
// record: nothing in a request can lead elsewhere.
func (r Redirect) Location(path, query string) string {
	if !r.KeepPath {
		return r.Base()
	}
	out := strings.TrimSuffix(r.Base(), "/") + "/" + strings.TrimLeft(path, "/")
	if query != "" {
		out += "?" + query
	}
	return out
}

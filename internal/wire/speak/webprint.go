package speak

import (
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"regexp"
	"slices"
	"strings"

	"inkpost.example/inkpost/internal/core/probe"
)

var (
	titled = regexp.MustCompile(`(?is)<title[^>]*>(.*?)</title>`)
	icon   = regexp.MustCompile(`(?is)<link[^>]+rel=["']?(?:shortcut )?icon["']?[^>]*>`)
	linked = regexp.MustCompile(`(?is)href=["']?([^"' >]+)`)
	realm  = regexp.MustCompile(`(?i)realm="?([^",]*)`)
)

// volatile are headers that come and go with the answer, and say nothing of who gives it.
var volatile = []string{"Accept-Ranges", "Age", "Cache-Control", "Connection", "Content-Encoding", "Content-Language", "Content-Length",
	"Content-Type", "Date", "Etag", "Expires", "Keep-Alive", "Last-Modified", "Location", "Pragma", "Set-Cookie", "Transfer-Encoding",
	"Vary", "Via", "Www-Authenticate"}

// webPrint tells a web server by what it shows to anybody: its name, the page's title and icon, the realm that it asks for a password of,
// and
// which headers it sends.
func webPrint(resp *http.Response, page []byte) string {
	traits := map[string]string{"server": resp.Header.Get("Server"), "title": firstGroup(titled, page),
		"realm": firstGroup(realm, []byte(resp.Header.Get("Www-Authenticate")))}
	if link := icon.Find(page); link != nil {
		traits["icon"] = firstGroup(linked, link)
	}
	var names []string
	for name := range resp.Header {
		if !slices.Contains(volatile, name) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	sum := sha256.Sum256([]byte(strings.Join(names, " ")))
	traits["headers"] = hex.EncodeToString(sum[:4])
	return probe.TraitPrint(traits)
}

func firstGroup(r *regexp.Regexp, in []byte) string {
	if m := r.FindSubmatch(in); m != nil {
		return spoken([]byte(strings.Join(strings.Fields(string(m[1])), " ")))
	}
	return ""
}

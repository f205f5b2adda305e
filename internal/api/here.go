package api

import (
	"net/http"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/engine"
)

const (
	// askedFor is how long a caller is answered here before a call of theirs is passed on again: the server that writes keeps when a
	// session and a key were last used.
	askedFor = time.Minute
	// changedFor is how long after a change a caller's reads are passed on: they see what they have changed, whoever is how far.
	changedFor = 5 * time.Second
	// maxCallers bounds how many callers are remembered.
	maxCallers = 10_000
)

// readHere are the calls that a server that stands by answers by itself while it hears what the one that writes knows: from its own memory,
// or from the database where nobody keeps it in memory. Others have something else done there, or say what only that one has.
var readHere = pathsOf("/overview", "/events", "/moves", "/zones", "/zones/:apex", "/zones/:apex/records", "/zones/:apex/file",
	"/hostnames", "/hostnames/:name", "/names/check", "/redirects", "/redirects/:name", "/aliases", "/aliases/:name", "/sites",
	"/sites/:code", "/sites/:code/links", "/sites/:code/links/:label", "/sites/:code/devices", "/sites/:code/devices/:name",
	"/sites/:code/services", "/sites/:code/services/:name", "/sites/:code/services/:name/history", "/sites/:code/services/:name/cards",
	"/sites/:code/services/:name/days", "/sites/:code/services/:name/availability", "/sites/:code/availability",
	"/sites/:code/name-suggestion",
	"/sites/:code/lan", "/sites/:code/contacts", "/sites/:code/notes", "/sites/:code/photos", "/sites/:code/photos/:id", "/faults",
	"/faults/:id", "/faults/times", "/causes", "/causes/:cause", "/kinds", "/vantages", "/planned-work", "/calendar",
	"/people", "/people/:name", "/invitations", "/audit", "/settings", "/hooks", "/addressees", "/notice-rules", "/notices",
	"/push-browsers", "/site-filters", "/removed", "/kits", "/kits/:name", "/kits/:name/file", "/signing-keys",
	"/sites/:code/reviews", "/sites/:code/sheet", "/sites/:code/sheets", "/sites/:code/sheet-links", "/sites/:code/why", "/commissioning",
	"/notices/:id")

func pathsOf(list ...string) map[string]bool {
	out := map[string]bool{}
	for _, p := range list {
		out[base+p] = true
	}
	return out
}

// callers remembers who was passed on when.
type callers struct {
	mu    sync.Mutex
	asked map[string]time.Time
	since map[string]time.Time // when they changed something
}

// callerOf is by what a caller says who they are.
func callerOf(r *http.Request) string {
	if c, err := r.Cookie(cookieName); err == nil {
		return c.Value
	}
	return r.Header.Get("Authorization")
}

// here reports whether a call is answered here although this server stands by.
func (a *api) here(c *echo.Context, r route, eng *engine.Engine) bool {
	if r.method != http.MethodGet || !readHere[r.path] || !eng.Following.Sees() {
		return false
	}
	who, now := callerOf(c.Request()), time.Now()
	a.callers.mu.Lock()
	defer a.callers.mu.Unlock()
	return now.Sub(a.callers.asked[who]) < askedFor && now.Sub(a.callers.since[who]) >= changedFor
}

// passedFor notes that a call was passed on.
func (a *api) passedFor(c *echo.Context, r route) {
	who, now := callerOf(c.Request()), time.Now()
	a.callers.mu.Lock()
	defer a.callers.mu.Unlock()
	if a.callers.asked == nil || len(a.callers.asked) >= maxCallers {
		a.callers.asked, a.callers.since = map[string]time.Time{}, map[string]time.Time{}
	}
	if a.callers.asked[who] = now; r.method != http.MethodGet {
		a.callers.since[who] = now
	}
}

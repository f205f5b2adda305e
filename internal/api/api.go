// Package api serves the HTTP API, its description, the event stream and the console.
package api

import (
	"cmp"
	"io/fs"
	"log/slog"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
	"go.opentelemetry.io/otel/trace"
	"go.opentelemetry.io/otel/trace/noop"
	"golang.org/x/time/rate"

	"inkpost.example/inkpost/internal/access"
	"inkpost.example/inkpost/internal/access/throttle"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/engine"
	"inkpost.example/inkpost/internal/engine/counters"
	"inkpost.example/inkpost/internal/paper/book"
	"inkpost.example/inkpost/internal/wire/openid"
)

// Lab is the simulated world of the demo, as the API changes it.
type Lab interface {
	World() contract.World
	Renumber(site, link string) (contract.Renumbering, error)
	SetService(site, service string, running bool) error
	SetForward(site, service string, present bool) error
	SetForwardTo(site, service, to string) error
	SetAwake(site, device string, awake bool) error
	RestartMachine(site string) error
	SetPrimary(running bool) error
	SetTaken(name, address string) error
	SetProvider(name string, running bool) error
	Mend(site string) ([]string, error)
}

// Options of the API.
type Options struct {
	// Engine returns the engine that serves now; nil while there is none yet.
	Engine  func() *engine.Engine
	Metrics http.Handler // nil serves none
	// MetricsKey has to be given by whoever reads the counters; "" lets everybody.
	MetricsKey string
	Lab        Lab     // nil outside the demo
	Console    fs.FS   // the built console; nil serves the API alone
	Version    string  // of the program
	Public     string  // URL at which sites reach this server; "" if nobody has said
	KeyRate    float64 // announcements a second that one key may make; 2 if 0
	STUN       int     // the port of the STUN responder; 0 without one
	// Proxies are trusted to say, in X-Forwarded-For, whom they speak for. Where empty, the client's address is the
	// socket's and the header is ignored.
	Proxies []netip.Prefix
	// ProxySays is the header by which they say it: ByXForwarded, which is the default, or ByForwarded.
	ProxySays string
	// Provider is where people may sign in as well; nil for nowhere.
	Provider *openid.Provider
	// Counters count the requests; nil counts none.
	Counters *counters.Counters
	// Members are the other servers on the database; nil for none, and what this one may not do is refused.
	Members Members
	// Docs are the documents that are served at /docs; nil for none.
	Docs fs.FS
	// Tracer makes a span of each request; nil makes none.
	Tracer trace.Tracer
	Log    *slog.Logger
}

// Limits of a request in bytes. The largest honest document is a few hundred; a zone file may be large.
const (
	bodyLimit = 64 << 10
	fileLimit = 16 << 20
)

type api struct {
	engine     func() *engine.Engine
	trust      trust
	lab        Lab
	metrics    http.Handler
	metricsKey string
	log        *slog.Logger
	version    string
	public     string
	doc        func() ([]byte, error)
	perKey     throttle.Paces[int64]
	// traces bounds how often the site of a refused key is searched for, which goes through all links.
	traces *rate.Limiter
	// failures bounds how many failed tries of strangers are written down.
	failures *rate.Limiter
	count    *counters.Counters
	tracer   trace.Tracer
	stun     int
	members  Members
	callers  callers
	streams  keyStreams
	warned   atomic.Int64 // when it was last warned that the one that writes is not reached, in nanoseconds since 1970

	provider *openid.Provider
	asks     asks
	// reads and edits are, by path, the call that reads what stands there, and the document that edits it.
	reads map[string]route
	edits map[string]any
}

// New makes the HTTP handler of everything. Error: a console whose files cannot be read.
func New(o Options) (*echo.Echo, error) {
	o.Version = cmp.Or(o.Version, "development")
	a := &api{engine: o.Engine, trust: trust{o.Proxies, cmp.Or(o.ProxySays, ByXForwarded)}, metrics: o.Metrics, metricsKey: o.MetricsKey,
		lab: o.Lab, log: o.Log, version: o.Version, public: o.Public,
		stun: o.STUN, provider: o.Provider, perKey: throttle.Paces[int64]{Rate: cmp.Or(o.KeyRate, access.KeyRate)},
		count: o.Counters, tracer: o.Tracer, members: o.Members,
		traces: rate.NewLimiter(50, 50), failures: rate.NewLimiter(1, 100)}
	if a.tracer == nil {
		a.tracer = noop.NewTracerProvider().Tracer("")
	}
	e := echo.New()
	e.Logger = o.Log
	e.IPExtractor = a.extractor()
	e.HTTPErrorHandler = a.problem
	e.Use(middleware.Recover(), a.secured)
	limited := middleware.RateLimiterWithConfig(middleware.RateLimiterConfig{
		Store: middleware.NewRateLimiterMemoryStoreWithConfig(middleware.RateLimiterMemoryStoreConfig{Rate: 5,
			Burst: 20, ExpiresIn: 3 * time.Minute}),
		IdentifierExtractor: network,
		DenyHandler:         func(*echo.Context, string, error) error { return errTooMany },
		ErrorHandler:        func(_ *echo.Context, err error) error { return err },
	})
	routes := a.routes()
	a.reads, a.edits = map[string]route{}, map[string]any{}
	for _, r := range routes {
		switch {
		case r.method == http.MethodGet:
			a.reads[r.path] = r
		case r.in != nil && r.method != http.MethodPost:
			a.edits[r.path] = r.in
		}
	}
	for _, r := range routes {
		limit := int64(bodyLimit)
		if r.large {
			limit = fileLimit
		}
		before := []echo.MiddlewareFunc{a.counted(r), middleware.BodyLimit(limit)}
		if r.limited {
			before = append(before, limited)
		}
		e.Add(r.method, r.path, a.guarded(r), before...)
	}
	// Written when somebody first asks: few servers are ever asked, and one that begins has names to answer first.
	a.doc = sync.OnceValues(func() ([]byte, error) { return describe(routes, o.Version) })
	if o.Docs != nil {
		pages := sync.OnceValues(func() (*book.Book, error) { return a.book(o.Docs) })
		for _, path := range []string{"/docs", "/docs/*"} {
			e.GET(path, documents(pages), middleware.Gzip())
		}
	}
	if o.Console != nil {
		e.GET("/*", console(o.Console), middleware.Gzip())
	}
	return e, nil
}

// secured sets headers that restrict what a browser may do with our pages.
func (a *api) secured(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h := c.Response().Header()
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "+
			"frame-ancestors 'none'; base-uri 'none'")
		if a.overTLS(c) { // a browser that was here once asks by HTTPS from then on (RFC 6797)
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		if path := c.Request().URL.Path; strings.HasPrefix(path, base) || strings.HasPrefix(path, "/announce") {
			h.Set("Cache-Control", "no-store") // keys, codes and what is so at this moment
		}
		return next(c)
	}
}

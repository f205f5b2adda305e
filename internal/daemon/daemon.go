// Package daemon puts the service together: database, name server, engine, API and console.
package daemon

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"inkpost.example/inkpost/internal/api"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine"
	"inkpost.example/inkpost/internal/engine/counters"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/store/seal"
	"inkpost.example/inkpost/internal/wire/authdns"
	"inkpost.example/inkpost/internal/wire/hook"
	"inkpost.example/inkpost/internal/wire/openid"
	"inkpost.example/inkpost/internal/wire/redirect"
	"inkpost.example/inkpost/internal/wire/stun"
)

// Options of Start. A zero field takes its default.
type Options struct {
	// Database is the URL of a PostgreSQL database, such as postgres://inkpost@127.0.0.1:5432/inkpost. Required.
	Database string
	// PublicURL is where sites reach the API: http:// or https://, a host, and perhaps a port. Default: none, and invitations name the
	// address at which whoever asked reached the server.
	PublicURL string
	// OpenID is where people may sign in as well; its zero value is nowhere.
	OpenID openid.Config
	// HTTP is the "host:port" of API and console; port 0 picks a free one. Required.
	HTTP string
	// DNS is the "host:port" of the name server, over UDP and TCP; port 0 picks a free one. Required.
	DNS string
	// STUN is the "host:port" of the STUN responder, over UDP. Default: none is started.
	STUN string
	// Redirect is the "host:port" of the redirect listener. Default: none is started.
	Redirect string
	// RedirectAt are the addresses that redirect names answer. Default: the redirect listener's own.
	RedirectAt []netip.Addr
	// Proxies are the addresses that are believed when they say whom they speak for. Default: none.
	Proxies []netip.Prefix
	// ProxySays is how they say it: by a header, ByXForwarded or ByForwarded, or ByConnection. Default: ByXForwarded.
	ProxySays string
	// MemberURL is where the other servers on the database reach this one. Default: where it listens, unless that is any address.
	MemberURL string
	// Policy says which addresses may stand for a site. Default: public ones only.
	Policy wan.Policy
	// Vantage is what this server is called as a vantage point: 1 to 32 of a-z, 0-9 and hyphen. Default: "server".
	Vantage string
	// ProbeDeadline is how long a probe waits for an answer. Default: 3 s.
	ProbeDeadline time.Duration
	// ShortestInterval is the shortest interval at which a service may be probed. Default: pace.MinInterval; a lab may go below it.
	ShortestInterval time.Duration
	// CheckEvery is how often agents check their address. Default: 15 s.
	CheckEvery time.Duration
	// WatchEvery is how often agents look at the devices on record. Default: 60 s.
	WatchEvery time.Duration
	// VerifyEvery is how often each hostname is asked for again, besides after each change. Default: 60 s.
	VerifyEvery time.Duration
	// HoldDown is how long a link has to work again before hostnames come back to it. Default: site.HoldDown.
	HoldDown time.Duration
	// Limit bounds what one client network gets from the name server. Default: no limit.
	Limit authdns.Limit
	// KeyRate is how many announcements a second one key may make. Default: access.KeyRate.
	KeyRate float64
	// Resolvers are the "host:port" of resolvers that are asked whether the world sees an address. Default: none.
	Resolvers []string
	// Mail is the server that notices are mailed by. Default: none, and no mail is sent.
	Mail MailServer
	// HookAllow are prefixes of addresses that webhooks may have although they are not public. Default: none.
	HookAllow []netip.Prefix
	// Clock tells the time of day. Default: time.Now.
	Clock func() time.Time
	// Ticks tells the time of schedules; it never steps. Default: Clock where that is set, else the monotonic clock.
	Ticks func() time.Time
	// Lab is the simulated world that the API may change. Default: none.
	Lab api.Lab
	// Console is the built console. Default: none is served.
	Console fs.FS
	// Docs are the documents that are served at /docs. Default: none.
	Docs fs.FS
	// Version is this program's version, shown by the API.
	Version string
	// Traces is the URL of a collector that takes spans of requests by OTLP over HTTP, such as http://127.0.0.1:4318/v1/traces. Default:
	// none, and nothing is traced.
	Traces string
	// TLSCert and TLSKey are files with the console's certificate and its key (PEM); they are read anew when they change. Default: none,
	// and the console speaks plain HTTP.
	TLSCert, TLSKey string
	// Authority issues the console's certificate, where there are no files with one. Default: none.
	Authority Authority
	// PlainHTTP is where browsers that come without TLS are sent to HTTPS. Default: nowhere.
	PlainHTTP string
	// Secrets are the keys by which secrets are sealed in the database. Default: none, and they are stored as they are.
	Secrets seal.Ring
	// MetricsKey has to be given by whoever reads the counters. Default: none, and everybody may.
	MetricsKey string
	// ZonePort is the port of zones' name servers, which a checkup asks; a lab has another. Default: 53.
	ZonePort string
	// StateDir is where the copy of the zones is kept. Default: none is kept.
	StateDir string
	// Log takes what happens. Default: nothing is logged.
	Log *slog.Logger
}

// Daemon is a running service.
type Daemon struct {
	URL    string // of the API and console
	DNS    string // "host:port" of the name server
	SendOn string // "host:port" of the redirect listener
	STUN   string // "host:port" of the STUN responder
	Plain  string // "host:port" from which browsers are sent to HTTPS

	Names *authdns.Server // for its counts

	o         Options
	name      string
	log       *slog.Logger
	store     *store.Store
	directory *authdns.Directory
	copy      zoneCopy
	shares    shares
	counters  *counters.Counters
	members   *members
	tls       *tls.Config // of the console; nil for plain HTTP
	issuer    *issuer     // nil where no authority issues the console's certificate
	engine    atomic.Pointer[engine.Engine]
	lease     *store.Lease // of the writer
	endEngine func()       // ends the engine that runs
	adrift    bool         // the engine was the writer's, and is not any more: it takes nothing, and goes on probing

	ctx  context.Context
	stop context.CancelFunc
	done sync.WaitGroup
	fail chan error
}

// Engine returns the engine that serves now: another one when the server's role changes, nil while the database was never there.
func (d *Daemon) Engine() *engine.Engine { return d.engine.Load() }

// Store returns the records.
func (d *Daemon) Store() *store.Store { return d.store }

// tidying tunes the garbage collector once for the process, however many daemons a test runs in it.
var tidying sync.Once

// Start opens everything. On return names are answered and the console is served; announcements are taken, unless another server writes to
// the database, or it does not answer: then this one waits for its turn. Errors: a port that cannot be opened, a wrong database URL,
// store.ErrNewerSchema.
func Start(ctx context.Context, o Options) (*Daemon, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	o.Log = slog.New(sum(o.Log.Handler()))
	tidying.Do(tidy)
	st, err := store.Connect(ctx, o.Database)
	if err != nil {
		return nil, err
	}
	st.Unlock(o.Secrets)
	run, stop := context.WithCancel(context.WithoutCancel(ctx))
	d := &Daemon{o: o, log: o.Log, store: st, counters: counters.New(), directory: &authdns.Directory{}, copy: copyIn(o.StateDir),
		shares: parted(openFiles()),
		ctx:    run, stop: stop, fail: make(chan error, 4)}
	d.members = newMembers(d)
	if err := d.open(ctx); err != nil {
		d.Stop()
		return nil, err
	}
	return d, nil
}

// open opens the ports, takes a role and begins to serve.
func (d *Daemon) open(ctx context.Context) error {
	names, err := authdns.Listen(d.o.DNS, d.directory, d.log)
	if err != nil {
		return err
	}
	names.Limit(d.o.Limit)
	names.TCPClients(d.shares.dns)
	d.Names, d.DNS = names, names.Addr()
	d.done.Go(func() { d.report(d.ctx, names.Serve(d.ctx)) })
	console, err := net.Listen("tcp", d.o.HTTP)
	if err != nil {
		return fmt.Errorf("HTTP: %w", err)
	}
	d.URL = "http://" + console.Addr().String()
	if d.o.TLSCert != "" || d.o.Authority.Directory != "" {
		if err := d.secure(console.Addr()); err != nil {
			_ = console.Close()
			return err
		}
	}
	d.name = serverName(d.URL)
	if d.o.Redirect != "" {
		if err := d.sendOn(); err != nil {
			_ = console.Close()
			return err
		}
	}
	if d.o.STUN != "" {
		if err := d.answerSTUN(); err != nil {
			_ = console.Close()
			return err
		}
	}
	metrics, err := metrics(d.Names, d.Engine, d.counters)
	if err != nil {
		_ = console.Close()
		return err
	}
	tracer, err := d.tracer(ctx)
	if err != nil {
		_ = console.Close()
		return err
	}
	handler, err := api.New(api.Options{Engine: d.Engine, Metrics: metrics, Counters: d.counters, Tracer: tracer,
		MetricsKey: d.o.MetricsKey, Lab: d.o.Lab,
		Console: d.o.Console, Docs: d.o.Docs,
		Version: d.o.Version, Public: d.o.PublicURL, Provider: d.provider(), STUN: d.stunPort(),
		Members: d.members, KeyRate: d.o.KeyRate, Proxies: d.byHeader(), ProxySays: d.o.ProxySays, Log: d.log})
	if err == nil {
		err = d.enter(ctx)
	}
	if err != nil {
		_ = console.Close()
		return err
	}
	d.listen(d.bound(console, d.shares.http), handler, d.tls)
	d.done.Go(func() { d.keepRole(d.ctx) })
	d.done.Go(func() { d.keepCopy(d.ctx) })
	d.done.Go(func() { d.members.tell(d.ctx) })
	d.done.Go(func() { d.members.borrow(d.ctx) })
	d.done.Go(func() { d.members.watch(d.ctx) })
	if d.issuer != nil {
		d.done.Go(func() { d.issuer.run(d.ctx) })
	}
	return nil
}

// config of the engine. serials are those that were answered before.
func (d *Daemon) config(serials map[string]uint32) engine.Config {
	o := d.o
	troubled, failing := d.renewal()
	return engine.Config{Policy: o.Policy, Vantage: o.Vantage, ProbeDeadline: o.ProbeDeadline, ShortestInterval: o.ShortestInterval,
		CheckEvery:  o.CheckEvery,
		VerifyEvery: o.VerifyEvery, HoldDown: o.HoldDown, WatchEvery: o.WatchEvery, NameServer: d.DNS, Resolvers: o.Resolvers,
		RedirectAt: o.RedirectAt,
		PassOn:     d.members.update,
		Serials:    serials, Attempts: d.shares.probes, Clock: o.Clock, Ticks: o.Ticks, KeyRate: o.KeyRate, Counters: d.counters,
		Log:  d.log,
		Mail: o.Mail, Hooks: hook.Sender{Allowed: o.HookAllow}, ConsoleURL: cmp.Or(o.PublicURL, d.URL),
		Installation: rooms.Installation{PublicURL: o.PublicURL, HTTP: hostOf(d.URL), DNS: d.DNS, STUN: d.STUN,
			Redirect: d.SendOn, StateDir: o.StateDir, ZonePort: o.ZonePort, Renewal: troubled, Failing: failing}}
}

func (d *Daemon) now() time.Time {
	if d.o.Clock != nil {
		return d.o.Clock()
	}
	return time.Now()
}

// sendOn opens the redirect listener.
func (d *Daemon) sendOn() error {
	l, err := net.Listen("tcp", d.o.Redirect)
	if err != nil {
		return fmt.Errorf("redirects: %w", err)
	}
	d.SendOn = l.Addr().String()
	if at := l.Addr().(*net.TCPAddr).AddrPort().Addr().Unmap(); len(d.o.RedirectAt) == 0 && !at.IsUnspecified() {
		d.o.RedirectAt = []netip.Addr{at}
	}
	d.listen(d.bound(l, d.shares.redirects), redirect.Handler(func(host string) (site.Redirect, bool) {
		if e := d.Engine(); e != nil {
			return e.SendOn(host)
		}
		return site.Redirect{}, false
	}), nil)
	return nil
}

// answerSTUN answers agents that ask for their address, which counts as a sign of life.
func (d *Daemon) answerSTUN() error {
	r, err := stun.Listen(d.o.STUN)
	if err != nil {
		return err
	}
	r.Password = func(username string) string {
		if e := d.Engine(); e != nil {
			return e.HeartbeatPassword(username)
		}
		return ""
	}
	r.Heard = func(username string, from netip.Addr) {
		if e := d.Engine(); e != nil {
			e.NoteHeartbeat(username, from)
			if e.Follows() {
				d.members.hear(username, from)
			}
		}
	}
	d.STUN = r.Addr()
	d.done.Go(func() { d.report(d.ctx, r.Serve(d.ctx)) })
	return nil
}

func (d *Daemon) stunPort() int {
	at, _ := netip.ParseAddrPort(d.STUN)
	return int(at.Port())
}

// How long a client may take to send a request and to receive a reply. Streams have a bound of their own for each piece.
const (
	headWait  = 10 * time.Second
	readWait  = 30 * time.Second
	writeWait = 2 * time.Minute
	idleWait  = time.Minute
)

// listen serves HTTP on a listener until the service ends, over TLS where secure is set.
func (d *Daemon) listen(l net.Listener, handler http.Handler, secure *tls.Config) {
	server := &http.Server{Handler: handler, ReadHeaderTimeout: headWait, ReadTimeout: readWait, WriteTimeout: writeWait,
		IdleTimeout: idleWait, MaxHeaderBytes: 32 << 10, TLSConfig: secure,
		BaseContext: func(net.Listener) context.Context { return d.ctx }, ErrorLog: complaints{d.log}.logger()}
	d.done.Go(func() {
		serve := func() error { return server.Serve(l) }
		if secure != nil {
			serve = func() error { return server.ServeTLS(l, "", "") } // HTTP/2 as well
		}
		if err := serve(); !errors.Is(err, http.ErrServerClosed) {
			d.report(d.ctx, err)
		}
	})
	d.done.Go(func() {
		<-d.ctx.Done()
		graceful, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		defer cancel()
		if server.Shutdown(graceful) != nil {
			_ = server.Close()
		}
	})
}

func (d *Daemon) report(ctx context.Context, err error) {
	if err != nil && ctx.Err() == nil {
		d.fail <- err
	}
}

// Wait returns when ctx ends, or when a part of the service has failed. Error: that of the part.
func (d *Daemon) Wait(ctx context.Context) error {
	select {
	case err := <-d.fail:
		return err
	case <-ctx.Done():
		return nil
	}
}

// Stop ends the service: what was learned is written first.
func (d *Daemon) Stop() {
	d.stop()
	d.done.Wait()
	if d.endEngine != nil { // it never came to keep its role
		d.endEngine()
	}
	d.store.Close()
}

// provider is where people may sign in as well; nil for nowhere.
func (d *Daemon) provider() *openid.Provider {
	if d.o.OpenID.Issuer == "" {
		return nil
	}
	return openid.New(d.o.OpenID)
}

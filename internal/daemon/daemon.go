// Package daemon puts the service together: database, name server, engine, API and console.
package daemon

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"runtime/debug"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/api"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/authdns"
	"inkpost.example/inkpost/internal/wire/redirect"
	"inkpost.example/inkpost/internal/wire/stun"
)

// Options of Start.
type Options struct {
	Database      string        // URL of a PostgreSQL database
	HTTP          string        // "host:port" of the API and console; port 0 picks a free one
	DNS           string        // "host:port" of the name server
	STUN          string        // "host:port" of the STUN responder; "" has none
	WatchEvery    time.Duration // how often agents look at the devices on record
	HoldDown      time.Duration // how long a link has to work again before names come back to it
	Redirect      string        // "host:port" of the redirect listener; "" has none
	RedirectAt    []netip.Addr  // its public addresses; the listener's own where left out
	Proxies       []netip.Prefix
	Policy        wan.Policy
	Vantage       string
	ProbeDeadline time.Duration
	// ShortestInterval is the shortest that a service may be probed at; a lab may go below the usual bound.
	ShortestInterval time.Duration
	CheckEvery       time.Duration
	VerifyEvery      time.Duration
	Limit            authdns.Limit
	Resolvers        []string         // "host:port" of resolvers to ask whether the world sees an address
	Clock            func() time.Time // time.Now where nil
	Lab              api.Lab
	Console          fs.FS
	Version          string
	Log              *slog.Logger
}

// Daemon is a running service.
type Daemon struct {
	Engine *engine.Engine
	Store  *store.Store
	URL    string // of the API and console
	DNS    string // "host:port" of the name server
	SendOn string // "host:port" of the redirect listener
	STUN   string // "host:port" of the STUN responder

	Names *authdns.Server // for its counts

	stop context.CancelFunc
	done sync.WaitGroup
	fail chan error
}

// tidying sets how memory is tidied once for the process, however many daemons a test has in it.
var tidying sync.Once

// Start opens everything; on return names are answered, announcements are taken and the console is served.
func Start(ctx context.Context, o Options) (*Daemon, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	tidying.Do(tidy)
	st, err := store.Open(ctx, o.Database)
	if err != nil {
		return nil, err
	}
	directory := &authdns.Directory{}
	names, err := authdns.Listen(o.DNS, directory, o.Log)
	if err != nil {
		st.Close()
		return nil, err
	}
	var sendOn net.Listener
	if o.Redirect != "" {
		if sendOn, err = net.Listen("tcp", o.Redirect); err != nil {
			names.Close()
			st.Close()
			return nil, fmt.Errorf("redirects: %w", err)
		}
		if at := sendOn.Addr().(*net.TCPAddr).AddrPort().Addr().Unmap(); len(o.RedirectAt) == 0 && !at.IsUnspecified() {
			o.RedirectAt = []netip.Addr{at}
		}
	}
	run, stop := context.WithCancel(context.WithoutCancel(ctx))
	d := &Daemon{Store: st, DNS: names.Addr(), Names: names, stop: stop, fail: make(chan error, 2)}
	d.Engine, err = engine.New(ctx, st, directory, engine.Config{Policy: o.Policy, Vantage: o.Vantage, ProbeDeadline: o.ProbeDeadline, ShortestInterval: o.ShortestInterval,
		CheckEvery: o.CheckEvery, VerifyEvery: o.VerifyEvery, HoldDown: o.HoldDown, WatchEvery: o.WatchEvery, NameServer: names.Addr(), Resolvers: o.Resolvers,
		RedirectAt: o.RedirectAt, Clock: o.Clock, Log: o.Log})
	names.Limit(o.Limit)
	if err == nil && o.STUN != "" {
		err = d.answerSTUN(run, o.STUN)
	}
	if err == nil {
		names.Allow(d.Engine)
		err = d.serve(run, o)
	}
	// The name server runs in any case: stopping it closes its sockets.
	d.done.Go(func() { d.report(run, names.Serve(run)) })
	if err != nil {
		d.Stop()
		return nil, err
	}
	debug.FreeOSMemory() // reading the record leaves more behind than it holds
	d.done.Go(func() { d.Engine.Run(run) })
	if sendOn != nil {
		d.SendOn = sendOn.Addr().String()
		d.listen(run, sendOn, redirect.Handler(d.Engine.SendOn), o.Log)
	}
	return d, nil
}

// answerSTUN answers agents that ask for their address, and takes their asking for a sign of life.
func (d *Daemon) answerSTUN(ctx context.Context, address string) error {
	r, err := stun.Listen(address)
	if err != nil {
		return err
	}
	r.Password, r.Heard = d.Engine.Heartbeat, d.Engine.Beat
	d.STUN = r.Addr()
	d.done.Go(func() { d.report(ctx, r.Serve(ctx)) })
	return nil
}

func (d *Daemon) serve(ctx context.Context, o Options) error {
	handler, err := api.New(api.Options{Engine: d.Engine, Metrics: metrics(d.Names, d.Engine), Lab: o.Lab, Console: o.Console, Version: o.Version, STUN: d.stunPort(), Proxies: o.Proxies, Log: o.Log})
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", o.HTTP)
	if err != nil {
		return fmt.Errorf("HTTP: %w", err)
	}
	d.URL = "http://" + l.Addr().String()
	d.listen(ctx, l, handler, o.Log)
	return nil
}

func (d *Daemon) stunPort() int {
	at, _ := netip.ParseAddrPort(d.STUN)
	return int(at.Port())
}

// listen serves HTTP on a listener until ctx ends.
func (d *Daemon) listen(ctx context.Context, l net.Listener, handler http.Handler, log *slog.Logger) {
	server := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 32 << 10,
		BaseContext: func(net.Listener) context.Context { return ctx }, ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelWarn)}
	d.done.Go(func() {
		if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			d.report(ctx, err)
		}
	})
	d.done.Go(func() {
		<-ctx.Done()
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

// Wait returns when ctx ends, or when a part of the service has failed.
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
	d.Store.Close()
}

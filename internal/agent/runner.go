package agent

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"inkpost.example/inkpost/internal/agent/source"
	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/statefile"
	"inkpost.example/inkpost/internal/wire/stun"
)

// runner follows one link.
type runner struct {
	o     Options
	link  LinkOptions
	dir   string
	fleet *fleet
	log   *slog.Logger
	way   *way
	to    clients
	state state

	news    news
	later   reason    // news that waits until the next round is allowed
	round   time.Time // when all sources were asked last
	gateway *source.Gateway
	every   time.Duration
	server  contract.Observed
	beat    wan.Pair                 // what STUN said last
	own     atomic.Pointer[wan.Pair] // the same, for those who look at the LAN
	loops   atomic.Bool              // the router loops traffic back
	sent    wan.Pair                 // what was announced
	has     wan.Pair                 // what the server says that the link has
	noticed time.Time
	by      wan.Source // which source noticed
	word    time.Time  // when the server was told last
	held    int        // how many times in a row the server did not follow what was told
	status  Status
	side    sync.WaitGroup // what a round left running
	lost    severed
	finder  finder
	words   words
	asks    atomic.Bool // the router may be asked: its word is one of the link's sources
	renewed atomic.Bool // the machine's own addresses changed: the devices' may have, too

	mu    sync.Mutex
	heard map[wan.Source][]wan.Report // what each source said last
	chain []netip.Addr
	asked time.Time // when the chain was looked at
}

func newRunner(o Options, l LinkOptions, f *fleet, many bool) *runner {
	o.Network.Interface = l.Interface
	if l.Dial != nil {
		o.Dial = l.Dial
	}
	r := &runner{o: o, link: l, dir: o.StateDir, fleet: f, log: o.Log, way: &way{o: o}, news: news{wake: make(chan struct{}, 1)},
		heard: map[wan.Source][]wan.Report{},
		finder: finder{first: map[string]map[netip.Addr]time.Time{}, searched: map[string]time.Time{},
			there: map[string]bool{}}}
	if many {
		r.dir = filepath.Join(o.StateDir, l.Interface)
	}
	r.o.Network.Dial = r.way.dial
	return r
}

// begin reads the link's key, or enrols if there is none, or if there is another code than the one that it is for.
func (r *runner) begin(ctx context.Context) error {
	has, err := readState(r.dir)
	missing := errors.Is(err, os.ErrNotExist)
	if err != nil && !missing {
		return err
	}
	if r.state = has; !missing && (r.link.Code == "" || r.link.Code == has.Code) {
		return nil
	}
	next, err := r.enrol(ctx)
	switch {
	case err == nil:
		r.state = next
	case !missing && client.IsStatus(err, http.StatusForbidden): // it was used before codes were kept, perhaps by this very agent
		r.log.Warn("the code is not valid; going on with the key that there is", "error", err)
		r.state.Code = r.link.Code
	default:
		if client.IsStatus(err, http.StatusForbidden) { // nothing is left behind of a code that was mistyped
			_ = os.Remove(claimFile(r.dir))
		}
		return err
	}
	if err = r.state.write(r.dir); err == nil {
		_ = os.Remove(claimFile(r.dir))
	}
	return err
}

func (r *runner) run(ctx context.Context) error {
	for {
		if err := r.once(ctx); !errors.Is(err, errAgain) {
			return err
		}
	}
}

func (r *runner) once(ctx context.Context) error {
	err := r.begin(ctx)
	if err != nil {
		return err
	}
	if r.o.Server != "" { // the server has another address than at enrolment
		r.state.Server = r.o.Server
	}
	r.way.last = r.state.Last
	if r.to, err = r.way.clients(r.state.Server, r.state.Key); err != nil {
		return err
	}
	defer r.to.hangUp()
	r.log = r.log.With("site", r.state.Site, "link", r.state.Link)
	r.every = time.Duration(r.state.CheckSeconds * float64(time.Second))
	r.status = Status{Site: r.state.Site, Link: r.state.Link, Server: r.state.Server, Version: r.o.Version, Started: r.o.Now()}
	r.log.Info("agent runs", "server", r.state.Server)
	var wg sync.WaitGroup
	run, stop := context.WithCancel(ctx)
	r.gateway = source.NewGateway(r.o.Network)
	r.asks.Store(r.uses(wan.SourceGateway))
	defer r.gateway.Close()
	defer r.side.Wait()
	if r.uses(wan.SourceGateway) {
		wg.Go(func() {
			r.gateway.Notices(run, func(another netip.Addr) {
				r.look(reason{words: "the router reports another address or state", by: wan.SourceGateway, urgent: another.IsValid()})
			})
		})
	}
	wg.Go(func() { r.obey(run) })
	defer wg.Wait()
	defer stop() // before all that is waited for
	return r.loop(run)
}

func (r *runner) enrol(ctx context.Context) (state, error) {
	if r.o.Server == "" || r.link.Code == "" {
		return state{}, errors.New("this agent has not enrolled yet: give --server and --code, a code is made by inkpost agent invite SITE")
	}
	to, err := r.way.clients(r.o.Server, "")
	if err != nil {
		return state{}, err
	}
	defer to.hangUp()
	label, _ := os.Hostname()
	claim, err := statefile.Claim(claimFile(r.dir), r.link.Code)
	if err != nil {
		return state{}, err
	}
	for failures := 0; ; failures++ {
		e, err := to.any.Enrol(ctx, contract.Enrolment{Code: r.link.Code, Claim: claim, Label: label})
		var away *client.Unreachable
		switch {
		case err == nil:
			return state{Server: r.o.Server, Code: r.link.Code, Key: e.Key, Site: e.Site, Link: e.Link, CheckSeconds: e.CheckSeconds}, nil
		case !errors.As(err, &away) && !client.IsStatus(err, http.StatusTooManyRequests) &&
			!client.IsStatus(err, http.StatusServiceUnavailable):
			return state{}, fmt.Errorf("enrol: %w", err)
		}
		r.log.Warn("cannot enrol yet; trying again", "error", err)
		if !pause(ctx, pace.Backoff(failures, retryBase, maxRetry, rand.Float64())) {
			return state{}, ctx.Err()
		}
	}
}

// final reports whether asking again at once is useless.
func final(err error) bool {
	var e *client.Error
	return errors.As(err, &e) || errors.Is(err, errAgain)
}

func (r *runner) order() []wan.Source {
	words := r.link.Sources
	if len(words) == 0 {
		words = r.o.Sources
	}
	if len(words) == 0 {
		words = r.server.Sources
	}
	var out []wan.Source
	for _, w := range words {
		if s, err := wan.ParseSource(w); err == nil {
			out = append(out, s)
		}
	}
	if len(out) == 0 {
		return wan.DefaultOrder
	}
	return out
}

func (r *runner) uses(kind wan.Source) bool {
	for _, s := range r.order() {
		if s == kind {
			return true
		}
	}
	return false
}

// stunServers lists Ink Post's own responder, at the server's host, and those that are configured.
func (r *runner) stunServers() []string {
	var out []string
	if u, err := url.Parse(r.state.Server); err == nil && r.server.STUN > 0 {
		out = append(out, net.JoinHostPort(u.Hostname(), strconv.Itoa(r.server.STUN)))
	}
	return append(out, r.o.STUN...)
}

func (r *runner) stun(servers []string) source.STUN {
	return source.STUN{Network: r.o.Network, Servers: servers, Credential: stun.CredentialOf(keyHash(r.state.Key))}
}

// note remembers when, and by which source, another address was seen first.
func (r *runner) note(seen wan.Pair, by wan.Source) {
	if seen != r.beat && r.noticed.IsZero() {
		r.noticed, r.by = time.Now(), by
	}
	r.beat = seen
	r.own.Store(&seen)
}

// tell asks the sources and announces what they say.
func (r *runner) tell(ctx context.Context, why reason) error {
	o, err := r.to.any.Observed(ctx)
	if err != nil {
		return err
	}
	r.server = o
	r.asks.Store(r.uses(wan.SourceGateway))
	if o.NewKey {
		return r.rotate(ctx)
	}
	if o.CheckSeconds >= 1 {
		r.every = time.Duration(o.CheckSeconds * float64(time.Second))
	}
	seen, err := netip.ParseAddr(o.Address)
	if err != nil {
		return fmt.Errorf("the server said %q, which is not an address", o.Address)
	}
	if r.sent.Of(seen.Is6()) != seen && r.noticed.IsZero() {
		r.noticed, r.by = time.Now(), cmp.Or(why.by, wan.SourceObserved)
	}
	in := contract.Announcement{Source: string(wan.SourceObserved)}
	if !r.noticed.IsZero() {
		in.Source, in.NoticedMS = string(r.by), time.Since(r.noticed).Milliseconds()
	}
	if o.Protocol < 2 { // an older server takes what it sees itself
		if r.sent.Of(seen.Is6()) == seen && time.Since(r.word) < maxAnnouncePause {
			return nil
		}
		in.Source = string(wan.SourceObserved)
		return r.announce(ctx, in, wan.PairOf(seen))
	}
	reports := r.gather(ctx, seen, why)
	for _, p := range reports {
		out := contract.SourceReport{Source: string(p.Source), Via: p.Via, AgeMS: max(0, time.Since(p.At).Milliseconds()),
			Problem: p.Problem}
		if p.Addresses.IPv4.IsValid() {
			out.IPv4 = p.Addresses.IPv4.String()
		}
		if p.Addresses.IPv6.IsValid() {
			out.IPv6 = p.Addresses.IPv6.String()
		}
		in.Reports = append(in.Reports, out)
	}
	in.Protocol, in.Version, in.Platform, in.Sent = contract.AgentProtocol, r.o.Version, runtime.GOOS+"/"+runtime.GOARCH, r.o.Now().UTC()
	in.UpSeconds = r.o.Up().Seconds()
	in.Resolver, in.Down, in.Cannot = r.way.resolver(), r.fleet.downed(), r.o.LAN.Cannot()
	r.mu.Lock()
	for _, hop := range r.chain {
		in.Chain = append(in.Chain, hop.String())
	}
	r.mu.Unlock()
	return r.announce(ctx, in, wan.PairOf(seen))
}

func (r *runner) announce(ctx context.Context, in contract.Announcement, seen wan.Pair) error {
	receipt, err := r.to.any.Announce(ctx, in)
	if err != nil {
		return err
	}
	for _, six := range []bool{false, true} {
		if a := seen.Of(six); a.IsValid() {
			r.sent = r.sent.With(six, a)
		}
	}
	r.word, r.noticed, r.has = time.Now(), time.Time{}, pairIn(receipt.New)
	if r.held++; receipt.Held == "" {
		r.held = 0
	}
	r.tellStatus(func(s *Status) {
		s.Told, s.Answer, s.Trouble, s.Resolver, s.Sources = r.o.Now(), receipt, "", in.Resolver, in.Reports
	})
	r.way.mu.Lock()
	last := r.way.last
	r.way.mu.Unlock()
	if !slices.Equal(last, r.state.Last) {
		r.state.Last = last
		if err := r.state.write(r.dir); err != nil {
			r.log.Warn("the server's address cannot be saved; it is needed again after a restart", "error", err)
		}
	}
	if receipt.Changed {
		r.log.Info("address announced", "old", receipt.Old, "new", receipt.New, "hostnames", receipt.Hostnames, "nat", receipt.NAT)
		r.afterChange(ctx, receipt)
	}
	if receipt.Held != "" {
		r.log.Warn("the address is not followed yet", "because", receipt.Held)
	}
	return nil
}

// errAgain restarts the link with what is in the state file.
var errAgain = errors.New("begin again")

// rotate replaces our key by the one that the server has for us: it is saved first and used then.
func (r *runner) rotate(ctx context.Context) error {
	next, err := r.to.any.NextKey(ctx)
	if err != nil {
		return err
	}
	s := r.state
	s.Key = next.Key
	if err := s.write(r.dir); err != nil {
		return fmt.Errorf("the new key cannot be saved; the old one stays in use: %w", err)
	}
	r.log.Info("the key was replaced")
	return errAgain
}

// pause waits; it returns false if ctx ended first.
func pause(ctx context.Context, d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-ctx.Done():
		return false
	}
}

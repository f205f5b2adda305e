// Package vantage is the program that looks at sites from outside: it takes its assignments from the server, probes, and
// returns what it saw. It decides nothing about services; it only finds out whether it is fit to say anything.
package vantage

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
	"os"
	"runtime"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sync/semaphore"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/statefile"
	"inkpost.example/inkpost/internal/wire/distance"
)

// Options of Run.
type Options struct {
	// Server is the URL of the server. Required to enrol; later the state has it.
	Server string
	// Code is the one-time code. Required to enrol.
	Code string
	// StateDir is the folder in which the key, and outcomes that could not be returned, are kept. Required.
	StateDir string
	// From is the local address to probe from. Default: the system's choice.
	From netip.Addr
	// References are the "host:port" of machines that answer as long as the way out works. Default: none; what is probed is compared.
	References []string
	// Version is this program's version, as it tells the server.
	Version string
	// Log takes what happens. Default: nothing is logged.
	Log *slog.Logger
}

// ErrRevoked reports that the server does not take the key any more.
var ErrRevoked = errors.New("the server no longer accepts this vantage point's key; ask for a new code: inkpost vantage invite NAME")

const (
	returnEvery = time.Second
	streamQuiet = 40 * time.Second // the server says something every 15 s
)

// runner is a running vantage point.
type runner struct {
	o      Options
	state  state
	client *client.Client
	log    *slog.Logger

	mu       sync.Mutex
	schedule schedule
	cursor   uint64
	deadline time.Duration
	away     bool // the server does not answer
	offset   time.Duration

	wake    chan struct{}
	looking sync.WaitGroup
	slots   *semaphore.Weighted
	spool   *spool
	meter   *distance.Meter
	health  health
}

// Run probes until ctx ends, or the key is revoked. What could not be returned is kept for the next run. Errors: ErrRevoked, why it could
// not enrol.
func Run(ctx context.Context, o Options) error {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	s, err := enrol(ctx, o)
	if err != nil {
		return err
	}
	c, err := client.New(s.Server, s.Key, o.through())
	if err != nil {
		return err
	}
	room := int64(pace.MaxAtOnce(openFiles()))
	r := &runner{o: o, state: s, client: c, log: o.Log.With("vantage", s.Vantage), schedule: newSchedule(), deadline: 3 * time.Second,
		wake: make(chan struct{}, 1), slots: semaphore.NewWeighted(room),
		meter: distance.NewMeter(o.From)}
	if r.spool, err = openSpool(o.StateDir); err != nil {
		return err
	}
	r.log.Info("looking at sites from outside", "server", s.Server, "at_once", room)
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	var wg sync.WaitGroup
	for _, loop := range []func(context.Context) error{r.follow, r.probeAll, r.returnAll} {
		wg.Go(func() {
			if err := loop(ctx); err != nil {
				stop(err)
			}
		})
	}
	wg.Wait()
	r.looking.Wait()
	r.meter.Close()
	if err := r.spool.save(); err != nil {
		r.log.Error("outcomes that were not returned could not be saved", "error", err)
	}
	if err := context.Cause(ctx); errors.Is(err, ErrRevoked) {
		return err
	}
	return nil
}

// through sends everything from the address that is probed from.
func (o Options) through() client.Option {
	t := http.DefaultTransport.(*http.Transport).Clone()
	if o.From.IsValid() {
		t.DialContext = (&net.Dialer{LocalAddr: net.TCPAddrFromAddrPort(netip.AddrPortFrom(o.From, 0)),
			Timeout: 10 * time.Second}).DialContext
	}
	return client.WithHTTP(&http.Client{Timeout: 30 * time.Second, Transport: t})
}

// enrol returns the key that there is, or gets one if there is none, or if there is another code than the one that it is for: the code
// stands where it was written for as long as the machine does.
func enrol(ctx context.Context, o Options) (state, error) {
	s, err := statefile.ReadState[state](stateFile(o.StateDir))
	has := err == nil
	if has && (o.Code == "" || o.Code == s.Code) {
		s.Server = cmp.Or(o.Server, s.Server)
		return s, nil
	}
	if o.Code == "" {
		return s, fmt.Errorf("this vantage point has not enrolled yet; give --server and the --code that inkpost vantage invite prints")
	}
	if o.Server == "" {
		return s, fmt.Errorf("--server is missing; give the URL of the Ink Post server")
	}
	c, err := client.New(o.Server, "", o.through())
	if err != nil {
		return s, err
	}
	claim, err := statefile.Claim(claimFile(o.StateDir), o.Code)
	if err != nil {
		return s, err
	}
	e, err := c.EnrolVantage(ctx, o.Code, claim)
	switch {
	case err == nil:
		s = state{Server: o.Server, Code: o.Code, Key: e.Key, Vantage: e.Vantage}
	case has && client.IsStatus(err, http.StatusForbidden): // it was used before codes were kept, perhaps by this very vantage point
		o.Log.Warn("the code is not valid; going on with the key that there is", "error", err)
		s.Server, s.Code = o.Server, o.Code
	default:
		if client.IsStatus(err, http.StatusForbidden) { // nothing is left behind of a code that was mistyped
			_ = os.Remove(claimFile(o.StateDir))
		}
		return s, err
	}
	if err = statefile.WriteState(stateFile(o.StateDir), s); err == nil {
		_ = os.Remove(claimFile(o.StateDir))
	}
	return s, err
}

func openFiles() uint64 {
	var limit syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit); err != nil {
		return 1024
	}
	return limit.Cur
}

// refused reports whether an error means that the key is of no use any more.
func refused(err error) bool {
	return client.IsStatus(err, http.StatusUnauthorized) || client.IsStatus(err, http.StatusForbidden) ||
		client.IsStatus(err, http.StatusGone)
}

// follow keeps the assignments as the server has them.
func (r *runner) follow(ctx context.Context) error {
	for failures := 0; ctx.Err() == nil; failures++ {
		r.mu.Lock()
		cursor := r.cursor
		r.mu.Unlock()
		err := r.client.Assignments(ctx, cursor, streamQuiet, func(n contract.AssignmentNews) {
			failures = 0
			r.heardServer(n.Clock)
			r.takeNews(n)
			for _, o := range n.Tasks {
				if o.Look != nil {
					r.looking.Go(func() { r.lookAt(ctx, o) })
				}
			}
		})
		if refused(err) {
			return ErrRevoked
		}
		if err != nil && ctx.Err() == nil && failures == 0 {
			r.log.Warn("the server is away; probing goes on", "error", err)
		}
		select {
		case <-time.After(pace.Backoff(failures, 500*time.Millisecond, 30*time.Second, rand.Float64())):
		case <-ctx.Done():
		}
	}
	return nil
}

func (r *runner) takeNews(n contract.AssignmentNews) {
	now := time.Now()
	r.mu.Lock()
	defer r.mu.Unlock()
	r.cursor = n.Cursor
	if n.Deadline > 0 {
		r.deadline = time.Duration(n.Deadline * float64(time.Second))
	}
	if n.Whole {
		r.schedule.keep(n.Put)
	}
	for _, a := range n.Put {
		r.schedule.put(a, now, n.Whole)
	}
	for _, id := range n.Drop {
		r.schedule.drop(id)
	}
	for _, id := range n.Now {
		r.schedule.hurry(id, now)
	}
	for _, o := range n.Tasks {
		r.schedule.tell(o, now)
	}
	r.rouse()
}

func (r *runner) rouse() {
	select {
	case r.wake <- struct{}{}:
	default:
	}
}

// heardServer notes that the server answers, and how far apart the clocks are.
func (r *runner) heardServer(clock time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.away = false
	if !clock.IsZero() {
		r.offset = time.Since(clock)
	}
}

// returnAll returns what was seen, soon after it was.
func (r *runner) returnAll(ctx context.Context) error {
	tick := time.NewTicker(returnEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-r.spool.soon:
		case <-ctx.Done():
			return nil
		}
		for again := true; again && ctx.Err() == nil; {
			batch := r.spool.take()
			word := contract.VantageSelf{Version: r.o.Version, Platform: runtime.GOOS + "/" + runtime.GOARCH,
				Networks: networks(r.o.From), Waiting: r.spool.len()}
			word.Ailing = r.check(ctx, 10*time.Second)
			taken, err := r.client.ReturnOutcomes(ctx, contract.OutcomeBatch{VantageSelf: word, Sent: time.Now().UTC(), Outcomes: batch})
			again = err == nil && r.spool.len() > 0
			switch {
			case refused(err):
				r.spool.putBack(batch)
				return ErrRevoked
			case client.IsStatus(err, http.StatusUnprocessableEntity):
				r.log.Error("the server refused a batch; it is dropped", "outcomes", len(batch), "error", err)
			case err != nil:
				r.spool.putBack(batch)
				r.mu.Lock()
				r.away = true
				r.mu.Unlock()
				if err := r.spool.save(); err != nil {
					r.log.Error("outcomes that were not returned could not be saved", "error", err)
				}
			default:
				r.heardServer(taken.Clock)
			}
		}
	}
}

// networks lists the addresses of this machine.
func networks(from netip.Addr) (out []string) {
	if from.IsValid() {
		out = append(out, netip.PrefixFrom(from, from.BitLen()).String())
	}
	list, err := net.InterfaceAddrs()
	if err != nil {
		return out
	}
	for _, a := range list {
		if n, ok := a.(*net.IPNet); ok && n.IP.IsGlobalUnicast() && len(out) < 32 {
			out = append(out, n.String())
		}
	}
	return out
}

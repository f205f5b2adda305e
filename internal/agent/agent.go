// Package agent is the program at the site: it learns the addresses of the site's links, announces them when they change, and looks
// at the devices on the site's record from inside.
package agent

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"net/netip"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/agent/source"
	"inkpost.example/inkpost/internal/core/wan"
)

// Options of Run.
type Options struct {
	Server   string // the server's address; needed to enrol; later it may be left out
	Code     string // the one-time code; needed to enrol
	StateDir string // where the key is kept, and what status shows
	Version  string
	// Sources of the link's address in order; none takes what the server says, or the usual ones.
	Sources []string
	// STUN lists further STUN servers, "host:port", beside Ink Post's own.
	STUN []string
	// Fixed are addresses that somebody typed.
	Fixed []netip.Addr
	// Links are the links of an agent with several interfaces; each enrols on its own. None: one, on whatever interface the routes say.
	Links []LinkOptions
	// After is a command, with its arguments, to run after a change.
	After []string
	// AfterLimit is how long it may run; 30 s if 0.
	AfterLimit time.Duration
	// Reload makes the agent read its configuration again whenever something is received; nil never.
	Reload <-chan Options

	// Dial opens connections; nil takes the system's. The lab's router takes the place of the kernel's routing here.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	// Lookup resolves names; nil takes the system's resolver.
	Lookup func(ctx context.Context, host string) ([]netip.Addr, error)
	// Network says where the router is, if that is not to be found out.
	Network source.Network
	// LAN looks at devices; nil takes the system's neighbour table.
	LAN LAN
	Now func() time.Time
	// Up says how long its machine has been up; nil asks the system.
	Up  func() time.Duration
	Log *slog.Logger
}

// LinkOptions is one link of an agent with several interfaces.
type LinkOptions struct {
	Interface string
	Code      string // the one-time code; needed to enrol
	Sources   []string
	// Dial opens the link's connections; nil takes those of Options.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
}

const (
	requestLimit     = 5 * time.Second
	maxAnnouncePause = 5 * time.Minute // an announcement is due after this long, even if nothing differs
	retryBase        = 500 * time.Millisecond
	maxRetry         = 10 * time.Second       // the network may be back at any moment
	slowFor          = 300 * time.Millisecond // how long an announcement waits for sources that are no witnesses
)

// ErrRevoked reports that the server no longer takes the agent's key: a person has to enrol it again.
var ErrRevoked = errors.New("the server no longer accepts this agent's key; enrol it again with a new code")

func (o Options) withDefaults() Options {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Lookup == nil {
		o.Lookup = func(ctx context.Context, host string) ([]netip.Addr, error) {
			return net.DefaultResolver.LookupNetIP(ctx, "ip", host)
		}
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Up == nil {
		o.Up = machineUp
	}
	if o.AfterLimit == 0 {
		o.AfterLimit = 30 * time.Second
	}
	if o.LAN == nil {
		o.LAN = SystemLAN{}
	}
	return o
}

// Run enrols where that has not been done, and then keeps the server told of the site's addresses until ctx ends. While the server is away
// it tries again, with growing pauses, and announces the newest address when it is back. Errors: ErrRevoked, why it could not enrol.
func Run(ctx context.Context, o Options) error {
	for {
		again, err := runOnce(ctx, o.withDefaults())
		if again == nil || err != nil {
			return err
		}
		again.Reload = o.Reload
		o = *again
		o.withDefaults().Log.Info("configuration read anew")
	}
}

// Enrol gets a key for each link that has none, and keeps it. Errors: those of package client, that of the disk.
func Enrol(ctx context.Context, o Options) error {
	o = o.withDefaults()
	for _, l := range o.links() {
		if err := newRunner(o, l, &fleet{}, len(o.Links) > 0).begin(ctx); err != nil {
			return err
		}
	}
	return nil
}

func (o Options) links() []LinkOptions {
	if len(o.Links) > 0 {
		return o.Links
	}
	return []LinkOptions{{Code: o.Code, Interface: o.Network.Interface, Sources: o.Sources}}
}

// runOnce runs until ctx ends, or until the configuration changes.
func runOnce(ctx context.Context, o Options) (again *Options, err error) {
	run, stop := context.WithCancel(ctx)
	defer stop()
	links := o.links()
	f := &fleet{down: map[string]bool{}}
	ended := make(chan error, len(links))
	var wg sync.WaitGroup
	for _, l := range links {
		f.runners = append(f.runners, newRunner(o, l, f, len(o.Links) > 0))
	}
	for _, r := range f.runners {
		wg.Go(func() { ended <- r.run(run) })
	}
	wg.Go(func() { hearKernel(run, o.Log, f) })
	select {
	case next := <-o.Reload:
		again = &next
	case err = <-ended: // one revoked key ends all: a person has to act
	case <-ctx.Done():
	}
	stop()
	wg.Wait()
	if again == nil && err == nil {
		for range len(ended) {
			if e := <-ended; e != nil {
				err = e
			}
		}
	}
	return again, err
}

// hearKernel checks the links when routes or addresses change.
func hearKernel(ctx context.Context, log *slog.Logger, f *fleet) {
	if err := source.Changes(ctx, func() {
		f.poke(reason{words: "the kernel says that routes or addresses changed", by: wan.SourceInterface})
	}); err != nil && ctx.Err() == nil {
		log.Info("changes are noticed by the regular check only", "because", err)
	}
}

// fleet is the links of one agent, which tell each other when one is down.
type fleet struct {
	runners []*runner // not changed once they run

	mu   sync.Mutex
	down map[string]bool // by label
}

func (f *fleet) poke(why reason) {
	for _, r := range f.runners {
		r.renewed.Store(true)
		r.lost.sever()
		r.look(why)
	}
}

// set notes whether a link is up, and makes the others report it.
func (f *fleet) set(of *runner, down bool) {
	label := of.state.Link
	f.mu.Lock()
	changed := f.down[label] != down
	f.down[label] = down
	f.mu.Unlock()
	if changed && down {
		for _, r := range f.runners {
			if r != of {
				r.look(reason{words: "link " + label + " gets nothing through", known: true})
			}
		}
	}
}

func (f *fleet) downed() []string {
	f.mu.Lock()
	defer f.mu.Unlock()
	var out []string
	for label, down := range f.down {
		if down {
			out = append(out, label)
		}
	}
	return out
}

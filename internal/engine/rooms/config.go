package rooms

import (
	"cmp"
	"context"
	"log/slog"
	"net/netip"
	"time"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/access"
	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/counters"
	"inkpost.example/inkpost/internal/engine/faults"
	"inkpost.example/inkpost/internal/wire/hook"
	"inkpost.example/inkpost/internal/wire/mail"
	"inkpost.example/inkpost/internal/wire/speak"
)

// Config of an engine. Zero durations take the defaults.
type Config struct {
	Policy        wan.Policy    // which addresses may stand for a site
	Vantage       string        // what this server is called as a vantage point; "server" if empty
	ProbeDeadline time.Duration // how long a probe waits for an answer; 3 s
	// ShortestInterval is the shortest that a service may be probed at; pace.MinInterval. A lab may go below it.
	ShortestInterval time.Duration
	CheckEvery       time.Duration           // how often agents check their address; 15 s
	HoldDown         time.Duration           // how long a link has to work again before names come back to it; site.HoldDown
	WatchEvery       time.Duration           // how often agents look at the devices on record; 60 s
	VerifyEvery      time.Duration           // how often every hostname is asked for again; 60 s
	NameServer       string                  // "host:port" of our own DNS server, which verification asks
	Attempts         int                     // how many attempts may be under way at once; the fewest that there may be if 0
	Local            *time.Location          // where the clocks of providers are; the machine's if nil
	Seen             map[faults.Of]time.Time // when faults were first seen that are not in the database yet
	Resolvers        []string                // "host:port" of resolvers elsewhere, which verification asks too
	RedirectAt       []netip.Addr            // addresses of the redirect listener, which redirect names answer
	Serials          map[string]uint32       // serials of zones, by apex, that are known to have been answered before
	Clock            func() time.Time        // time.Now
	// PassOn has the server that writes carry out a DNS UPDATE while this one does not; nil where there is no other. Error: that server is
	// not reached.
	PassOn func(ctx context.Context, m *dns.Msg, keyName string, from netip.Addr) (rcode int, err error)
	// Mail is the server that notices are mailed by, Hooks sends to webhooks, and ConsoleURL is where notices say that the console is.
	Mail       mail.Server
	Hooks      hook.Sender
	ConsoleURL string
	// Installation is where this server listens and what it keeps on disk, which a checkup looks at.
	Installation Installation
	// KeyRate is how many announcements a second one key may make.
	KeyRate float64
	// Ticks is the clock of schedules: it never steps, whatever becomes of the time of day. The process's own, or Clock where that is set.
	Ticks func() time.Time
	// Speak makes the attempts of a round of probes in a simulated world; nil makes them over the network. There, Quiet keeps the queue of
	// jobs from listening to the database: it asks it now and then.
	Speak func(ctx context.Context, s speak.Service) speak.Round
	Quiet bool
	// Counters count what is done; nil counts nothing.
	Counters *counters.Counters
	Log      *slog.Logger
}

// Installation says where a server listens, and what it is told of itself.
type Installation struct {
	PublicURL                 string // where sites reach it; "" if nobody has said
	HTTP, DNS, STUN, Redirect string // "host:port" of the listeners; "" for none
	StateDir                  string // "" for none
	ZonePort                  string // of the name servers of zones; 53 if empty. A lab has another.
	// Renewal says why the certificate could not be renewed, "" if nothing is wrong; nil where somebody else renews it.
	Renewal func() string
	// Failing says the same once it has lasted for several tries; nil likewise.
	Failing func() string
}

// WithDefaults fills what was left out.
func (c Config) WithDefaults() Config {
	if c.Vantage == "" {
		c.Vantage = "server"
	}
	for _, d := range []struct {
		field *time.Duration
		value time.Duration
	}{{&c.ProbeDeadline, 3 * time.Second}, {&c.ShortestInterval, pace.MinInterval}, {&c.CheckEvery, 15 * time.Second},
		{&c.VerifyEvery, time.Minute}, {&c.HoldDown, site.HoldDown}, {&c.WatchEvery, time.Minute}} {
		if *d.field == 0 {
			*d.field = d.value
		}
	}
	c.KeyRate = cmp.Or(c.KeyRate, access.KeyRate)
	if c.Ticks == nil {
		c.Ticks = c.Clock
	}
	if c.Ticks == nil {
		began := time.Now()
		c.Ticks = func() time.Time { return began.Add(time.Since(began)) } // time.Since reads the monotonic clock
	}
	if c.Clock == nil {
		// As fine as the database keeps times, so that what is in memory and what is read back are equal.
		c.Clock = func() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }
	}
	if c.Local == nil {
		c.Local = time.Local
	}
	if c.Log == nil {
		c.Log = slog.New(slog.DiscardHandler)
	}
	return c
}

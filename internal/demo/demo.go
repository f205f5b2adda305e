package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/access"
	"inkpost.example/inkpost/internal/agent"
	"inkpost.example/inkpost/internal/agent/source"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/daemon"
	"inkpost.example/inkpost/internal/lab"
	"inkpost.example/inkpost/internal/lab/mailsink"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/store/cluster"
)

// Options of Start.
type Options struct {
	Dir      string // where the demo keeps its database and its agents' keys
	Fresh    bool   // forget what an earlier demo kept
	HTTP     string
	DNS      string
	Redirect string
	STUN     string
	Console  fs.FS
	Docs     fs.FS // served at /docs; nil for none
	Version  string
	Log      *slog.Logger
	Say      io.Writer // where progress is told
	Key      string    // an access key of an earlier demo, to use again where it still fits
	Healthy  bool      // nothing is wrong anywhere at the start
	Sites    int       // how many sites there are in all, at least those of the scenario
}

// Demo is a running demo.
type Demo struct {
	*daemon.Daemon
	World    *lab.World
	Dir      string // where its data are kept
	Owner    string // the owner's name
	Password string // the one-time password; "" if it has been replaced
	Key      string // an access key for the command line

	// Mail is the mail server that notices go to.
	Mail *mailsink.Sink

	crowd    *lab.Crowd // nil where there are the sites of the scenario alone
	cluster  *cluster.Cluster
	resolver *lab.Resolver
	parent   *lab.Parent
	primary  *lab.Primary
	agents   sync.WaitGroup
	cancel   context.CancelFunc
}

const (
	owner        = "owner"
	probeSeconds = 5
)

// DefaultDir is where the demo keeps its data: in the user's own state folder, or, for root, where the database's user can
// reach it.
func DefaultDir() string {
	if os.Geteuid() == 0 {
		return "/var/tmp/inkpost-demo"
	}
	if dir := os.Getenv("XDG_STATE_HOME"); dir != "" {
		return filepath.Join(dir, "inkpost", "demo")
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return filepath.Join(os.TempDir(), fmt.Sprintf("inkpost-demo-%d", os.Geteuid()))
	}
	return filepath.Join(home, ".local", "state", "inkpost", "demo")
}

// Start runs the demo until Stop. Errors: a port or the database that cannot be opened, a folder that is not a demo's.
func Start(ctx context.Context, o Options) (*Demo, error) {
	if o.Fresh {
		if err := forget(o.Dir); err != nil {
			return nil, err
		}
	}
	if err := os.MkdirAll(o.Dir, 0o755); err != nil {
		return nil, err
	}
	say := func(format string, args ...any) { _, _ = fmt.Fprintf(o.Say, format+"\n", args...) }
	say("starting a private PostgreSQL in %s", o.Dir)
	c, err := cluster.Start(ctx, cluster.Options{Dir: o.Dir})
	if err != nil {
		return nil, err
	}
	run, cancel := context.WithCancel(context.WithoutCancel(ctx))
	d := &Demo{Dir: o.Dir, Owner: owner, cluster: c, cancel: cancel}
	if err := d.start(ctx, run, o, say); err != nil {
		d.Stop()
		return nil, err
	}
	return d, nil
}

// forget removes what an earlier demo kept, and nothing else: a folder that is not a demo's is left alone.
func forget(dir string) error {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) || len(entries) == 0 {
		return nil
	}
	if _, err := os.Stat(filepath.Join(dir, "postgres", "PG_VERSION")); err != nil {
		return fmt.Errorf("%s does not look like a demo's folder; remove it yourself", dir)
	}
	for _, part := range []string{"postgres", "postgres.log", "agents", "server"} {
		if err := os.RemoveAll(filepath.Join(dir, part)); err != nil {
			return err
		}
	}
	return nil
}

// publicURL is where everything here reaches the service.
func publicURL(at string) string {
	if strings.HasSuffix(at, ":0") {
		return ""
	}
	return "http://" + at
}

func (d *Demo) start(ctx, run context.Context, o Options, say func(string, ...any)) error {
	list := places()
	recorded, err := addresses(ctx, d.cluster.URL("inkpost"))
	if err != nil {
		return err
	}
	if d.World, err = lab.New(specs(list, recorded), o.Log); err != nil {
		return err
	}
	if o.Sites > len(list) {
		if err := d.openCrowd(); err != nil {
			return err
		}
	}
	if limits := d.World.Limits(); limits != "" {
		say("%s", limits)
	}
	if d.resolver, err = lab.NewResolver(); err != nil {
		return err
	}
	if d.primary, err = lab.NewPrimary(primaryAt, remoteZone, pushKey, pushSecret); err != nil {
		return err
	}
	d.World.Place(d.primary)
	if d.parent, err = lab.NewParent(parentAt, parentZone); err != nil {
		return err
	}
	d.parent.Delegate(zone, map[string]netip.Addr{"ns1." + zone: netip.MustParseAddr("127.0.0.1")})
	d.parent.Delegate(remoteZone, map[string]netip.Addr{"ns1." + remoteZone: netip.MustParseAddrPort(primaryAt).Addr()})
	mailServer, err := d.startMail(o)
	if err != nil {
		return err
	}
	d.Daemon, err = daemon.Start(ctx, daemon.Options{Database: d.cluster.URL("inkpost"), HTTP: o.HTTP, PublicURL: publicURL(o.HTTP),
		DNS: o.DNS, Redirect: o.Redirect, STUN: o.STUN, HoldDown: 30 * time.Second, WatchEvery: 15 * time.Second,
		Policy: wan.Policy{StandIns: []netip.Prefix{lab.Public}, LANs: []netip.Prefix{lab.LAN}}, ProbeDeadline: time.Second,
		ShortestInterval: time.Second, CheckEvery: 2 * time.Second, StateDir: filepath.Join(o.Dir, "server"),
		VerifyEvery: 15 * time.Second, Resolvers: []string{d.resolver.Addr()}, ZonePort: zonePort,
		Mail: daemon.MailServer{Address: mailServer, Security: daemon.MailPlain, From: "Ink Post at Saltmarsh <post@saltmarsh.example>"},
		Lab:  d.World, Console: o.Console, Docs: o.Docs, Version: o.Version, Log: o.Log})
	if err != nil {
		return err
	}
	d.resolver.Ask(d.DNS)
	d.resolver.AskFor(remoteZone, d.primary.Addr())
	d.resolver.AskFor(zone, d.DNS)
	d.resolver.AskFor(parentZone, d.parent.Addr())
	if d.Password, err = d.Engine().Access.EnsureOwner(ctx, owner); err != nil {
		return err
	}
	waiting, err := d.Engine().Access.PasswordWaiting(ctx, owner)
	if err != nil {
		return err
	}
	if d.Password == "" && waiting { // never used: the one printed before is of no use to whoever reads this screen
		if d.Password, err = access.ResetPassword(ctx, d.Store(), owner, time.Now(), true); err != nil {
			return err
		}
	}
	if len(recorded) == 0 {
		say("recording %d sites of the Kettle Isles, with a made-up past of %d days", len(list), pastDays)
		if err := seed(ctx, d, list, probeSeconds, "127.0.0.1"); err != nil {
			return err
		}
		if err := seedPeople(ctx, d); err != nil {
			return err
		}
		if o.Sites > len(list) {
			if err := d.seedCrowd(ctx, o.Sites-len(list), say); err != nil {
				return err
			}
		}
	}
	say("starting a second vantage point at %s", harbourAt)
	if err := d.startVantage(ctx, run, o); err != nil {
		return err
	}
	if err := d.introduce(list); err != nil {
		return err
	}
	say("starting an agent behind each simulated router")
	if err := d.startAgents(ctx, run, o, list); err != nil {
		return err
	}
	if !o.Healthy {
		say("making seven of the sites be in trouble")
		if err := d.awaitAgents(ctx, list); err != nil {
			return err
		}
		if err := d.Trouble(""); err != nil {
			return err
		}
	}
	if _, err := d.Engine().Access.Key(o.Key); err == nil {
		d.Key = o.Key
		return nil
	}
	d.Key, err = d.commandLineKey(ctx)
	return err
}

// addresses reads which address the record has for each link ("KET-07 main").
func addresses(ctx context.Context, database string) (map[string]netip.Addr, error) {
	st, err := store.Open(ctx, database)
	if err != nil {
		return nil, err
	}
	defer st.Close()
	sites, err := st.Sites(ctx, 0)
	if err != nil {
		return nil, err
	}
	out := map[string]netip.Addr{}
	for _, s := range sites {
		links, err := st.Links(ctx, s.ID)
		if err != nil {
			return nil, err
		}
		for _, l := range links {
			out[s.Code+" "+l.Label] = l.IPv4
		}
	}
	return out, nil
}

func (d *Demo) startAgents(ctx, run context.Context, o Options, list []place) error {
	for i, p := range list {
		for n, l := range p.links {
			if _, err := d.Engine().Link(p.code, l.label); l.static || err != nil {
				continue // an operator sets it, or somebody has removed it from the record
			}
			dial, err := d.World.Dial(p.code, l.label)
			if err != nil {
				return err
			}
			options := agent.Options{Server: d.URL, StateDir: filepath.Join(o.Dir, "agents", p.code+"-"+l.label), Dial: dial,
				Version: o.Version, Up: func() time.Duration { return d.World.MachineUp(p.code) },
				LAN:     neighbourhood{agent.SystemLAN{Lab: []netip.Prefix{lab.LAN}}, d.World, p},
				Network: source.Network{Gateway: gatewayOf(i, n), Search: netip.AddrPortFrom(gatewayOf(i, n), 1900)},
				Log:     slog.New(quiet{o.Log.Handler()}).With("agent", p.code+" "+l.label)}
			if !agent.Enrolled(options.StateDir) {
				inv, err := d.Engine().Invite(ctx, p.code, l.label, contract.InvitationInput{})
				if err != nil {
					return err
				}
				options.Code = inv.Code
			}
			d.agents.Go(func() {
				err := d.World.RunOn(run, p.code, func(ctx context.Context) error { return agent.Run(ctx, options) })
				if err != nil && run.Err() == nil {
					options.Log.Error("agent ended", "error", err)
				}
			})
		}
	}
	return nil
}

func (d *Demo) commandLineKey(ctx context.Context) (string, error) {
	p, err := d.Store().PersonNamed(ctx, owner)
	if err != nil {
		return "", err
	}
	k, err := d.Engine().AddKey(ctx, p.ID, p.Name, contract.KeyInput{Label: "command line of the demo"})
	return k.Secret, err
}

// Stop ends the demo: agents, world, service, database.
func (d *Demo) Stop() {
	d.cancel()
	if d.Mail != nil {
		d.Mail.Close()
	}
	d.agents.Wait()
	if d.Daemon != nil {
		d.Daemon.Stop()
	}
	if d.parent != nil {
		d.parent.Close()
	}
	if d.resolver != nil {
		d.resolver.Close()
	}
	if d.World != nil {
		d.World.Close()
	}
	if d.crowd != nil {
		d.crowd.Close()
	}
	if d.primary != nil {
		_ = d.primary.SetRunning(false)
	}
	d.cluster.Stop()
}

// quiet drops agents' warnings: a dead line is part of the scenario, and is shown at its site.
type quiet struct{ slog.Handler }

// WithAttrs implements slog.Handler: what is made of it is as quiet.
func (q quiet) WithAttrs(attrs []slog.Attr) slog.Handler { return quiet{q.Handler.WithAttrs(attrs)} }

// WithGroup implements slog.Handler.
func (q quiet) WithGroup(name string) slog.Handler { return quiet{q.Handler.WithGroup(name)} }

// Enabled implements slog.Handler.
func (q quiet) Enabled(ctx context.Context, level slog.Level) bool {
	return level >= slog.LevelError && q.Handler.Enabled(ctx, level)
}

package lab

import (
	"cmp"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/lab/peer"
)

// SiteSpec says what a simulated site has.
type SiteSpec struct {
	Code     string
	Links    []LinkSpec
	Services []ServiceSpec
}

// LinkSpec is a simulated link. Address is the one to ask the provider for, if any.
type LinkSpec struct {
	Label, Provider string
	Address         netip.Addr
	// Gateway is where the router tells its WAN address by NAT-PMP; the zero value has it keep silent. Told is what it says instead
	// of the address that the provider gave.
	Gateway, Told netip.Addr
}

// ServiceSpec is a simulated service and the forward to it.
type ServiceSpec struct {
	Name, Device string
	LAN          netip.AddrPort
	External     uint16
	Kind         probe.Kind
	Transport    probe.Transport // tcp if empty
	Peer         []byte          // of a WireGuard server: the public key of the peer that it knows
	Host         string          // that its certificate is made out to
	Until        time.Time       // when its certificate expires; in a year if zero
	Forwarded    bool
}

func (s ServiceSpec) door() door { return door{s.Transport, s.External} }

// World is the simulated world.
type World struct {
	providers map[string]*provider
	sites     map[string]*labSite
	primary   atomic.Pointer[Primary] // of a remote zone, if there is one
	log       *slog.Logger
	way       *way  // acts on hop limits; nil where the system does not allow that
	wayless   error // why not
	stop      context.CancelFunc
}

type labSite struct {
	code     string
	links    []line
	services []ServiceSpec
	answers  map[string]*answerer
	machine  *machine
}

type line struct {
	LinkSpec
	router *router
}

// pools are the simulated providers' address pools, all in Public.
var pools = map[string]netip.Prefix{
	"Kettle Cable":  netip.MustParsePrefix("127.101.0.0/16"),
	"Islenet Fibre": netip.MustParsePrefix("127.102.0.0/16"),
	"Gannet Mobile": netip.MustParsePrefix("127.103.0.0/16"),
}

// New makes a world and starts everything in it.
func New(specs []SiteSpec, log *slog.Logger) (*World, error) {
	w := &World{providers: map[string]*provider{}, sites: map[string]*labSite{}, log: log}
	for name, pool := range pools {
		w.providers[name] = newProvider(name, pool)
	}
	ctx, stop := context.WithCancel(context.Background())
	w.stop = stop
	w.way, w.wayless = openWay(w)
	for _, spec := range specs {
		if err := w.add(spec); err != nil {
			w.Close()
			if w.way != nil {
				w.way.close()
			}
			return nil, err
		}
	}
	if w.way != nil {
		go w.way.run(ctx)
	}
	return w, nil
}

func (w *World) add(spec SiteSpec) error {
	p := &labSite{code: spec.Code, services: spec.Services, answers: map[string]*answerer{}, machine: newMachine()}
	w.sites[spec.Code] = p
	for i, s := range spec.Services {
		if s.Transport == "" {
			s.Transport = probe.TCP
			spec.Services[i] = s
		}
		a := &answerer{home: s.LAN, at: s.LAN, transport: s.Transport,
			peer: peer.Peer{Kind: s.Kind, Name: p.nameOf(s), Keys: s.Peer, Host: s.Host, Until: s.Until}}
		p.answers[s.Name] = a
		if err := a.start(); err != nil {
			return err
		}
	}
	for _, l := range spec.Links {
		from := w.providers[l.Provider]
		if from == nil {
			return fmt.Errorf("the lab has no provider %q", l.Provider)
		}
		r := newRouter(from, w.log)
		r.ways = w.way != nil
		if l.Told.IsPrivate() {
			r.behind = 1
		}
		for _, s := range spec.Services {
			r.forwards[s.door()] = &forward{to: p.answers[s.Name], present: s.Forwarded}
		}
		p.links = append(p.links, line{l, r})
		if err := r.connect(l.Address); err != nil {
			return err
		}
		if l.Gateway.IsValid() {
			if err := r.openGateway(l.Gateway, l.Told); err != nil {
				return err
			}
		}
	}
	return nil
}

// Close stops everything.
func (w *World) Close() {
	w.stop()
	for _, p := range w.sites {
		for _, l := range p.links {
			l.router.close()
		}
		for _, a := range p.answers {
			a.comeHome()
			a.stop()
		}
	}
}

func (w *World) site(code string) (*labSite, error) {
	if p := w.sites[strings.ToUpper(code)]; p != nil {
		return p, nil
	}
	return nil, site.Missing{Kind: "site in the lab", Name: code}
}

func (p *labSite) line(label string) (line, error) {
	for _, l := range p.links {
		if l.Label == label {
			return l, nil
		}
	}
	return line{}, site.Missing{Kind: "link of " + p.code + " in the lab", Name: label}
}

func (p *labSite) spec(name string) (ServiceSpec, error) {
	for _, s := range p.services {
		if s.Name == name {
			return s, nil
		}
	}
	return ServiceSpec{}, site.Missing{Kind: "service of " + p.code + " in the lab", Name: name}
}

// Dial returns the way out of a site's link, for an agent behind its router.
func (w *World) Dial(code, label string) (func(context.Context, string, string) (net.Conn, error), error) {
	p, err := w.site(code)
	if err != nil {
		return nil, err
	}
	l, err := p.line(label)
	if err != nil {
		return nil, err
	}
	return l.router.Dial, nil
}

// Renumber has the provider give a link another address, now.
func (w *World) Renumber(code, label string) (contract.Renumbering, error) {
	p, err := w.site(code)
	if err != nil {
		return contract.Renumbering{}, err
	}
	l, err := p.line(label)
	if err != nil {
		return contract.Renumbering{}, err
	}
	before, after, err := l.router.renumber()
	return contract.Renumbering{Link: label, Old: before.String(), New: after.String()}, err
}

// SetService starts or stops a device's service.
func (w *World) SetService(code, name string, running bool) error {
	p, err := w.site(code)
	if err != nil {
		return err
	}
	if _, err := p.spec(name); err != nil {
		return err
	}
	a := p.answers[name]
	if running {
		err = a.start()
	} else {
		a.stop()
	}
	for _, l := range p.links {
		err = errors.Join(err, l.router.change(func() {}))
	}
	return err
}

// Replace has another server, of the same protocol and with another identity, answer in the place of a device's service.
func (w *World) Replace(code, name, by string) error {
	p, err := w.site(code)
	if err != nil {
		return err
	}
	if _, err := p.spec(name); err != nil {
		return err
	}
	return p.answers[name].become(by)
}

// StaticKey is the public key of a simulated WireGuard server, in base64.
func (w *World) StaticKey(code, name string) string {
	p, err := w.site(code)
	if err != nil || p.answers[name] == nil {
		return ""
	}
	return base64.StdEncoding.EncodeToString(p.answers[name].peer.StaticKey())
}

// Know has a simulated WireGuard server know a peer by its public key.
func (w *World) Know(code, name string, key []byte) error {
	p, err := w.site(code)
	if err != nil {
		return err
	}
	if _, err := p.spec(name); err != nil {
		return err
	}
	return p.answers[name].know(key)
}

// Place puts the primary of a remote zone into the world.
func (w *World) Place(p *Primary) { w.primary.Store(p) }

// SetPrimary takes the remote zone's primary away, or brings it back.
func (w *World) SetPrimary(running bool) error {
	p := w.primary.Load()
	if p == nil {
		return errors.New("this world has no primary")
	}
	return p.SetRunning(running)
}

// SetTaken has somebody else hold a name in the remote zone, at an address; the empty address frees it.
func (w *World) SetTaken(name, address string) error {
	p := w.primary.Load()
	if p == nil {
		return errors.New("this world has no primary")
	}
	if address == "" {
		return p.SetTaken(name, netip.Addr{})
	}
	a, err := netip.ParseAddr(address)
	if err != nil {
		return fmt.Errorf("%q is no IPv4 address", address)
	}
	return p.SetTaken(name, a)
}

// SetForward restores or removes the forward to a service on every router of the site.
func (w *World) SetForward(code, name string, present bool) error {
	p, err := w.site(code)
	if err != nil {
		return err
	}
	s, err := p.spec(name)
	if err != nil {
		return err
	}
	for _, l := range p.links {
		err = errors.Join(err, l.router.change(func() { l.router.forwards[s.door()].present = present }))
	}
	return err
}

// SetForwardTo has the forward of a service lead to another one of the site, as a mistyped one does. Leading to its own again, it is right.
// Error: site.Missing.
func (w *World) SetForwardTo(code, name, to string) error {
	p, err := w.site(code)
	if err != nil {
		return err
	}
	s, err := p.spec(name)
	if err != nil {
		return err
	}
	if _, err := p.spec(to); err != nil {
		return err
	}
	for _, l := range p.links {
		err = errors.Join(err, l.router.change(func() {
			f := l.router.forwards[s.door()]
			f.present = false
		}), l.router.change(func() {
			f := l.router.forwards[s.door()]
			f.to, f.present = p.answers[to], true
		}))
	}
	return err
}

// SetAwake has a device sleep, or wakes it. Error: site.Missing.
func (w *World) SetAwake(code, device string, awake bool) error {
	if !awake {
		return w.SetDevice(code, device, netip.Addr{})
	}
	p, err := w.site(code)
	if err != nil {
		return err
	}
	list, err := p.ofDevice(device)
	for _, a := range list {
		a.comeHome()
		err = errors.Join(err, a.start())
	}
	return errors.Join(err, p.bindAll())
}

// World lists everything as it stands now.
func (w *World) World() contract.World {
	out := contract.World{Sites: []contract.LabSite{}}
	for _, p := range w.sites {
		s := contract.LabSite{Code: p.code, Links: []contract.LabLink{}, Services: []contract.LabService{}}
		for _, l := range p.links {
			l.router.mu.Lock()
			s.Links = append(s.Links, contract.LabLink{Label: l.Label, Provider: l.Provider, Address: l.router.wan.String()})
			l.router.mu.Unlock()
		}
		for _, spec := range p.services {
			forwarded := false
			for _, l := range p.links {
				l.router.mu.Lock()
				forwarded = forwarded || l.router.forwards[spec.door()].present
				l.router.mu.Unlock()
			}
			s.Services = append(s.Services, contract.LabService{Name: spec.Name, Device: spec.Device, LAN: spec.LAN.String(),
				External: int(spec.External), Running: p.answers[spec.Name].running(), Forwarded: forwarded})
		}
		out.Sites = append(out.Sites, s)
	}
	slices.SortFunc(out.Sites, func(a, b contract.LabSite) int { return cmp.Compare(a.Code, b.Code) })
	return out
}

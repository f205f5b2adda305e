package lab

import (
	"errors"
	"fmt"
	"net/netip"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

// leave has a device no longer answer at its own address: it sleeps where to is zero, and otherwise it has moved there. Whoever
// comes to the old address gets no answer.
func (a *answerer) leave(to netip.Addr) error {
	a.comeHome()
	a.stop()
	a.mu.Lock()
	var err error
	if a.transport == probe.UDP {
		a.hole, err = dropDatagrams(a.home)
	} else {
		a.hole, err = dropPort(a.home)
	}
	a.away = true
	a.at = netip.AddrPortFrom(to, a.home.Port())
	a.mu.Unlock()
	if err != nil || !to.IsValid() {
		return err
	}
	return a.start()
}

// comeHome has a device answer at its own address again, once it is started.
func (a *answerer) comeHome() {
	a.mu.Lock()
	defer a.mu.Unlock()
	if !a.away {
		return
	}
	if a.open != nil {
		_ = a.open.Close()
		a.open = nil
	}
	if a.hole != nil {
		_ = a.hole.Close()
		a.hole = nil
	}
	a.away, a.at = false, a.home
}

// gone reports whether nobody is at the device's own address.
func (a *answerer) gone() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.away
}

// place is where a device is now; sleeping devices are nowhere.
func (a *answerer) place() netip.Addr {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.at.Addr()
}

// ofDevice returns the services of a device.
func (p *labSite) ofDevice(name string) (out []*answerer, err error) {
	for _, s := range p.services {
		if s.Device == name {
			out = append(out, p.answers[s.Name])
		}
	}
	if len(out) == 0 {
		err = site.Missing{Kind: "device of " + p.code + " in the lab", Name: name}
	}
	return out, err
}

// bindAll brings the ports of all routers in line with what is behind them.
func (p *labSite) bindAll() (err error) {
	for _, l := range p.links {
		err = errors.Join(err, l.router.change(func() {}))
	}
	return err
}

// SetDevice has a device be at another address of its LAN, or asleep where to is zero.
func (w *World) SetDevice(code, device string, to netip.Addr) error {
	p, err := w.site(code)
	if err != nil {
		return err
	}
	list, err := p.ofDevice(device)
	if err != nil {
		return err
	}
	for _, a := range list {
		if err := a.leave(to); err != nil {
			return err
		}
	}
	return p.bindAll()
}

// Where returns the LAN address that a device has now; zero if it sleeps, or is not known.
func (w *World) Where(code, device string) netip.Addr {
	p, err := w.site(code)
	if err != nil {
		return netip.Addr{}
	}
	list, err := p.ofDevice(device)
	if err != nil {
		return netip.Addr{}
	}
	return list[0].place()
}

// SetLink cuts a link's line, so that nothing goes through in either direction, or repairs it.
func (w *World) SetLink(code, label string, up bool) error {
	p, err := w.site(code)
	if err != nil {
		return err
	}
	l, err := p.line(label)
	if err != nil {
		return err
	}
	return l.router.cut(!up)
}

// SetProvider has a provider fail, so that all of its lines are dead, or ends that. Error: site.Missing.
func (w *World) SetProvider(name string, running bool) error {
	found := false
	for _, p := range w.sites {
		for _, l := range p.links {
			if l.Provider == name {
				found = true
				if err := l.router.cut(!running); err != nil {
					return err
				}
			}
		}
	}
	if !found {
		return site.Missing{Kind: "provider in the lab", Name: name}
	}
	return nil
}

// cut has nothing go through a router's WAN connection, or lets it again.
func (r *router) cut(cut bool) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.dark = cut
	if cut {
		for c := range r.flows {
			_ = c.Close()
		}
		clear(r.flows)
	}
	return r.bind()
}

// Mend brings everything of a site back to what it was when the world was made, and says what was wrong.
func (w *World) Mend(code string) (mended []string, err error) {
	p, err := w.site(code)
	if err != nil {
		return nil, err
	}
	mended = []string{}
	for _, l := range p.links {
		if l.router.isDark() {
			mended = append(mended, fmt.Sprintf("the line of link %s works again", l.Label))
			err = errors.Join(err, l.router.cut(false))
		}
	}
	told := map[string]bool{}
	for _, s := range p.services {
		a := p.answers[s.Name]
		a.mu.Lock()
		away, at, running := a.away, a.at.Addr(), a.open != nil
		name := a.peer.Name
		a.mu.Unlock()
		switch {
		case away && !told[s.Device] && at.IsValid():
			mended = append(mended, fmt.Sprintf("%s has its LAN address %s again, not %s", s.Device, s.LAN.Addr(), at))
		case away && !told[s.Device]:
			mended = append(mended, fmt.Sprintf("%s is awake", s.Device))
		case !away && !running:
			mended = append(mended, fmt.Sprintf("%s runs again", s.Name))
		}
		told[s.Device] = told[s.Device] || away
		if was := p.nameOf(s); name != was {
			mended = append(mended, fmt.Sprintf("%s is the same machine as before", s.Name))
			err = errors.Join(err, a.become(was))
		}
		a.comeHome()
		err = errors.Join(err, a.start())
		for _, l := range p.links {
			err = errors.Join(err, l.router.change(func() {
				if f := l.router.forwards[s.door()]; f.present != s.Forwarded {
					f.present = s.Forwarded
					mended = append(mended, fmt.Sprintf("%s is %s by the router of link %s", s.Name,
						map[bool]string{true: "forwarded again", false: "no longer forwarded"}[s.Forwarded], l.Label))
				}
			}))
		}
	}
	return mended, errors.Join(err, p.bindAll())
}

func (p *labSite) nameOf(s ServiceSpec) string { return p.code + " " + s.Device + " " + s.Name }

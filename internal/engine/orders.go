package engine

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"net"
	"net/netip"
	"strconv"
	"sync"
	"syscall"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/store"
)

// yard is what agents are to do, and what they saw.
type yard struct {
	mu     sync.Mutex
	next   int64
	wake   map[int64]chan struct{}     // by site: closed when there is something new to do
	looks  map[int64]*look             // by site: somebody waits for a look at the LAN
	proofs map[int64]map[int64]*proof  // by link, then by number
	checks map[int64]time.Time         // by link: when its agent was asked to check its address
	due    map[int64]bool              // by link: it has not been told of that yet
	seen   map[int64]contract.Sighting // by device
	dirty  map[int64]store.Sighting
}

type look struct {
	id   int64
	done chan struct{}
}

type proof struct {
	order contract.ProofOrder
	words chan contract.ProofWord
}

// watchEvery is how often an agent looks at the devices on record.
const watchEvery = time.Minute

// lookLimit is how long somebody waits for a look, and proofLimit how long an agent listens for a proof.
const (
	lookLimit  = 20 * time.Second
	proofLimit = 10 * time.Second
)

// ErrNoAgent reports that no agent of the site is there to ask.
var ErrNoAgent = errors.New("no agent of this site answers: it has none, it is overdue, or it is of an older version; start or update it, then try again")

func (y *yard) waker(siteID int64) chan struct{} {
	if y.wake[siteID] == nil {
		y.wake[siteID] = make(chan struct{})
	}
	return y.wake[siteID]
}

// rouse has the agents of a site ask anew. The caller holds y.mu.
func (y *yard) rouse(siteID int64) {
	close(y.waker(siteID))
	delete(y.wake, siteID)
}

// rouseAll has all agents ask anew, as the record may be another one for them.
func (y *yard) rouseAll() {
	y.mu.Lock()
	defer y.mu.Unlock()
	for _, wake := range y.wake {
		close(wake)
	}
	clear(y.wake)
}

// Orders gives what the agent of a link is to do. Where it has that already, it waits for something new, until ctx ends.
func (e *Engine) Orders(ctx context.Context, linkID int64, have string) (contract.Orders, error) {
	for {
		p, _, ok := e.record.ofLink(linkID)
		if !ok {
			return contract.Orders{}, ErrLinkGone
		}
		e.yard.mu.Lock()
		wake := e.yard.waker(p.ID) // before the record is read, so that no edit is missed
		e.yard.mu.Unlock()
		p, _, _ = e.record.ofLink(linkID)
		out := contract.Orders{Watch: watchOf(p), Every: e.config.WatchEvery.Seconds()}
		h := fnv.New64a()
		_ = json.NewEncoder(h).Encode(out)
		out.Version = strconv.FormatUint(h.Sum64(), 36)
		e.yard.mu.Lock()
		if l := e.yard.looks[p.ID]; l != nil {
			out.Look = l.id
		}
		for _, pr := range e.yard.proofs[linkID] {
			out.Proofs = append(out.Proofs, pr.order)
		}
		out.Check = e.yard.due[linkID]
		delete(e.yard.due, linkID)
		e.yard.mu.Unlock()
		if out.Version != have || out.Look != 0 || len(out.Proofs) > 0 || out.Check || ctx.Err() != nil {
			return out, nil
		}
		select {
		case <-wake:
		case <-ctx.Done():
		}
	}
}

// watchOf lists the devices of a site with the ports of their services.
func watchOf(p premises) []contract.WatchItem {
	out := []contract.WatchItem{}
	wanted := p.wantIPv6()
	for _, d := range p.devices {
		item := contract.WatchItem{Device: d.Name, MAC: d.MAC, Address: d.Address.String(), WantIPv6: wanted[d.ID]}
		if d.IPv6.IsValid() {
			item.IPv6 = d.IPv6.String()
		}
		for _, s := range p.services {
			if s.DeviceID == d.ID {
				item.Ports = append(item.Ports, contract.WatchPort{Service: s.Name, Transport: string(s.Transport), Port: s.InternalFrom})
			}
		}
		out = append(out, item)
	}
	return out
}

// wantIPv6 says of which devices the IPv6 address is wanted.
func (p premises) wantIPv6() map[int64]bool {
	out := map[int64]bool{}
	for _, h := range p.hostnames {
		if h.DeviceID != 0 {
			out[h.DeviceID] = true
		}
	}
	for _, s := range p.services {
		if s.Pinholed() {
			out[s.DeviceID] = true
		}
	}
	return out
}

// withoutMost is how many looks in a row at a device without the IPv6 address that is on record make that a stale one.
const withoutMost = 3

// lostIPv6 says whether the IPv6 address that is on record of a device is no longer its own, and no other is known.
func (e *Engine) lostIPv6(deviceID int64) bool {
	s, ok := e.sighting(deviceID)
	return ok && s.Without >= withoutMost
}

// TakeLAN takes in what an agent saw of the devices on record. What is not on record is passed over.
func (e *Engine) TakeLAN(linkID int64, in contract.LANReport) error {
	p, l, ok := e.record.ofLink(linkID)
	if !ok {
		return ErrLinkGone
	}
	now := e.now()
	known, wanted := map[string]site.Device{}, p.wantIPv6()
	for _, d := range p.devices {
		known[d.Name] = d
	}
	e.yard.mu.Lock()
	changed := false
	six := map[int64]netip.Addr{}
	for _, s := range in.Sightings {
		d, ok := known[s.Device]
		if !ok {
			continue
		}
		// An address that no hostname has is of no use, and changes nothing.
		if a, err := netip.ParseAddr(s.IPv6); err == nil && a != d.IPv6 && wanted[d.ID] && e.config.Policy.Check(a) == nil {
			six[d.ID] = a
		}
		s.At = now
		before := e.yard.seen[d.ID]
		s.Hours = before.Hours
		s.Hours.Look(now, s.Present)
		s.Without = 0
		if wanted[d.ID] && d.IPv6.IsValid() && s.Present && s.IPv6 == "" {
			s.Without = min(before.Without+1, withoutMost)
		}
		kept := before.At
		before.At, before.Hours = now, s.Hours // that is no change to tell of
		was, _ := json.Marshal(before)
		doc, err := json.Marshal(s)
		if err != nil {
			continue
		}
		other := string(was) != string(doc)
		changed = changed || other
		e.yard.seen[d.ID] = s
		// The same again costs no write, but for once an hour of the day, which is what is learned of it.
		if other || kept.Truncate(time.Hour) != now.Truncate(time.Hour) {
			e.yard.dirty[d.ID] = store.Sighting{DeviceID: d.ID, LinkID: linkID, At: now, Doc: doc}
		}
	}
	if l := e.yard.looks[p.ID]; l != nil && l.id == in.Look {
		close(l.done)
		delete(e.yard.looks, p.ID)
	}
	e.yard.mu.Unlock()
	if len(six) > 0 {
		if err := e.readdress(p, six); err != nil {
			return err
		}
	}
	if changed {
		e.faults.review(p.ID)
		e.Events.Publish(contract.EventLANSeen, p.Code, l.Label, "an agent looked at the devices of "+p.Code)
	}
	return nil
}

// readdress records devices' IPv6 addresses, and has the hostnames that name them answer those.
func (e *Engine) readdress(p premises, six map[int64]netip.Addr) error {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	return e.change(ctx, func() (edit, error) {
		p, ok := e.record.site(p.ID)
		return edit{site: p.Code, words: "devices of " + p.Code + " have other IPv6 addresses", write: func(ctx context.Context, tx *store.Store) error {
			for id, a := range six {
				if err := tx.NoteDeviceIPv6(ctx, id, a); err != nil {
					return err
				}
			}
			_, err := tx.BumpSerials(ctx, zonesOf(p))
			return err
		}}, must(error(nil), ok)
	})
}

// checkAgain is how long an agent is left alone after it was asked to check its address.
const checkAgain = 5 * time.Second

// askAgent has the agent of a link check its address now, as something fails there.
func (e *Engine) askAgent(linkID int64) {
	p, l, ok := e.record.ofLink(linkID)
	if !ok || !l.Agent {
		return
	}
	now := e.now()
	e.yard.mu.Lock()
	defer e.yard.mu.Unlock()
	if now.Sub(e.yard.checks[linkID]) < checkAgain {
		return
	}
	e.yard.checks[linkID], e.yard.due[linkID] = now, true
	e.yard.rouse(p.ID)
}

// LAN gives what was last seen of a site's devices.
func (e *Engine) LAN(code string) ([]contract.Sighting, error) {
	p, err := e.premises(code)
	out := []contract.Sighting{}
	for _, d := range p.devices {
		if s, ok := e.sighting(d.ID); ok {
			s.Device = d.Name
			out = append(out, s)
		}
	}
	return out, err
}

func (e *Engine) sighting(deviceID int64) (contract.Sighting, bool) {
	e.yard.mu.Lock()
	defer e.yard.mu.Unlock()
	s, ok := e.yard.seen[deviceID]
	return s, ok
}

// lookSoon has an agent of the site look at its devices, and waits for nothing.
func (e *Engine) lookSoon(siteID int64) {
	e.yard.mu.Lock()
	defer e.yard.mu.Unlock()
	if e.yard.looks[siteID] == nil {
		e.yard.next++
		e.yard.looks[siteID] = &look{id: e.yard.next, done: make(chan struct{})}
		e.yard.rouse(siteID)
	}
}

// Look has an agent of the site look at its devices now. Error: ErrNoAgent.
func (e *Engine) Look(ctx context.Context, code string) ([]contract.Sighting, error) {
	p, err := e.premises(code)
	if err != nil {
		return nil, err
	}
	e.yard.mu.Lock()
	l := e.yard.looks[p.ID]
	if l == nil {
		e.yard.next++
		l = &look{id: e.yard.next, done: make(chan struct{})}
		e.yard.looks[p.ID] = l
		e.yard.rouse(p.ID)
	}
	e.yard.mu.Unlock()
	select {
	case <-l.done:
		return e.LAN(code)
	case <-ctx.Done():
	case <-time.After(lookLimit):
	}
	e.yard.mu.Lock()
	if e.yard.looks[p.ID] == l {
		delete(e.yard.looks, p.ID)
	}
	e.yard.mu.Unlock()
	return nil, ErrNoAgent
}

// TellProof takes an agent's word on a proof.
func (e *Engine) TellProof(linkID, id int64, w contract.ProofWord) error {
	e.yard.mu.Lock()
	p := e.yard.proofs[linkID][id]
	e.yard.mu.Unlock()
	if p == nil {
		return store.Missing{Kind: "proof", Name: strconv.FormatInt(id, 10)}
	}
	select {
	case p.words <- w:
	default: // nobody needs that many
	}
	return nil
}

// Prove has an agent listen on a port of its machine, and sends to the external port from here: what arrives proves that the router
// passes it on, before the equipment is there, and for UDP too. Errors: ErrNoAgent, and flaws of the input.
func (e *Engine) Prove(ctx context.Context, code string, in contract.ProofInput) (contract.Proof, error) {
	p, err := e.premises(code)
	if err != nil {
		return contract.Proof{}, err
	}
	l, ok := p.preferred()
	if in.Link != "" {
		if l, err = p.linkNamed(in.Link); err != nil {
			return contract.Proof{}, err
		}
	} else if !ok {
		return contract.Proof{}, store.Missing{Kind: "link of " + p.Code, Name: "any"}
	}
	var f site.Flaws
	if in.Port == 0 {
		in.Port = in.External
	}
	if in.Transport == "" {
		in.Transport = string(probe.TCP)
	}
	if in.Transport != string(probe.TCP) && in.Transport != string(probe.UDP) {
		f.Note("transport", fmt.Errorf("%q is unknown; it is tcp or udp", in.Transport))
	}
	for field, port := range map[string]int{"external": in.External, "port": in.Port} {
		if port < 1 || port > 65535 {
			f.Note(field, fmt.Errorf("%d is no port; 1 to 65535", port))
		}
	}
	to := target(l)
	if !to.IsValid() {
		f.Note("link", fmt.Errorf("the address of link %s is not known yet", l.Label))
	}
	if err := f.Err(); err != nil {
		return contract.Proof{}, err
	}
	began := e.now()
	out := contract.Proof{Link: l.Label, Transport: in.Transport, External: in.External, Port: in.Port, Address: to.String(), At: began}
	nonce := make([]byte, 16)
	_, _ = rand.Read(nonce) // never fails
	e.yard.mu.Lock()
	e.yard.next++
	pr := &proof{order: contract.ProofOrder{ID: e.yard.next, Transport: in.Transport, Port: in.Port, Nonce: hex.EncodeToString(nonce), Seconds: proofLimit.Seconds()},
		words: make(chan contract.ProofWord, 4)}
	if e.yard.proofs[l.ID] == nil {
		e.yard.proofs[l.ID] = map[int64]*proof{}
	}
	e.yard.proofs[l.ID][pr.order.ID] = pr
	e.yard.rouse(p.ID)
	e.yard.mu.Unlock()
	defer func() {
		e.yard.mu.Lock()
		delete(e.yard.proofs[l.ID], pr.order.ID)
		e.yard.mu.Unlock()
	}()
	ctx, cancel := context.WithTimeout(ctx, lookLimit)
	defer cancel()
	machine := "the LAN address of the agent's machine"
	select {
	case w := <-pr.words:
		if w.State == "failed" {
			return out, site.Flaws{{Field: "port", Detail: w.Problem}}
		}
		if a, err := netip.ParseAddr(w.Address); err == nil {
			machine = a.String() + ", the agent's machine"
		}
	case <-ctx.Done():
		return out, ErrNoAgent
	}
	back := e.send(ctx, in.Transport, netip.AddrPortFrom(to, uint16(in.External)), pr)
	out.TookMS = e.now().Sub(began).Milliseconds()
	ports := fmt.Sprintf("%s port %d", in.Transport, in.External)
	switch back {
	case "":
		out.Proven = true
		out.Words = fmt.Sprintf("what is sent to %s %s arrives at the agent's machine, port %d: the forward works", to, ports, in.Port)
		out.Next = "Point the forward at the device when it is installed; the service can be commissioned."
	default:
		out.Words = fmt.Sprintf("what is sent to %s %s does not arrive at the agent's machine, port %d: %s", to, ports, in.Port, back)
		out.Next = fmt.Sprintf("For this test the forward has to lead to the agent and not to the device: in the router, forward %s to %s, port %d, and try again; "+
			"afterwards turn it to the device.", ports, machine, in.Port)
		if v := e.standings.view(l.ID); v != nil && len(v.Remedies) > 0 && (v.NAT == wan.NATDouble || v.NAT == wan.NATCarrier) {
			out.Next = v.Remedies[0]
		}
	}
	e.Events.Publish(contract.EventLinkStanding, p.Code, l.Label, out.Words)
	return out, nil
}

// send sends a proof's nonce until the agent says that it has come; it gives why not, or "".
func (e *Engine) send(ctx context.Context, transport string, to netip.AddrPort, p *proof) (why string) {
	ctx, cancel := context.WithTimeout(ctx, proofLimit/2)
	defer cancel()
	why = "nothing comes back and nothing arrives"
	for ctx.Err() == nil {
		d := net.Dialer{Timeout: 2 * time.Second}
		c, err := d.DialContext(ctx, transport, to.String())
		switch {
		case err != nil && ctx.Err() == nil:
			why = "the connection is " + connectWord(err)
		case err == nil:
			if transport == "tcp" {
				why = "another machine took the connection: the forward leads there, or the router itself answers"
			}
			_, _ = c.Write([]byte(p.order.Nonce))
		}
		wait := time.NewTimer(time.Second)
		select {
		case w := <-p.words:
			wait.Stop()
			if c != nil {
				_ = c.Close()
			}
			if w.State == "arrived" {
				return ""
			}
			why = w.Problem
		case <-wait.C:
		case <-ctx.Done():
		}
		if c != nil {
			_ = c.Close()
		}
		wait.Stop()
	}
	return why
}

func connectWord(err error) string {
	if errors.Is(err, syscall.ECONNREFUSED) {
		return "refused"
	}
	return "not answered"
}

// loadSightings reads what was seen before a restart.
func (e *Engine) loadSightings(ctx context.Context) error {
	e.yard = yard{wake: map[int64]chan struct{}{}, looks: map[int64]*look{}, proofs: map[int64]map[int64]*proof{}, checks: map[int64]time.Time{}, due: map[int64]bool{}, seen: map[int64]contract.Sighting{}, dirty: map[int64]store.Sighting{}}
	list, err := e.store.Sightings(ctx)
	for _, s := range list {
		var one contract.Sighting
		if json.Unmarshal(s.Doc, &one) == nil {
			e.yard.seen[s.DeviceID] = one
		}
	}
	return err
}

// writeSightings keeps what was seen since it was called last.
func (e *Engine) writeSightings(ctx context.Context) error {
	e.yard.mu.Lock()
	var list []store.Sighting
	for _, s := range e.yard.dirty {
		list = append(list, s)
	}
	clear(e.yard.dirty)
	e.yard.mu.Unlock()
	if len(list) == 0 {
		return nil
	}
	err := e.store.NoteSightings(ctx, list)
	if err != nil {
		e.yard.mu.Lock()
		for _, s := range list {
			if _, newer := e.yard.dirty[s.DeviceID]; !newer {
				e.yard.dirty[s.DeviceID] = s
			}
		}
		e.yard.mu.Unlock()
	}
	return err
}

package engine

import (
	"context"
	"encoding/json"
	"errors"
	"hash/fnv"
	"strconv"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/engine/record"
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

// rouseSite is rouse for whoever does not hold y.mu.
func (y *yard) rouseSite(siteID int64) {
	y.mu.Lock()
	defer y.mu.Unlock()
	y.rouse(siteID)
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
		p, _, ok := e.record.SiteOfLink(linkID)
		if !ok {
			return contract.Orders{}, ErrLinkGone
		}
		e.yard.mu.Lock()
		wake := e.yard.waker(p.ID) // before the record is read, so that no edit is missed
		e.yard.mu.Unlock()
		p, _, _ = e.record.SiteOfLink(linkID)
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
func watchOf(p record.Site) []contract.WatchItem {
	out := []contract.WatchItem{}
	wanted := p.WantIPv6()
	for _, d := range p.Devices {
		item := contract.WatchItem{Device: d.Name, MAC: d.MAC, Address: d.Address.String(), WantIPv6: wanted[d.ID]}
		if d.IPv6.IsValid() {
			item.IPv6 = d.IPv6.String()
		}
		for _, s := range p.Services {
			if s.DeviceID == d.ID {
				item.Ports = append(item.Ports, contract.WatchPort{Service: s.Name, Transport: string(s.Transport), Port: s.InternalFrom})
			}
		}
		out = append(out, item)
	}
	return out
}

// withoutMost is how many looks in a row at a device without the IPv6 address that is on record make that a stale one.
const withoutMost = 3

// checkAgain is how long an agent is left alone after it was asked to check its address.
const checkAgain = 5 * time.Second

// askAgent has the agent of a link check its address now, as something fails there.
func (e *Engine) askAgent(linkID int64) {
	p, l, ok := e.record.SiteOfLink(linkID)
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

package engine

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"maps"
	"net/netip"
	"reflect"
	"slices"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// posts knows the vantage points, and what each of those that enrolled is to probe: every service. All have the same
// assignments; each has its own place in the news of them.
type posts struct {
	mu     sync.Mutex
	own    int64
	byID   map[int64]*post
	cursor uint64 // of the newest change
	first  uint64 // what was before is not known in pieces
	given  map[int64]contract.Assignment
	siteOf map[int64]int64  // of the services in given
	stamp  map[int64]uint64 // of each service, there or dropped: when it changed
	dirty  map[int64]bool   // sites to be looked at again
	whole  bool             // all of them
	wake   chan struct{}    // closed when there is news
	soon   chan struct{}
	orders map[int64]*storyOrder
	next   int64
}

// post is one vantage point.
type post struct {
	store.Vantage
	heard   time.Time
	word    contract.VantageWord
	streams int
	now     map[int64]bool // services that it is to probe at once
	story   []contract.StoryOrder
	noted   time.Time
}

type storyOrder struct {
	vantage int64
	done    chan contract.OutcomeReport
}

// awayAfter is how long a vantage point may be silent. It returns what it saw every second or two.
const awayAfter = 30 * time.Second

func (e *Engine) loadPosts(ctx context.Context, own int64) error {
	list, err := e.store.Vantages(ctx)
	if err != nil {
		return err
	}
	p := &e.posts
	p.mu.Lock()
	defer p.mu.Unlock()
	now := uint64(e.now().UnixMicro())
	p.own, p.byID, p.cursor, p.first = own, map[int64]*post{}, now, now
	p.given, p.stamp, p.dirty, p.siteOf = map[int64]contract.Assignment{}, map[int64]uint64{}, map[int64]bool{}, map[int64]int64{}
	p.wake, p.soon, p.orders = make(chan struct{}), make(chan struct{}, 1), map[int64]*storyOrder{}
	for _, v := range list {
		one := &post{Vantage: v, heard: v.Heard.Time, now: map[int64]bool{}}
		if err := json.Unmarshal(v.Doc, &one.word); err != nil {
			return fmt.Errorf("what vantage point %s said of itself: %w", v.Name, err)
		}
		p.byID[v.ID] = one
	}
	p.whole = true
	return nil
}

func (p *posts) name(id int64) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	if v := p.byID[id]; v != nil {
		return v.Name
	}
	return ""
}

// ids lists all vantage points.
func (p *posts) ids() []int64 {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := make([]int64, 0, len(p.byID))
	for id := range p.byID {
		out = append(out, id)
	}
	slices.Sort(out)
	return out
}

// ailing gives the vantage points that say themselves that something is wrong with them.
func (p *posts) ailing() map[int64]string {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := map[int64]string{}
	for id, v := range p.byID {
		if id != p.own && v.word.Ailing != "" {
			out[id] = v.word.Ailing
		}
	}
	return out
}

// touch has the assignments of a site made anew; 0 stands for all sites.
func (p *posts) touch(siteID int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.byID == nil {
		return
	}
	if siteID == 0 {
		p.whole = true
	} else {
		p.dirty[siteID] = true
	}
	select {
	case p.soon <- struct{}{}:
	default:
	}
}

// rouse lets every stream look for news. The caller holds p.mu.
func (p *posts) rouse() {
	close(p.wake)
	p.wake = make(chan struct{})
}

// confirm has the other vantage points look at a service at once that one of them saw fail.
func (p *posts) confirm(serviceID, seenBy int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	any := false
	for id, v := range p.byID {
		if id != seenBy && id != p.own && v.streams > 0 {
			v.now[serviceID] = true
			any = true
		}
	}
	if any {
		p.rouse()
	}
}

// runPosts keeps the assignments in line with the record.
func (e *Engine) runPosts(ctx context.Context) {
	tick := time.NewTicker(time.Minute) // doors close by the clock
	defer tick.Stop()
	for {
		e.reassign()
		select {
		case <-e.posts.soon:
		case <-tick.C:
			e.posts.touch(0)
		case <-ctx.Done():
			return
		}
		select { // what changes together is told together
		case <-time.After(20 * time.Millisecond):
		case <-ctx.Done():
			return
		}
	}
}

func (e *Engine) reassign() {
	p := &e.posts
	p.mu.Lock()
	if len(p.byID) <= 1 { // the server's own, which needs none
		p.mu.Unlock()
		return
	}
	whole, dirty := p.whole, p.dirty
	p.whole, p.dirty = false, map[int64]bool{}
	p.mu.Unlock()
	var list []record.Site
	if whole {
		list = e.record.Sites()
	} else {
		for id := range dirty {
			if where, ok := e.record.Site(id); ok {
				list = append(list, where)
			} else {
				list = append(list, record.Site{Site: site.Site{ID: id}})
			}
		}
	}
	fresh, sites, siteOf := map[int64]contract.Assignment{}, map[int64]bool{}, map[int64]int64{}
	for _, where := range list {
		sites[where.ID] = true
		for _, s := range where.Services {
			fresh[s.ID], siteOf[s.ID] = e.assignment(where, s), where.ID
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	maps.Copy(p.siteOf, siteOf)
	news := false
	stamp := func(id int64) {
		p.cursor++
		p.stamp[id] = p.cursor
		news = true
	}
	for id, a := range fresh {
		if old, there := p.given[id]; !there || !sameAssignment(old, a) {
			p.given[id] = a
			stamp(id)
		}
	}
	for id := range p.given {
		if _, there := fresh[id]; !there && (whole || sites[p.siteOf[id]]) {
			delete(p.given, id)
			delete(p.siteOf, id)
			stamp(id)
		}
	}
	p.forgetDropped()
	if news {
		p.rouse()
	}
}

func sameAssignment(a, b contract.Assignment) bool { return reflect.DeepEqual(a, b) }

// assignment says what a vantage point is to probe of a service.
func (e *Engine) assignment(where record.Site, s site.Service) contract.Assignment {
	l, _ := where.Followed(s.LinkID)
	a := contract.Assignment{ID: s.ID, Revision: s.Revision, Ports: record.Ports(s), Kind: s.Kind, Transport: s.Transport, Options: s.Options,
		ProbeKey: s.ProbeKey, Pinned: s.Fingerprint, Expected: s.ExpectedAt(e.now()), Interval: interval(s).Seconds(), Shut: e.prober.doors.shut(l, e.SiteSide.LastHeard(l))}
	if at := where.TargetOf(s, l); at.IsValid() {
		a.Target = at.String()
	}
	if also := where.SecondTargetOf(s, l); also.IsValid() {
		a.Also = also.String()
	}
	// A vantage point is told the site's names only where the protocol needs them: for a request's host, or a server's choice of
	// certificate.
	if s.Kind.Named() {
		a.Hostname = where.HostnameOn(l)
	}
	if s.Kind == probe.KindHTTP || s.Kind == probe.KindHTTPS {
		for door := range where.OwnPorts(l) {
			a.Own = append(a.Own, door)
		}
		slices.Sort(a.Own)
	}
	return a
}

// probeKeyOf derives the WireGuard key of one vantage point from that of a service, which stays here: a server takes no handshake
// older than the last of the same peer, and one that leaks is one vantage point's.
func probeKeyOf(serviceKey string, vantageID int64) string {
	private, err := probe.WireGuardKey(serviceKey)
	if err != nil {
		return ""
	}
	m := hmac.New(sha256.New, private)
	fmt.Fprintf(m, "vantage point %d", vantageID)
	return base64.StdEncoding.EncodeToString(m.Sum(nil))
}

// peerKeys gives the public key of each further vantage point, by name: a WireGuard server has to know all of them as peers.
func (e *Engine) peerKeys(s site.Service) map[string]string {
	e.posts.mu.Lock()
	defer e.posts.mu.Unlock()
	var out map[string]string
	for id, v := range e.posts.byID {
		if id == e.posts.own {
			continue
		}
		if key, err := probe.WireGuardKey(probeKeyOf(s.ProbeKey, id)); err == nil {
			if out == nil {
				out = map[string]string{}
			}
			out[v.Name] = peerKeyOf(key)
		}
	}
	return out
}

// droppedMost is how many services that are gone are remembered for vantage points that were away.
const droppedMost = 1000

// forgetDropped has vantage points whose cursor is older get everything anew, once many services are gone. The caller holds p.mu.
func (p *posts) forgetDropped() {
	if len(p.stamp)-len(p.given) <= droppedMost {
		return
	}
	for id := range p.stamp {
		if _, there := p.given[id]; !there {
			delete(p.stamp, id)
		}
	}
	p.first = p.cursor
}

// News gives what has changed for a vantage point since a cursor; it waits for something until ctx ends.
func (e *Engine) News(ctx context.Context, vantageID int64, cursor uint64) (contract.AssignmentNews, bool) {
	p := &e.posts
	for {
		p.mu.Lock()
		v := p.byID[vantageID]
		if v == nil {
			p.mu.Unlock()
			return contract.AssignmentNews{}, false
		}
		wake := p.wake
		n := contract.AssignmentNews{Cursor: p.cursor, Clock: e.now(), Deadline: e.config.ProbeDeadline.Seconds()}
		switch {
		case cursor < p.first || cursor > p.cursor:
			n.Whole = true
			for _, a := range p.given {
				n.Put = append(n.Put, a)
			}
		case cursor < p.cursor:
			for id, at := range p.stamp {
				if at <= cursor {
					continue
				}
				if a, there := p.given[id]; there {
					n.Put = append(n.Put, a)
				} else {
					n.Drop = append(n.Drop, id)
				}
			}
		}
		for i := range n.Put {
			if n.Put[i].ProbeKey != "" {
				n.Put[i].ProbeKey = probeKeyOf(n.Put[i].ProbeKey, vantageID)
			}
		}
		for id := range v.now {
			n.Now = append(n.Now, id)
		}
		clear(v.now)
		n.Story, v.story = v.story, nil
		p.mu.Unlock()
		if n.Whole || len(n.Put)+len(n.Drop)+len(n.Now)+len(n.Story) > 0 {
			return n, true
		}
		select {
		case <-wake:
		case <-e.stopping:
			return n, false
		case <-ctx.Done():
			n.Clock = e.now() // it has waited
			return n, true
		}
	}
}

// streamsMost is how many streams a vantage point may have: one, and those that it does not know to be dead yet.
const streamsMost = 4

// Streaming notes that a vantage point listens to its assignments; done ends that. ok is false for one that has too many streams.
func (e *Engine) Streaming(vantageID int64) (done func(), ok bool) {
	e.posts.mu.Lock()
	v := e.posts.byID[vantageID]
	ok = v == nil || v.streams < streamsMost
	e.posts.mu.Unlock()
	if !ok {
		return nil, false
	}
	count := func(n int) {
		e.posts.mu.Lock()
		defer e.posts.mu.Unlock()
		if v := e.posts.byID[vantageID]; v != nil {
			v.streams += n
		}
	}
	e.posts.touch(0)
	count(1)
	return func() { count(-1) }, true
}

// inside reports whether a vantage point is at a site's own address: there its view does not count.
func (v *post) inside(at netip.Addr) bool {
	if !at.IsValid() {
		return false
	}
	if v.word.Observed == at.String() {
		return true
	}
	for _, n := range v.word.Networks {
		if p, err := netip.ParsePrefix(n); err == nil && p.Addr() == at {
			return true
		}
	}
	return false
}

// Package shards has other servers on the database make a part of this server's probes. It owns which of them are there, which sites are
// theirs, and what each was asked for and has not answered. What is due, and what a round means, is not decided here.
//
// Sites are spread over shards, and each shard is one server's: as servers come and go, only theirs change hands. A server has its shards
// for as long as it is heard; what it had not answered by then is made by this one at once.
//
// Any lock may be held when it is called: it calls nobody.
package shards

import (
	"context"
	"encoding/json"
	"hash/fnv"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/engine/locks"
)

const (
	// Count is how many shards there are.
	Count = 256
	// leaseFor is how long a server that is not heard has its shards. It is heard every second.
	leaseFor = 6 * time.Second
)

// Order asks for one round of a service. What it is like is on record, which the server has as well.
type Order struct {
	ID, ServiceID, Revision int64
	Address                 netip.Addr // of its site
	ByName                  bool       // the way by the hostname, too
}

// Round answers an order.
type Round struct {
	ID     int64
	Behind bool          // the record there says otherwise than the order: nothing was probed
	Age    time.Duration // since it was made
	Doc    json.RawMessage
}

// Member is another server, as it stands now.
type Member struct {
	Name   string
	Since  time.Time
	Heard  time.Time
	Shards int
	Made   int64 // rounds that it has made
}

// entry is another server.
type entry struct {
	Member
	room    int // rounds that it has under way at most
	left    chan struct{}
	orders  []Order
	news    chan struct{} // has one when there are orders
	waiting map[int64]chan Round
}

// Shards is the room. It is safe for concurrent use.
type Shards struct {
	now func() time.Time // a clock that never steps

	mu      locks.Leaf
	members map[string]*entry
	holders [Count]*entry // nil where the shard is this server's own
	last    int64
	kept    int64 // rounds that nobody else was asked for
}

// New returns a room without other servers. now is a clock that never steps.
func New(now func() time.Time) *Shards { return &Shards{now: now, members: map[string]*entry{}} }

// Of is the shard of a site.
func Of(siteID int64) int { return int(uint64(siteID) % Count) }

// Join takes in a server that makes up to room rounds at once. One of that name that was there before has left by that.
func (s *Shards) Join(name string, room int) *Place {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.now()
	if before := s.members[name]; before != nil {
		s.leave(before)
	}
	m := &entry{Member: Member{Name: name, Since: now, Heard: now}, room: room, left: make(chan struct{}), news: make(chan struct{}, 1),
		waiting: map[int64]chan Round{}}
	s.members[name] = m
	s.spread()
	return &Place{s, m}
}

// leave takes a server out. The caller holds the lock.
func (s *Shards) leave(m *entry) {
	if s.members[m.Name] != m {
		return
	}
	delete(s.members, m.Name)
	close(m.left)
	for _, waiting := range m.waiting {
		close(waiting)
	}
	m.waiting = nil
	s.spread()
}

// spread gives each shard to whom it fits best: this server, whose name is empty, or another. The caller holds the lock.
func (s *Shards) spread() {
	for _, m := range s.members {
		m.Shards = 0
	}
	for shard := range s.holders {
		best, most := (*entry)(nil), fit("", shard)
		for name, m := range s.members {
			if f := fit(name, shard); f > most || f == most && best != nil && name < best.Name {
				best, most = m, f
			}
		}
		if s.holders[shard] = best; best != nil {
			best.Shards++
		}
	}
}

// fit is how well a shard fits a server: who is there besides makes no difference to it.
func fit(name string, shard int) uint64 {
	h := fnv.New64a()
	_, _ = h.Write([]byte(name + " " + strconv.Itoa(shard)))
	x := h.Sum64() // its last octets differ little: mix them
	x ^= x >> 33
	x *= 0xff51afd7ed558ccd
	x ^= x >> 33
	return x
}

// Holder is the name of the server in whose shard a site is; "" for this one.
func (s *Shards) Holder(siteID int64) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if m := s.holders[Of(siteID)]; m != nil {
		return m.Name
	}
	return ""
}

// List lists the other servers by name.
func (s *Shards) List() []Member {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make([]Member, 0, len(s.members))
	for _, m := range s.members {
		out = append(out, m.Member)
	}
	slices.SortFunc(out, func(a, b Member) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// Kept is how many rounds this server has made itself.
func (s *Shards) Kept() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.kept
}

// Lend gives an order to the server whose shard a site is in. ok is false where that is this one, or the other has enough to do.
func (s *Shards) Lend(siteID int64, o Order) (l Loan, ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	m := s.holders[Of(siteID)]
	if m == nil || len(m.waiting) >= m.room {
		s.kept++
		return l, false
	}
	s.last++
	o.ID = s.last
	l = Loan{s, m, o.ID, make(chan Round, 1)}
	m.waiting[o.ID] = l.answer
	m.orders = append(m.orders, o)
	select {
	case m.news <- struct{}{}:
	default:
	}
	return l, true
}

// Loan is an order that another server has.
type Loan struct {
	shards *Shards
	by     *entry
	id     int64
	answer chan Round
}

// Await returns the answer to an order; ok is false when the server is gone, the record there is another, or ctx has ended.
func (l Loan) Await(ctx context.Context) (r Round, ok bool) {
	select {
	case r, ok = <-l.answer:
		return r, ok && !r.Behind
	case <-ctx.Done():
		l.shards.mu.Lock()
		defer l.shards.mu.Unlock()
		delete(l.by.waiting, l.id)
		return r, false
	}
}

// Take takes in what a server answers, which may be nothing: it is heard by that. It reports whether the server is known.
func (s *Shards) Take(name string, list []Round) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	m := s.members[name]
	if m == nil {
		return false
	}
	m.Heard = s.now()
	for _, r := range list {
		if waiting := m.waiting[r.ID]; waiting != nil {
			delete(m.waiting, r.ID)
			waiting <- r
			m.Made++
		}
	}
	return true
}

// Run takes out servers that are not heard any more, until ctx ends.
func (s *Shards) Run(ctx context.Context) {
	tick := time.NewTicker(leaseFor / 6)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
		s.mu.Lock()
		for _, m := range s.members {
			if s.now().Sub(m.Heard) > leaseFor {
				s.leave(m)
			}
		}
		s.mu.Unlock()
	}
}

// Place is a server's place among the others.
type Place struct {
	shards *Shards
	m      *entry
}

// Orders waits for orders until ctx ends; there may be none then. ok is false once the server has left.
func (p *Place) Orders(ctx context.Context) (list []Order, ok bool) {
	select {
	case <-p.m.news:
	case <-p.m.left:
		return nil, false
	case <-ctx.Done():
	}
	p.shards.mu.Lock()
	defer p.shards.mu.Unlock()
	list, p.m.orders = p.m.orders, nil
	return list, p.shards.members[p.m.Name] == p.m
}

// Leave gives a place up.
func (p *Place) Leave() {
	p.shards.mu.Lock()
	defer p.shards.mu.Unlock()
	p.shards.leave(p.m)
}

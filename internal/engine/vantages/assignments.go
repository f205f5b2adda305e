package vantages

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"maps"
	"net/netip"
	"reflect"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rounds"
)

// Assignment is a service that vantage points probe. It is not changed in place.
type Assignment struct {
	ServiceID  int64
	Revision   int64      // of the service; outcomes carry it back
	Target     netip.Addr // zero while no address is known
	Ports      [2]int     // first and last
	Also       netip.AddrPort
	Kind       probe.Kind
	Transport  probe.Transport
	Options    probe.Options
	ProbeKey   string
	Hostname   string
	Own        []string // "name:port" that a redirect may lead to
	Pinned     string
	Expected   probe.Expected
	Interval   time.Duration
	Quarantine string // why it must not be probed for now
}

// ProbeTask asks a vantage point for one probe with its trace: of a service, or of what Look says, which is no service.
type ProbeTask struct {
	ID, ServiceID int64
	Look          *Assignment
}

// News is what has changed in the assignments of a vantage point since a cursor.
type News struct {
	Cursor uint64
	Whole  bool // it is everything
	Put    []Assignment
	Drop   []int64 // services that are gone
	Now    []int64 // services to probe at once
	Tasks  []ProbeTask
}

func (n News) empty() bool {
	return !n.Whole && len(n.Put)+len(n.Drop)+len(n.Now)+len(n.Tasks) == 0
}

// assignments are the same for all vantage points; each has its own cursor.
type assignments struct {
	cursor uint64 // of the newest change
	oldest uint64 // older cursors get a full snapshot
	given  map[int64]Assignment
	siteOf map[int64]int64  // of the services in given
	stamp  map[int64]uint64 // of each service, there or dropped: when it changed
	dirty  map[int64]bool   // sites to be looked at again
	whole  bool             // all of them
	news   chan struct{}    // closed when there is news
	due    chan struct{}    // something is dirty
}

func newAssignments(now time.Time) assignments {
	start := uint64(now.UnixMicro()) // cursors of an earlier run are older
	return assignments{cursor: start, oldest: start, given: map[int64]Assignment{}, siteOf: map[int64]int64{}, stamp: map[int64]uint64{},
		dirty: map[int64]bool{}, whole: true, news: make(chan struct{}), due: make(chan struct{}, 1)}
}

// tell makes every stream look for news. The caller holds the lock.
func (a *assignments) tell() {
	close(a.news)
	a.news = make(chan struct{})
}

// replace replaces the assignments of some sites, and reports whether anything differs. The caller holds the lock.
func (a *assignments) replace(fresh map[int64]Assignment, siteOf map[int64]int64, sites map[int64]bool, whole bool) (differs bool) {
	maps.Copy(a.siteOf, siteOf)
	changed := func(id int64) {
		a.cursor++
		a.stamp[id] = a.cursor
		differs = true
	}
	for id, one := range fresh {
		if old, there := a.given[id]; !there || !reflect.DeepEqual(old, one) {
			a.given[id] = one
			changed(id)
		}
	}
	for id := range a.given {
		if _, there := fresh[id]; !there && (whole || sites[a.siteOf[id]]) {
			delete(a.given, id)
			delete(a.siteOf, id)
			changed(id)
		}
	}
	a.forgetDropped()
	return differs
}

// maxDropped is how many services that are gone are remembered for vantage points that were away.
const maxDropped = 1000

// forgetDropped makes vantage points with an older cursor get a full snapshot, once many services are gone.
func (a *assignments) forgetDropped() {
	if len(a.stamp)-len(a.given) <= maxDropped {
		return
	}
	for id := range a.stamp {
		if _, there := a.given[id]; !there {
			delete(a.stamp, id)
		}
	}
	a.oldest = a.cursor
}

func (a *assignments) since(cursor uint64) News {
	n := News{Cursor: a.cursor}
	switch {
	case cursor < a.oldest || cursor > a.cursor:
		n.Whole = true
		n.Put = slices.Collect(maps.Values(a.given))
	case cursor < a.cursor:
		for id, at := range a.stamp {
			if at <= cursor {
				continue
			}
			if one, there := a.given[id]; there {
				n.Put = append(n.Put, one)
			} else {
				n.Drop = append(n.Drop, id)
			}
		}
	}
	return n
}

// AssignmentsChanged makes the assignments of a site anew soon; 0 stands for all sites.
func (v *Vantages) AssignmentsChanged(siteID int64) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if siteID == 0 {
		v.assignments.whole = true
	} else {
		v.assignments.dirty[siteID] = true
	}
	select {
	case v.assignments.due <- struct{}{}:
	default:
	}
}

// Run keeps the assignments in line with the record until ctx ends.
func (v *Vantages) Run(ctx context.Context) {
	tick := rounds.Every(time.Minute) // what is expected of a service may change with the clock
	defer tick.Stop()
	for {
		v.Reassign()
		select {
		case <-v.assignments.due:
		case <-tick.C:
			tick.Begun()
			v.AssignmentsChanged(0)
		case <-ctx.Done():
			return
		}
		select { // changes made together are sent together
		case <-time.After(20 * time.Millisecond):
		case <-ctx.Done():
			return
		}
	}
}

// Reassign makes the assignments that are due anew.
func (v *Vantages) Reassign() {
	v.mu.Lock()
	if len(v.byID) <= 1 { // the server's own, which needs none
		v.mu.Unlock()
		return
	}
	whole, dirty := v.assignments.whole, v.assignments.dirty
	v.assignments.whole, v.assignments.dirty = false, map[int64]bool{}
	v.mu.Unlock()
	var list []record.Site
	if whole {
		list = v.record.Sites()
	} else {
		for id := range dirty {
			where, ok := v.record.Site(id)
			if !ok {
				where = record.Site{Site: site.Site{ID: id}}
			}
			list = append(list, where)
		}
	}
	fresh, sites, siteOf := map[int64]Assignment{}, map[int64]bool{}, map[int64]int64{}
	for _, where := range list {
		sites[where.ID] = true
		for _, s := range where.Services {
			fresh[s.ID], siteOf[s.ID] = v.assignment(where, s), where.ID
		}
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.assignments.replace(fresh, siteOf, sites, whole) {
		v.assignments.tell()
	}
}

// assignment says what a vantage point is to probe of a service.
func (v *Vantages) assignment(where record.Site, s site.Service) Assignment {
	l, _ := where.Followed(s.LinkID)
	a := Assignment{ServiceID: s.ID, Revision: s.Revision, Target: where.TargetOf(s, l), Ports: record.Ports(s),
		Also: where.SecondTargetOf(s, l), Kind: s.Kind,
		Transport: s.Transport, Options: s.Options.Get(), ProbeKey: s.ProbeKey, Pinned: s.Fingerprint, Expected: s.ExpectedAt(v.Now()),
		Interval: time.Duration(s.Interval) * time.Second, Quarantine: v.prober.Quarantined(l)}
	// A vantage point is told the site's names only where the protocol needs them: for a request's host, or a server's choice of
	// certificate.
	if s.Kind.Named() {
		a.Hostname = where.HostnameOn(l)
	}
	if s.Kind == probe.KindHTTP || s.Kind == probe.KindHTTPS {
		a.Own = slices.Sorted(maps.Keys(where.OwnPorts(l)))
	}
	return a
}

// Await returns what has changed for a vantage point since a cursor; it waits for something until ctx ends. ok is false when the vantage
// point is gone or the server stops.
func (v *Vantages) Await(ctx context.Context, id int64, cursor uint64) (n News, ok bool) {
	for {
		n, news, ok := v.take(id, cursor)
		if !ok || !n.empty() {
			return n, ok
		}
		select {
		case <-news:
		case <-v.Stopping:
			return n, false
		case <-ctx.Done():
			return n, true
		}
	}
}

func (v *Vantages) take(id int64, cursor uint64) (n News, news chan struct{}, ok bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	one := v.byID[id]
	if one == nil {
		return n, nil, false
	}
	n = v.assignments.since(cursor)
	for i := range n.Put {
		if n.Put[i].ProbeKey != "" {
			n.Put[i].ProbeKey = ProbeKey(n.Put[i].ProbeKey, id)
		}
	}
	n.Now = slices.Collect(maps.Keys(one.now))
	clear(one.now)
	n.Tasks, one.tasks = one.tasks, nil
	return n, v.assignments.news, true
}

// ProbeKey derives the WireGuard key of one vantage point from that of a service, which stays here: a server takes no handshake older
// than the last of the same peer, and a key that leaks is one vantage point's. Keys are 32 octets in base64; "" for one that is not.
func ProbeKey(serviceKey string, vantageID int64) string {
	private, err := probe.WireGuardKey(serviceKey)
	if err != nil {
		return ""
	}
	m := hmac.New(sha256.New, private)
	fmt.Fprintf(m, "vantage point %d", vantageID)
	return base64.StdEncoding.EncodeToString(m.Sum(nil))
}

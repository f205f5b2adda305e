package siteside

import (
	"context"
	"encoding/json"
	"errors"
	"hash/fnv"
	"net/netip"
	"strconv"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/locks"
	"inkpost.example/inkpost/internal/engine/record"
)

// agentTasks holds what agents are asked to do.
type agentTasks struct {
	mu     locks.Leaf
	lastID int64
	wake   map[int64]chan struct{}        // by site: closed when there is something new to do
	scans  map[int64]*scan                // by site: a caller waits for a LAN scan
	proofs map[int64]map[int64]*PathProof // by link, then by ID
	checks map[int64]time.Time            // by link: when its agent was asked to check its address
	due    map[int64]bool                 // by link: the agent has not been told of that yet
}

// scan is a LAN scan that a caller waits for.
type scan struct {
	id   int64
	done chan struct{}
}

const (
	// scanLimit is how long a caller waits for a LAN scan, or for an agent to listen.
	scanLimit = 20 * time.Second
	// checkAgain is how long an agent is left alone after it was asked to check its address.
	checkAgain = 5 * time.Second
)

// ErrLinkGone reports a link that is no longer on record.
var ErrLinkGone = errors.New("the link of this key is no longer on record; enrol the agent again")

// ErrNoAgent reports that no agent of the site is there to ask.
var ErrNoAgent = errors.New("no agent of this site answers: it has none, or it is overdue or out of date; start or update it, " +
	"then try again")

func newAgentTasks() agentTasks {
	return agentTasks{wake: map[int64]chan struct{}{}, scans: map[int64]*scan{}, proofs: map[int64]map[int64]*PathProof{},
		checks: map[int64]time.Time{},
		due:    map[int64]bool{}}
}

func (t *agentTasks) forget(gone record.Gone) {
	t.mu.Lock()
	defer t.mu.Unlock()
	drop(t.proofs, gone.Links)
	drop(t.checks, gone.Links)
	drop(t.due, gone.Links)
}

// waker returns the channel that is closed when agents of a site should ask again. The caller holds t.mu.
func (t *agentTasks) waker(siteID int64) chan struct{} {
	if t.wake[siteID] == nil {
		t.wake[siteID] = make(chan struct{})
	}
	return t.wake[siteID]
}

// wakeSite makes the agents of a site ask again. The caller holds t.mu.
func (t *agentTasks) wakeSite(siteID int64) {
	if c := t.wake[siteID]; c != nil {
		close(c)
		delete(t.wake, siteID)
	}
}

// WakeAgents makes the agents of a site ask for their tasks again, because its record changed.
func (s *Side) WakeAgents(siteID int64) {
	s.tasks.mu.Lock()
	defer s.tasks.mu.Unlock()
	s.tasks.wakeSite(siteID)
}

// WakeAllAgents is WakeAgents for all sites.
func (s *Side) WakeAllAgents() {
	s.tasks.mu.Lock()
	defer s.tasks.mu.Unlock()
	for _, c := range s.tasks.wake {
		close(c)
	}
	clear(s.tasks.wake)
}

// Tasks is what the agent of a link is to do. Version stands for Watch: it changes with it.
type Tasks struct {
	Version string
	Watch   []WatchedDevice
	Scan    int64 // a LAN scan that a caller waits for; 0 for none
	Proofs  []ProofTask
	Check   bool // check the address now: something fails there
}

// WatchedDevice is a device on record that an agent looks at.
type WatchedDevice struct {
	Name     string
	MAC      string
	Address  netip.Addr
	IPv6     netip.Addr // the one that it is known by
	WantIPv6 bool
	Ports    []WatchedPort
}

// WatchedPort is an internal port of a service.
type WatchedPort struct {
	Service   string
	Transport probe.Transport
	Port      int
	Kind      probe.Kind
	Options   probe.Options
	Hostname  string // that it is known by
	Pinned    string // fingerprint that it has to show; "" takes any
	Public    netip.AddrPort
}

// Tasks returns what the agent of a link is to do. While that is what it has already, it waits for something new until ctx ends.
// Error: ErrLinkGone.
func (s *Side) Tasks(ctx context.Context, linkID int64, have string) (Tasks, error) {
	t := &s.tasks
	for {
		p, _, ok := s.record.SiteOfLink(linkID)
		if !ok {
			return Tasks{}, ErrLinkGone
		}
		t.mu.Lock()
		wake := t.waker(p.ID) // before the record is read, so that no edit is missed
		t.mu.Unlock()
		p, _, _ = s.record.SiteOfLink(linkID)
		out := Tasks{Watch: watched(p)}
		h := fnv.New64a()
		_ = json.NewEncoder(h).Encode(out.Watch)
		out.Version = strconv.FormatUint(h.Sum64(), 36)
		t.mu.Lock()
		if l := t.scans[p.ID]; l != nil {
			out.Scan = l.id
		}
		for _, one := range t.proofs[linkID] {
			out.Proofs = append(out.Proofs, one.Task)
		}
		out.Check = t.due[linkID]
		delete(t.due, linkID)
		t.mu.Unlock()
		if out.Version != have || out.Scan != 0 || len(out.Proofs) > 0 || out.Check || ctx.Err() != nil {
			return out, nil
		}
		select {
		case <-wake:
		case <-ctx.Done():
		}
	}
}

// watched lists the devices of a site with the ports of their services.
func watched(p record.Site) []WatchedDevice {
	out := []WatchedDevice{}
	wanted := p.WantIPv6()
	for _, d := range p.Devices {
		one := WatchedDevice{Name: d.Name, MAC: d.MAC, Address: d.Address, IPv6: d.IPv6, WantIPv6: wanted[d.ID]}
		for _, service := range p.Services {
			if service.DeviceID == d.ID {
				one.Ports = append(one.Ports, watchedPort(p, service))
			}
		}
		out = append(out, one)
	}
	return out
}

// watchedPort says how a service is looked at from inside. A key with which probes are known is not given away.
func watchedPort(p record.Site, s site.Service) WatchedPort {
	l, _ := p.Followed(s.LinkID)
	out := WatchedPort{Service: s.Name, Transport: s.Transport, Port: s.InternalFrom, Kind: s.Kind, Options: s.Options.Get(),
		Hostname: p.HostnameOn(l), Pinned: s.Fingerprint}
	if s.Forwarded() && !s.OnRouter && l.IPv4.IsValid() {
		out.Public = netip.AddrPortFrom(l.IPv4, uint16(s.ExternalFrom))
	}
	return out
}

// CheckAddress makes the agent of a link check its address now, because something fails there.
func (s *Side) CheckAddress(linkID int64) {
	p, l, ok := s.record.SiteOfLink(linkID)
	if !ok || !l.Agent {
		return
	}
	now := s.Now()
	s.tasks.mu.Lock()
	defer s.tasks.mu.Unlock()
	if now.Sub(s.tasks.checks[linkID]) < checkAgain {
		return
	}
	s.tasks.checks[linkID], s.tasks.due[linkID] = now, true
	s.tasks.wakeSite(p.ID)
}

// ScanSoon makes an agent of the site look at its devices, and waits for nothing.
func (s *Side) ScanSoon(siteID int64) { s.scan(siteID) }

func (s *Side) scan(siteID int64) *scan {
	s.tasks.mu.Lock()
	defer s.tasks.mu.Unlock()
	l := s.tasks.scans[siteID]
	if l == nil {
		s.tasks.lastID++
		l = &scan{id: s.tasks.lastID, done: make(chan struct{})}
		s.tasks.scans[siteID] = l
		s.tasks.wakeSite(siteID)
	}
	return l
}

// Scan makes an agent of the site look at its devices and waits until it has. Error: ErrNoAgent, after 20 s.
func (s *Side) Scan(ctx context.Context, siteID int64) error {
	l := s.scan(siteID)
	select {
	case <-l.done:
		return nil
	case <-ctx.Done():
	case <-time.After(scanLimit):
	}
	s.tasks.mu.Lock()
	defer s.tasks.mu.Unlock()
	if s.tasks.scans[siteID] == l {
		delete(s.tasks.scans, siteID)
	}
	return ErrNoAgent
}

// scanned ends a scan that an agent has carried out.
func (s *Side) scanned(siteID, scanID int64) {
	s.tasks.mu.Lock()
	defer s.tasks.mu.Unlock()
	if l := s.tasks.scans[siteID]; l != nil && l.id == scanID {
		close(l.done)
		delete(s.tasks.scans, siteID)
	}
}

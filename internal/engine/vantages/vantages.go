// Package vantages knows the vantage points, and what each of those that enrolled is to probe. It owns the registry, the assignments and
// their cursor, and probes that a caller waits for. It never judges an outcome: that it hands to package probing.
//
// The edit lock may be held when it is called. While it holds its own lock it calls nobody.
package vantages

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/engine/history"
	"inkpost.example/inkpost/internal/engine/locks"
	"inkpost.example/inkpost/internal/engine/probing"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// awayAfter is how long a vantage point may be silent. It returns what it saw every second or two.
const awayAfter = 30 * time.Second

// ErrGone reports that a vantage point is no longer on record.
var ErrGone = errors.New("this vantage point is no longer on record; ask for a new code: inkpost vantage invite NAME")

// Self is what a vantage point says of itself. Ailing says what is wrong with it: its outcomes do not count then.
type Self struct {
	Version  string   `json:"version,omitempty"`
	Platform string   `json:"platform,omitempty"`
	Networks []string `json:"networks,omitempty"` // addresses that it has, with the length of their prefix
	Observed string   `json:"observed,omitempty"` // that the server sees it at
	Ailing   string   `json:"ailing,omitempty"`
	Waiting  int      `json:"waiting,omitempty"` // outcomes that it kept while the server was away
}

// Vantage is a vantage point as it stands now.
type Vantage struct {
	ID       int64
	Name     string
	Note     string
	Own      bool // the server's
	Enrolled time.Time
	Heard    time.Time
	Self     Self
}

// Away reports whether a vantage point has been silent for too long.
func (v Vantage) Away(now time.Time) bool { return !v.Own && now.Sub(v.Heard) > awayAfter }

// inside reports whether a vantage point is at a site's own address: there its view does not count.
func (v Vantage) inside(at netip.Addr) bool {
	if !at.IsValid() {
		return false
	}
	if v.Self.Observed == at.String() {
		return true
	}
	return slices.ContainsFunc(v.Self.Networks, func(n string) bool {
		p, err := netip.ParsePrefix(n)
		return err == nil && p.Addr() == at
	})
}

// entry is a vantage point in the registry.
type entry struct {
	Vantage
	streams int
	now     map[int64]bool // services that it is to probe at once
	tasks   []ProbeTask
	noted   time.Time // when what it says of itself was written
}

// Config of the room.
type Config struct {
	Own      int64         // ID of this server's own vantage point
	Deadline time.Duration // how long a probe waits for an answer
	Now      func() time.Time
	Stopping <-chan struct{} // closed when the server stops
	Log      *slog.Logger
}

// Vantages is the room. It is safe for concurrent use.
type Vantages struct {
	Config
	store   *store.Store
	record  *record.Record
	prober  *probing.Prober
	history *history.History

	mu          locks.Leaf
	byID        map[int64]*entry
	assignments assignments
	waiting     map[int64]waitingProbe // by task
	lastTask    int64
}

// New returns a room with the vantage points on record. Error: that of the database.
func New(ctx context.Context, st *store.Store, rec *record.Record, prober *probing.Prober, hist *history.History,
	c Config) (*Vantages, error) {
	list, err := st.Vantages(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the vantage points: %w", err)
	}
	v := &Vantages{Config: c, store: st, record: rec, prober: prober, history: hist, byID: map[int64]*entry{},
		assignments: newAssignments(c.Now()),
		waiting:     map[int64]waitingProbe{}}
	for _, row := range list {
		one := &entry{Vantage: Vantage{ID: row.ID, Name: row.Name, Note: row.Note, Own: row.ID == c.Own, Enrolled: row.Enrolled.Time,
			Heard: row.Heard.Time}, now: map[int64]bool{}}
		if err := json.Unmarshal(row.Doc, &one.Self); err != nil {
			return nil, fmt.Errorf("what vantage point %s reported about itself: %w", row.Name, err)
		}
		v.byID[row.ID] = one
	}
	return v, nil
}

// List lists the vantage points, the server's own first, then by name.
func (v *Vantages) List() []Vantage {
	v.mu.Lock()
	defer v.mu.Unlock()
	out := make([]Vantage, 0, len(v.byID))
	for _, one := range v.byID {
		out = append(out, one.Vantage)
	}
	slices.SortFunc(out, func(a, b Vantage) int {
		if a.Own != b.Own {
			return map[bool]int{true: -1, false: 1}[a.Own]
		}
		return strings.Compare(a.Name, b.Name)
	})
	return out
}

// IDs lists the IDs of all vantage points in order.
func (v *Vantages) IDs() []int64 {
	var out []int64
	for _, one := range v.List() {
		out = append(out, one.ID)
	}
	slices.Sort(out)
	return out
}

// Name returns the name of a vantage point; "" for one that is gone.
func (v *Vantages) Name(id int64) string {
	v.mu.Lock()
	defer v.mu.Unlock()
	if one := v.byID[id]; one != nil {
		return one.Name
	}
	return ""
}

// Named finds a vantage point by its name, in capitals or not. Error: store.Missing.
func (v *Vantages) Named(name string) (Vantage, error) {
	for _, one := range v.List() {
		if one.Name == strings.ToLower(strings.TrimSpace(name)) {
			return one, nil
		}
	}
	return Vantage{}, store.Missing{Kind: "vantage point", Name: name}
}

// Show takes over the vantage points as another server knows them.
func (v *Vantages) Show(list []Vantage) {
	v.mu.Lock()
	defer v.mu.Unlock()
	there := map[int64]bool{}
	for _, one := range list {
		there[one.ID] = true
		if v.byID[one.ID] == nil {
			v.byID[one.ID] = &entry{now: map[int64]bool{}}
		}
		v.byID[one.ID].Vantage = one
	}
	for id := range v.byID {
		if !there[id] {
			delete(v.byID, id)
		}
	}
}

// Ailing lists the vantage points that say themselves that something is wrong with them.
func (v *Vantages) Ailing() map[int64]string {
	v.mu.Lock()
	defer v.mu.Unlock()
	out := map[int64]string{}
	for id, one := range v.byID {
		if !one.Own && one.Self.Ailing != "" {
			out[id] = one.Self.Ailing
		}
	}
	return out
}

// Add enters a vantage point that was recorded.
func (v *Vantages) Add(id int64, name, note string) {
	v.mu.Lock()
	v.byID[id] = &entry{Vantage: Vantage{ID: id, Name: name, Note: note}, now: map[int64]bool{}}
	v.mu.Unlock()
	v.AssignmentsChanged(0)
}

// Enrolled notes that a vantage point has its key. Error: ErrGone.
func (v *Vantages) Enrolled(id int64) (Vantage, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	one := v.byID[id]
	if one == nil {
		return Vantage{}, ErrGone
	}
	one.Enrolled, one.Heard = v.Now(), v.Now()
	return one.Vantage, nil
}

// Remove takes a vantage point out of the registry; what it saw counts no longer.
func (v *Vantages) Remove(id int64) {
	v.mu.Lock()
	delete(v.byID, id)
	v.assignments.tell()
	v.mu.Unlock()
	v.history.ForgetVantage(id)
	v.prober.ForgetVantage(id)
}

// ConfirmElsewhere makes the other vantage points look at a service at once whose outcome changed for one of them.
func (v *Vantages) ConfirmElsewhere(serviceID, seenBy int64) {
	v.mu.Lock()
	defer v.mu.Unlock()
	any := false
	for id, one := range v.byID {
		if id != seenBy && !one.Own && one.streams > 0 {
			one.now[serviceID] = true
			any = true
		}
	}
	if any {
		v.assignments.tell()
	}
}

// maxStreams is how many streams a vantage point may have: one, and those that it does not know to be dead yet.
const maxStreams = 4

// Streaming notes that a vantage point listens to its assignments; done ends that. ok is false for one that has too many streams.
func (v *Vantages) Streaming(id int64) (done func(), ok bool) {
	count := func(n int) bool {
		v.mu.Lock()
		defer v.mu.Unlock()
		one := v.byID[id]
		if one == nil {
			return true
		}
		if n > 0 && one.streams >= maxStreams {
			return false
		}
		one.streams += n
		return true
	}
	if !count(1) {
		return nil, false
	}
	v.AssignmentsChanged(0)
	return func() { count(-1) }, true
}

package vantages

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/probing/result"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/speak"
)

const (
	// maxClockOffset is how far apart the clocks of a vantage point and the server may be before its times are not taken.
	maxClockOffset = 5 * time.Second
	// noteEvery is how often what a vantage point says of itself is written.
	noteEvery = 10 * time.Second
	// probeLimit is how long a caller waits for another vantage point's probe.
	probeLimit = 15 * time.Second
)

// Outcome is one round of a service, as a vantage point reports it. A round that must not count is skipped, and Said says why.
type Outcome struct {
	ServiceID   int64
	Revision    int64
	At          time.Time
	Target      string // address
	Also        string // "address:port"; "" for none
	Outcome     probe.Outcome
	Latency     time.Duration
	Message     string
	Fingerprint string
	Hung        bool          // it accepted, and said nothing
	ICMP        probe.ICMP    // that ended the attempt which decided
	Series      *probe.Series // how far packets got; nil if that was not measured
	Task        int64         // that it answers; 0 for none
	Attempts    []probe.Attempt
}

// waitingProbe is a probe that a caller waits for.
type waitingProbe struct {
	vantage int64
	done    chan Outcome
}

// NoteOutcomes takes in what a vantage point saw, and returns how much of it counted: what is about an address or a service that has
// changed since is passed over. from is its address as the server sees it, sent when it sent the batch. Errors: ErrGone, that of the
// database.
func (v *Vantages) NoteOutcomes(ctx context.Context, id int64, from netip.Addr, sent time.Time, self Self, list []Outcome) (taken int,
	err error) {
	now := v.Now()
	self.Observed = from.String()
	if off := sent.Sub(now); self.Ailing == "" && off.Abs() > maxClockOffset {
		self.Ailing = fmt.Sprintf("its clock differs from the server's by %s", off.Abs().Round(time.Second))
	}
	v.mu.Lock()
	one := v.byID[id]
	if one == nil {
		v.mu.Unlock()
		return 0, ErrGone
	}
	one.Heard, one.Self = now, self
	note := now.Sub(one.noted) > noteEvery
	if note {
		one.noted = now
	}
	current := one.Vantage
	v.mu.Unlock()
	if note {
		doc, err := json.Marshal(self)
		if err == nil {
			err = v.store.NoteVantage(ctx, id, doc, now)
		}
		if err != nil {
			return 0, err
		}
	}
	for _, o := range list {
		if v.noteOutcome(current, o, now) {
			taken++
		}
		v.mu.Lock()
		waiting, ok := v.waiting[o.Task]
		v.mu.Unlock()
		if ok && waiting.vantage == id {
			select {
			case waiting.done <- o:
			default:
			}
		}
	}
	return taken, nil
}

func (v *Vantages) noteOutcome(by Vantage, o Outcome, now time.Time) bool {
	s, ok := v.prober.Watched(o.ServiceID)
	if !ok {
		return false
	}
	where, ok := v.record.Site(s.SiteID)
	if !ok {
		return false
	}
	l, _ := where.Followed(s.LinkID)
	r := result.Round{Service: s, Site: where.Code, LinkID: l.ID, Address: where.TargetOf(s, l),
		At: o.At.UTC().Truncate(time.Microsecond), Outcome: o.Outcome,
		Latency: o.Latency, Message: o.Message, Fingerprint: o.Fingerprint, ICMP: o.ICMP, Hung: o.Hung, Series: o.Series}
	if r.At.After(now) {
		r.At = now
	}
	if r.Series != nil && r.Series.At.After(now) {
		r.Series.At = now
	}
	also := ""
	if at := where.SecondTargetOf(s, l); at.IsValid() {
		also = at.String()
	}
	switch {
	case o.Revision != s.Revision:
		return false // it is about what was there before an edit
	case o.Outcome == probe.Skipped && o.Message == speak.Insider:
		r.LeftOut = speak.Insider
	case o.Outcome == probe.Skipped:
		return false // it says why to its operator; of the service it says nothing
	case o.Target != r.Address.String() || o.Also != also || r.At.Before(l.Since):
		return false // it was made before the site had this address
	case now.Sub(r.At) > s.RuleAt(now).Stale: // kept while the server was away: history, but no news
		every := time.Duration(s.Interval) * time.Second
		v.history.AddLate(ledger.Result{ServiceID: s.ID, VantageID: by.ID, Outcome: r.Outcome, At: r.At, Latency: r.Latency},
			ledger.Gap(every))
		return true
	}
	if by.inside(r.Address) {
		r.LeftOut = speak.Insider
	}
	v.prober.Take(by.ID, r)
	return true
}

// Probe makes a vantage point probe a service now and returns the outcome with its attempts. Errors: store.Missing, site.Flaws when it
// does not listen or answer.
func (v *Vantages) Probe(ctx context.Context, name string, serviceID int64) (Vantage, Outcome, error) {
	return v.ask(ctx, name, ProbeTask{ServiceID: serviceID})
}

// Look makes a vantage point try once what is no service. A target that is not valid stands for the host at which it reaches this server.
// Errors: those of Probe.
func (v *Vantages) Look(ctx context.Context, name string, at Assignment) (Outcome, error) {
	_, o, err := v.ask(ctx, name, ProbeTask{Look: &at})
	return o, err
}

func (v *Vantages) ask(ctx context.Context, name string, what ProbeTask) (Vantage, Outcome, error) {
	found, err := v.Named(name)
	if err != nil {
		return found, Outcome{}, err
	}
	task, done, err := v.beginProbe(found, what)
	if err != nil {
		return found, Outcome{}, err
	}
	defer func() {
		v.mu.Lock()
		defer v.mu.Unlock()
		delete(v.waiting, task)
	}()
	select {
	case o := <-done:
		return found, o, nil
	case <-time.After(probeLimit):
		return found, Outcome{}, site.Flaws{{Field: "vantage",
			Detail: fmt.Sprintf("vantage point %s did not answer within %s", found.Name, probeLimit)}}
	case <-ctx.Done():
		return found, Outcome{}, ctx.Err()
	}
}

func (v *Vantages) beginProbe(by Vantage, what ProbeTask) (task int64, done chan Outcome, err error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	one := v.byID[by.ID]
	if one == nil {
		return 0, nil, store.Missing{Kind: "vantage point", Name: by.Name}
	}
	if one.streams == 0 {
		return 0, nil, site.Flaws{{Field: "vantage", Detail: fmt.Sprintf("vantage point %s is not listening at present", by.Name)}}
	}
	v.lastTask++
	done = make(chan Outcome, 1)
	v.waiting[v.lastTask] = waitingProbe{by.ID, done}
	what.ID = v.lastTask
	one.tasks = append(one.tasks, what)
	v.assignments.tell()
	return v.lastTask, done, nil
}

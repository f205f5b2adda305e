package engine

import (
	"context"
	"fmt"
	"net/netip"
	"regexp"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/vantages"
	"inkpost.example/inkpost/internal/store"
)

var vantageForm = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,30}[a-z0-9])?$`)

// Vantages lists the vantage points, the server's own first.
func (e *Engine) Vantages() []contract.Vantage {
	now, unfit, counts := e.now(), e.prober.Unfit(), e.prober.CountResults()
	out := []contract.Vantage{}
	for _, v := range e.vantages.List() {
		one := contract.Vantage{ID: v.ID, Name: v.Name, Note: v.Note, Own: v.Own, Enrolled: v.Enrolled, Heard: v.Heard, State: contract.VantageWorking,
			Problem: unfit[v.ID], Services: counts[v.ID], VantageWord: contract.VantageWord(v.Self)}
		switch {
		case !one.Own && one.Enrolled.IsZero():
			one.State = contract.VantageInvited
		case v.Away(now):
			one.State = contract.VantageAway
		case one.Problem != "":
			one.State = contract.VantageAiling
		}
		out = append(out, one)
	}
	return out
}

// InviteVantage makes a one-time code with which a machine enrols as a vantage point; one that is on record already gets a
// new key with it.
func (e *Engine) InviteVantage(ctx context.Context, in contract.VantageInput) (contract.VantageInvitation, error) {
	in.Name, in.Note = strings.ToLower(strings.TrimSpace(in.Name)), strings.TrimSpace(in.Note)
	if !vantageForm.MatchString(in.Name) {
		return contract.VantageInvitation{}, site.Flaws{{Field: "name", Detail: fmt.Sprintf("%q is not a name for a vantage point; use 1 to 32 of a-z, 0-9 and hyphen", in.Name)}}
	}
	if len(in.Note) > 200 {
		return contract.VantageInvitation{}, site.Flaws{{Field: "note", Detail: "has more than 200 characters"}}
	}
	if in.Name == e.config.Vantage {
		return contract.VantageInvitation{}, site.Flaws{{Field: "name", Detail: fmt.Sprintf("%s is this server itself; choose another name", in.Name)}}
	}
	v, err := e.vantages.Named(in.Name)
	if err != nil {
		if err := e.store.Together(ctx, func(tx *store.Store) (err error) { v.ID, err = tx.AddVantage(ctx, in.Name, in.Note); return err }); err != nil {
			return contract.VantageInvitation{}, err
		}
		e.vantages.Add(v.ID, in.Name, in.Note)
	}
	inv := contract.VantageInvitation{Vantage: in.Name}
	if inv.Code, inv.Expires, err = e.Access.InviteVantage(ctx, v.ID); err != nil {
		return contract.VantageInvitation{}, err
	}
	e.Events.Publish(events.Vantage, "", in.Name, "vantage point "+in.Name+" was invited")
	return inv, nil
}

// EnrolVantage gives a vantage point its key for a one-time code. Error: access.ErrCode.
func (e *Engine) EnrolVantage(ctx context.Context, in contract.Enrolment) (contract.VantageEnrolled, error) {
	key, id, err := e.Access.EnrolVantage(ctx, in.Code)
	if err != nil {
		return contract.VantageEnrolled{}, err
	}
	v, err := e.vantages.Enrolled(id)
	return contract.VantageEnrolled{Key: key, Vantage: v.Name}, err
}

// RemoveVantage takes a vantage point off the record: its key is useless at once, and what it saw counts no longer.
func (e *Engine) RemoveVantage(ctx context.Context, name string) error {
	v, err := e.vantages.Named(name)
	if err != nil {
		return err
	}
	if v.Own {
		return site.Flaws{{Field: "name", Detail: "this is the server itself; it cannot be removed"}}
	}
	if err := e.change(ctx, func() (edit, error) {
		return edit{words: "vantage point " + v.Name + " removed", touched: &record.Touched{Vantages: []int64{v.ID}},
			write: func(ctx context.Context, tx *store.Store) error { return tx.RemoveVantage(ctx, v.ID, v.Name) }}, nil
	}); err != nil {
		return err
	}
	e.vantages.Remove(v.ID)
	return nil
}

// Streaming notes that a vantage point listens to its assignments; done ends that. ok is false for one that has too many streams.
func (e *Engine) Streaming(vantageID int64) (done func(), ok bool) {
	return e.vantages.Streaming(vantageID)
}

// News returns what has changed for a vantage point since a cursor; it waits for something until ctx ends.
func (e *Engine) News(ctx context.Context, vantageID int64, cursor uint64) (contract.AssignmentNews, bool) {
	n, ok := e.vantages.Await(ctx, vantageID, cursor)
	out := contract.AssignmentNews{Cursor: n.Cursor, Whole: n.Whole, Drop: n.Drop, Now: n.Now, Deadline: e.config.ProbeDeadline.Seconds(), Clock: e.now()}
	for _, a := range n.Put {
		out.Put = append(out.Put, assignmentView(a))
	}
	for _, t := range n.Tasks {
		out.Story = append(out.Story, contract.StoryOrder{ID: t.ID, Service: t.ServiceID})
	}
	return out, ok
}

func assignmentView(a vantages.Assignment) contract.Assignment {
	out := contract.Assignment{ID: a.ServiceID, Revision: a.Revision, Target: addressText(a.Target), Ports: a.Ports, Kind: a.Kind, Transport: a.Transport, Options: a.Options,
		ProbeKey: a.ProbeKey, Hostname: a.Hostname, Own: a.Own, Pinned: a.Pinned, Expected: a.Expected, Interval: a.Interval.Seconds(), Shut: a.Quarantine}
	if a.Also.IsValid() {
		out.Also = a.Also.String()
	}
	return out
}

// NoteOutcomes takes in what a vantage point saw. from is its address as the server sees it. Errors: vantages.ErrGone, that of the
// database.
func (e *Engine) NoteOutcomes(ctx context.Context, vantageID int64, from netip.Addr, in contract.OutcomeBatch) (contract.BatchTaken, error) {
	list := make([]vantages.Outcome, 0, len(in.Outcomes))
	for _, o := range in.Outcomes {
		list = append(list, vantages.Outcome{ServiceID: o.Service, Revision: o.Revision, At: o.At, Target: o.Target, Also: o.Also, Outcome: o.Outcome,
			Latency: time.Duration(o.LatencyUS) * time.Microsecond, Said: o.Said, Fingerprint: o.Fingerprint, Task: o.Story, Attempts: o.Attempts})
	}
	taken, err := e.vantages.NoteOutcomes(ctx, vantageID, from, in.Sent, vantages.Self(in.VantageWord), list)
	return contract.BatchTaken{Taken: taken, Clock: e.now()}, err
}

// peerKeys returns the public key of each further vantage point, by name: a WireGuard server has to know all of them as peers.
func (e *Engine) peerKeys(s site.Service) map[string]string {
	var out map[string]string
	for _, v := range e.vantages.List() {
		if v.Own {
			continue
		}
		if key, err := probe.WireGuardKey(vantages.ProbeKey(s.ProbeKey, v.ID)); err == nil {
			if out == nil {
				out = map[string]string{}
			}
			out[v.Name] = peerKeyOf(key)
		}
	}
	return out
}

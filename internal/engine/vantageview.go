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
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/vantages"
	"inkpost.example/inkpost/internal/store"
)

var vantageForm = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,30}[a-z0-9])?$`)

// InviteVantage makes a one-time code with which a machine enrols as a vantage point; one that is on record already gets a new key with it.
// Errors: site.Flaws, that of the database.
func (e *Engine) InviteVantage(ctx context.Context, in contract.VantageInput) (contract.VantageInvitation, error) {
	in.Name, in.Note = strings.ToLower(strings.TrimSpace(in.Name)), strings.TrimSpace(in.Note)
	if !vantageForm.MatchString(in.Name) {
		return contract.VantageInvitation{}, site.Flaws{{Field: "name",
			Detail: fmt.Sprintf("%q is not a name for a vantage point; use 1 to 32 of a-z, 0-9 and hyphen", in.Name)}}
	}
	if len(in.Note) > 200 {
		return contract.VantageInvitation{}, site.Flaws{{Field: "note", Detail: "has more than 200 characters"}}
	}
	if in.Name == e.rooms.Vantage {
		return contract.VantageInvitation{}, site.Flaws{{Field: "name",
			Detail: fmt.Sprintf("%s is this server itself; choose another name", in.Name)}}
	}
	v, err := e.rooms.Vantages.Named(in.Name)
	if err != nil {
		if err := e.rooms.Store.Together(ctx, func(tx *store.Store) (err error) {
			v.ID,
				err = tx.AddVantage(ctx, in.Name, in.Note)
			return err
		}); err != nil {
			return contract.VantageInvitation{}, err
		}
		e.rooms.Vantages.Add(v.ID, in.Name, in.Note)
	}
	inv := contract.VantageInvitation{Vantage: in.Name}
	if inv.Code, inv.Expires, err = e.rooms.Access.InviteVantage(ctx, v.ID); err != nil {
		return contract.VantageInvitation{}, err
	}
	e.rooms.Events.Publish(events.Vantage, "", in.Name, "vantage point "+in.Name+" was invited")
	return inv, nil
}

// EnrolVantage returns a vantage point its key for a one-time code. Errors: access.ErrCode, site.Flaws.
func (e *Engine) EnrolVantage(ctx context.Context, in contract.Enrolment) (contract.VantageEnrolled, error) {
	key, id, err := e.rooms.Access.EnrolVantage(ctx, in.Code, in.Claim)
	if err != nil {
		return contract.VantageEnrolled{}, err
	}
	v, err := e.rooms.Vantages.Enrolled(id)
	return contract.VantageEnrolled{Key: key, Vantage: v.Name}, err
}

// RemoveVantage takes a vantage point off the record: its key is useless at once, and what it saw counts no longer. Errors: store.Missing,
// site.Flaws, that of the database.
func (e *Engine) RemoveVantage(ctx context.Context, name string) error {
	v, err := e.rooms.Vantages.Named(name)
	if err != nil {
		return err
	}
	if v.Own {
		return site.Flaws{{Field: "name", Detail: "this is the server itself; it cannot be removed"}}
	}
	if err := e.Change(ctx, func() (changes.Edit, error) {
		return changes.Edit{Words: "vantage point " + v.Name + " removed", Touched: &record.Touched{Vantages: []int64{v.ID}},
			Write: func(ctx context.Context, tx *store.Store) error { return tx.RemoveVantage(ctx, v.ID, v.Name) }}, nil
	}); err != nil {
		return err
	}
	e.rooms.Vantages.Remove(v.ID)
	return nil
}

// Streaming notes that a vantage point listens to its assignments; done ends that. ok is false for one that has too many streams.
func (e *Engine) Streaming(vantageID int64) (done func(), ok bool) {
	return e.rooms.Vantages.Streaming(vantageID)
}

// NoteOutcomes takes in what a vantage point saw. from is its address as the server sees it. Errors: vantages.ErrGone, that of the
// database.
func (e *Engine) NoteOutcomes(ctx context.Context, vantageID int64, from netip.Addr, in contract.OutcomeBatch) (contract.BatchTaken,
	error) {
	list := make([]vantages.Outcome, 0, len(in.Outcomes))
	for _, o := range in.Outcomes {
		if o.ICMP == nil {
			o.ICMP = &probe.ICMP{}
		}
		list = append(list, vantages.Outcome{ICMP: *o.ICMP, Hung: o.Hung, Series: o.Series, ServiceID: o.Service, Revision: o.Revision,
			At: o.At, Target: o.Target, Also: o.Also,
			Outcome: o.Outcome,
			Latency: time.Duration(o.LatencyUS) * time.Microsecond, Message: o.Message, Fingerprint: o.Fingerprint, Task: o.Task,
			Attempts: o.Attempts})
	}
	taken, err := e.rooms.Vantages.NoteOutcomes(ctx, vantageID, from, in.Sent, vantages.Self(in.VantageSelf), list)
	return contract.BatchTaken{Taken: taken, Clock: e.rooms.Now()}, err
}

package siteedits

import (
	"context"
	"fmt"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// Pin has a service recognised by a fingerprint from now on: by the one that it last showed if none is given.
func (e *SiteEdits) Pin(ctx context.Context, code, name, fingerprint, by string) (contract.Service, error) {
	p, s, err := e.FindService(code, name)
	if err != nil {
		return contract.Service{}, err
	}
	if fingerprint == "" {
		shown := e.Prober.Status(s.ID).Shown
		if shown == nil || shown.Fingerprint == "" {
			return contract.Service{}, site.Flaws{{Field: "fingerprint",
				Detail: fmt.Sprintf("%s has not shown any yet; it has to answer first", s.Name)}}
		}
		fingerprint = shown.Fingerprint
	}
	if len(fingerprint) > 200 {
		return contract.Service{}, site.Flaws{{Field: "fingerprint", Detail: "has more than 200 characters"}}
	}
	if err := e.Unchanged(ctx, ServiceResource(s)); err != nil {
		return contract.Service{}, err
	}
	pinned, err := e.pin(ctx, s, fingerprint, by, false)
	if err != nil {
		return contract.Service{}, err
	}
	if !pinned {
		return contract.Service{}, site.Flaws{{Field: "fingerprint",
			Detail: fmt.Sprintf("%s was edited at this moment; look at it again, then pin", s.Name)}}
	}
	e.Events.Publish(events.RecordEdited, p.Code, s.Name, fmt.Sprintf("%s pinned what %s is recognised by", by, s.Name))
	return e.Service(code, name)
}

// pin records what a revision of a service is recognised by. It does nothing where the service was edited since: what was shown
// belongs to what was there before.
func (e *SiteEdits) pin(ctx context.Context, s site.Service, fingerprint, by string, first bool) (pinned bool, err error) {
	turn, err := e.Begin(ctx)
	if err != nil {
		return false, err
	}
	defer turn.Done()
	now := e.Now()
	if err := e.Store.Together(ctx, func(tx *store.Store) (err error) {
		pinned, err = tx.Pin(ctx, s.ID, s.Revision, fingerprint, by, now, first)
		if err != nil || !pinned || first {
			return err
		}
		return tx.NoteEdit(ctx, store.Edit{Kind: "service", Ref: s.ID, Revision: s.Revision + 1, Person: by, At: now,
			Changes: []store.FieldChange{{Field: "fingerprint"}}})
	}); err != nil || !pinned {
		return pinned, err
	}
	next, ok := e.Record.Pin(s, fingerprint, by, now, first)
	e.Marks.Edited(record.Touched{Sites: []int64{s.SiteID}, Parts: record.Services})
	if ok {
		e.Prober.Pinned(next, !first)
		e.Rooms.Vantages.AssignmentsChanged(s.SiteID)
	}
	return true, nil
}

// firstAnswer stands for who pinned a fingerprint that was taken at commissioning.
const firstAnswer = "first answer"

// renewed stands for who pinned the key of a renewed certificate.
const renewed = "certificate for its name"

// PinFirst implements probing.Host: it pins what a service shows when it answers for the first time since it was put on record.
func (e *SiteEdits) PinFirst(s site.Service, fingerprint string) {
	e.pinSoon(s, fingerprint, firstAnswer, true)
}

// PinRenewed implements probing.Host: a device that renews its certificate may make a new key for it each time.
func (e *SiteEdits) PinRenewed(s site.Service, fingerprint string) {
	e.pinSoon(s, fingerprint, renewed, false)
}

func (e *SiteEdits) pinSoon(s site.Service, fingerprint, by string, first bool) {
	go func() {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		if _, err := e.pin(ctx, s, fingerprint, by, first); err != nil && e.Store.Leads() {
			e.Log.Warn("a fingerprint was not pinned; trying again at the next answer", "service", s.Name, "error", err)
		}
	}()
}

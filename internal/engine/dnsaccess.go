package engine

import (
	"context"
	"maps"
	"net/netip"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/zones"
	"inkpost.example/inkpost/internal/store"
)

// Secret implements authdns.Access.
func (e *Engine) Secret(keyName string) (algorithm, secret string, ok bool) {
	k, ok := e.rooms.Record.SigningKey(keyName)
	return k.Algorithm + ".", k.Secret, ok
}

// Unproven implements authdns.Access: those who look after the key's site are told.
func (e *Engine) Unproven(keyName string, from netip.Addr) {
	if k, ok := e.rooms.Record.SigningKey(keyName); ok && k.SiteID != 0 {
		if p, ok := e.rooms.Record.Site(int64(k.SiteID)); ok {
			e.rooms.SiteSide.NoteStranger(e.FirstLink(p.Code),
				"an update is signed with a wrong secret, or at a wrong time, in the name of key "+k.Name, from)
		}
	}
}

// MayTransfer implements authdns.Access.
func (e *Engine) MayTransfer(apex string, from netip.Addr, keyName string) bool {
	return e.rooms.Zones.MayTransfer(apex, from, keyName)
}

// ExpectedChange implements zones.Host.
func (e *Engine) ExpectedChange(l site.Link) time.Time { return e.rooms.Moves.ExpectedChange(l) }

// Retime implements zones.Host.
func (e *Engine) Retime(ctx context.Context, siteIDs []int64) error {
	turn, err := e.Begin(ctx)
	if err != nil {
		return err
	}
	defer turn.Done()
	var changed []record.Site
	zoneIDs := map[int64]bool{}
	for _, id := range siteIDs {
		p, ok := e.rooms.Record.Site(id) // as it is now that nothing else changes: it may have moved meanwhile
		if !ok {
			continue
		}
		for zone, words := range e.rooms.Zones.Retimed(p) {
			zoneIDs[zone] = true
			e.rooms.Events.Publish(events.HostnameState, p.Code, "", words)
		}
		changed = append(changed, p)
	}
	var serials map[int64]uint32
	if err := e.rooms.Store.Together(ctx, func(tx *store.Store) (err error) {
		serials, err = tx.BumpSerials(ctx, slices.Collect(maps.Keys(zoneIDs)))
		return err
	}); err != nil {
		return err
	}
	e.rooms.Record.SetSerials(serials)
	e.rooms.Marks.Edited(record.Touched{Whole: true})
	return e.rooms.Zones.Publish(changed, zones.AllHostnames, serials)
}

// RaiseSerials implements zones.Host.
func (e *Engine) RaiseSerials(ctx context.Context, seen map[string]uint32, where string) error {
	ctx, cancel := context.WithTimeout(ctx, changes.Limit)
	defer cancel()
	turn, err := e.Begin(ctx)
	if err != nil {
		return err
	}
	defer turn.Done()
	if err := e.raiseSerials(ctx, seen, where); err != nil {
		return err
	}
	e.rooms.Marks.Edited(record.Touched{Whole: true})
	return e.rooms.Zones.Replace()
}

package engine

import (
	"context"
	"encoding/json"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// lostIPv6 reports whether the IPv6 address that is on record of a device is no longer its own, and no other is known.
func (e *Engine) lostIPv6(deviceID int64) bool {
	s, ok := e.sighting(deviceID)
	return ok && s.Without >= withoutMost
}

// TakeLAN takes in what an agent saw of the devices on record. What is not on record is passed over.
func (e *Engine) TakeLAN(linkID int64, in contract.LANReport) error {
	p, l, ok := e.record.SiteOfLink(linkID)
	if !ok {
		return ErrLinkGone
	}
	now := e.now()
	known, wanted := map[string]site.Device{}, p.WantIPv6()
	for _, d := range p.Devices {
		known[d.Name] = d
	}
	e.yard.mu.Lock()
	changed := false
	six := map[int64]netip.Addr{}
	for _, s := range in.Sightings {
		d, ok := known[s.Device]
		if !ok {
			continue
		}
		// An address that no hostname has is of no use, and changes nothing.
		if a, err := netip.ParseAddr(s.IPv6); err == nil && a != d.IPv6 && wanted[d.ID] && e.config.Policy.Check(a) == nil {
			six[d.ID] = a
		}
		s.At = now
		before := e.yard.seen[d.ID]
		s.Hours = before.Hours
		s.Hours.Look(now, s.Present)
		s.Without = 0
		if wanted[d.ID] && d.IPv6.IsValid() && s.Present && s.IPv6 == "" {
			s.Without = min(before.Without+1, withoutMost)
		}
		kept := before.At
		before.At, before.Hours = now, s.Hours // that is no change to tell of
		was, _ := json.Marshal(before)
		doc, err := json.Marshal(s)
		if err != nil {
			continue
		}
		other := string(was) != string(doc)
		changed = changed || other
		e.yard.seen[d.ID] = s
		// The same again costs no write, but for once an hour of the day, which is what is learned of it.
		if other || kept.Truncate(time.Hour) != now.Truncate(time.Hour) {
			e.yard.dirty[d.ID] = store.Sighting{DeviceID: d.ID, LinkID: linkID, At: now, Doc: doc}
		}
	}
	if l := e.yard.looks[p.ID]; l != nil && l.id == in.Look {
		close(l.done)
		delete(e.yard.looks, p.ID)
	}
	e.yard.mu.Unlock()
	if len(six) > 0 {
		if err := e.readdress(p, six); err != nil {
			return err
		}
	}
	if changed {
		e.faults.review(p.ID)
		e.Events.Publish(events.LANSeen, p.Code, l.Label, "an agent looked at the devices of "+p.Code)
	}
	return nil
}

// readdress records devices' IPv6 addresses, and has the hostnames that name them answer those.
func (e *Engine) readdress(p record.Site, six map[int64]netip.Addr) error {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	return e.change(ctx, func() (edit, error) {
		p, ok := e.record.Site(p.ID)
		return edit{site: p.Code, words: "devices of " + p.Code + " have other IPv6 addresses", write: func(ctx context.Context, tx *store.Store) error {
			for id, a := range six {
				if err := tx.NoteDeviceIPv6(ctx, id, a); err != nil {
					return err
				}
			}
			_, err := tx.BumpSerials(ctx, p.ZoneIDs())
			return err
		}}, must(error(nil), ok)
	})
}

// LAN gives what was last seen of a site's devices.
func (e *Engine) LAN(code string) ([]contract.Sighting, error) {
	p, err := e.premises(code)
	out := []contract.Sighting{}
	for _, d := range p.Devices {
		if s, ok := e.sighting(d.ID); ok {
			s.Device = d.Name
			out = append(out, s)
		}
	}
	return out, err
}

func (e *Engine) sighting(deviceID int64) (contract.Sighting, bool) {
	e.yard.mu.Lock()
	defer e.yard.mu.Unlock()
	s, ok := e.yard.seen[deviceID]
	return s, ok
}

// loadSightings reads what was seen before a restart.
func (e *Engine) loadSightings(ctx context.Context) error {
	e.yard = yard{wake: map[int64]chan struct{}{}, looks: map[int64]*look{}, proofs: map[int64]map[int64]*proof{}, checks: map[int64]time.Time{}, due: map[int64]bool{}, seen: map[int64]contract.Sighting{}, dirty: map[int64]store.Sighting{}}
	list, err := e.store.Sightings(ctx)
	for _, s := range list {
		var one contract.Sighting
		if json.Unmarshal(s.Doc, &one) == nil {
			e.yard.seen[s.DeviceID] = one
		}
	}
	return err
}

// writeSightings keeps what was seen since it was called last.
func (e *Engine) writeSightings(ctx context.Context) error {
	e.yard.mu.Lock()
	var list []store.Sighting
	for _, s := range e.yard.dirty {
		list = append(list, s)
	}
	clear(e.yard.dirty)
	e.yard.mu.Unlock()
	if len(list) == 0 {
		return nil
	}
	err := e.store.NoteSightings(ctx, list)
	if err != nil {
		e.yard.mu.Lock()
		for _, s := range list {
			if _, newer := e.yard.dirty[s.DeviceID]; !newer {
				e.yard.dirty[s.DeviceID] = s
			}
		}
		e.yard.mu.Unlock()
	}
	return err
}

package siteside

import (
	"context"
	"encoding/json"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/locks"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// lostAfter looks in a row at a device without the IPv6 address that is on record make that a stale one.
const lostAfter = 3

// DeviceReport is what an agent saw of one device. It is not changed in place.
type DeviceReport struct {
	Device  string     `json:"device"`
	Present bool       `json:"present"`
	Unsure  bool       `json:"unsure,omitempty"` // it was there a moment ago, and has not answered since
	Found   netip.Addr `json:"found,omitzero"`   // where the device's MAC is now, when that is not the address on record
	IPv6    netip.Addr `json:"ipv6,omitzero"`
	MAC     string     `json:"mac,omitempty"` // that answers at the recorded address
	Ports   []PortSeen `json:"ports,omitempty"`
	At      time.Time  `json:"at,omitzero"`
	// Hours counts at which hours of the day the device was there, and WithoutIPv6 the looks in a row at which it was there without the
	// IPv6 address that is wanted. The server counts both.
	Hours       diagnose.Hours `json:"hours,omitzero"`
	WithoutIPv6 int            `json:"without_ipv6,omitempty"`
	// Missed counts the looks in a row at which it was not there, and Renewed is when its IPv6 address was seen to be another.
	Missed  int       `json:"missed,omitempty"`
	Renewed time.Time `json:"renewed,omitzero"`
}

// PortSeen is how an internal port answered from inside: open, refused, silent, prohibited, hung, other, or unknown when it could not be
// tried.
type PortSeen struct {
	Service     string `json:"service"`
	State       string `json:"state"`
	Detail      string `json:"detail,omitempty"`
	Spoke       bool   `json:"spoke,omitempty"` // the service's own protocol was spoken
	Fingerprint string `json:"fingerprint,omitempty"`
	Loop        string `json:"loop,omitempty"` // what the public address and port said from inside: answers, refused or silent
}

// deviceReports holds the newest report of each device.
type deviceReports struct {
	mu    locks.Leaf
	byID  map[int64]DeviceReport
	dirty map[int64]store.DeviceReport
}

func newDeviceReports() deviceReports {
	return deviceReports{byID: map[int64]DeviceReport{}, dirty: map[int64]store.DeviceReport{}}
}

func (d *deviceReports) forget(gone record.Gone) {
	d.mu.Lock()
	defer d.mu.Unlock()
	drop(d.byID, gone.Devices)
	drop(d.dirty, gone.Devices)
}

func (s *Side) loadDevices(ctx context.Context) error {
	list, err := s.store.DeviceReports(ctx)
	for _, one := range list {
		var r DeviceReport
		if json.Unmarshal(one.Doc, &r) == nil {
			s.devices.byID[one.DeviceID] = r
		}
	}
	return err
}

func (s *Side) writeDevices(ctx context.Context) error {
	s.devices.mu.Lock()
	list := make([]store.DeviceReport, 0, len(s.devices.dirty))
	for _, one := range s.devices.dirty {
		list = append(list, one)
	}
	clear(s.devices.dirty)
	s.devices.mu.Unlock()
	if len(list) == 0 {
		return nil
	}
	err := s.store.NoteDeviceReports(ctx, list)
	if err != nil {
		s.devices.mu.Lock()
		defer s.devices.mu.Unlock()
		for _, one := range list {
			if _, newer := s.devices.dirty[one.DeviceID]; !newer {
				s.devices.dirty[one.DeviceID] = one
			}
		}
	}
	return err
}

// Device returns what was last seen of a device; ok is false when nothing was.
func (s *Side) Device(id int64) (DeviceReport, bool) {
	s.devices.mu.Lock()
	defer s.devices.mu.Unlock()
	r, ok := s.devices.byID[id]
	return r, ok
}

// LostIPv6 reports whether the IPv6 address that is on record of a device is no longer its own, and no other is known.
func (s *Side) LostIPv6(deviceID int64) bool {
	r, ok := s.Device(deviceID)
	return ok && r.WithoutIPv6 >= lostAfter
}

// NoteDevices takes in what an agent saw of the devices on record; scanID names the scan that it was asked for. What is not on record is
// passed over. readdressed holds, by device, IPv6 addresses that are needed and are not on record yet. Error: ErrLinkGone.
func (s *Side) NoteDevices(linkID, scanID int64, list []DeviceReport) (readdressed map[int64]netip.Addr, err error) {
	p, l, ok := s.record.SiteOfLink(linkID)
	if !ok {
		return nil, ErrLinkGone
	}
	known, wanted := map[string]site.Device{}, p.WantIPv6()
	for _, d := range p.Devices {
		known[d.Name] = d
	}
	readdressed = map[int64]netip.Addr{}
	changed := false
	now := s.Now()
	s.devices.mu.Lock()
	for _, r := range list {
		d, ok := known[r.Device]
		if !ok {
			continue
		}
		// An address that no hostname has is of no use, and changes nothing.
		if a := r.IPv6; a.IsValid() && a != d.IPv6 && wanted[d.ID] && s.Policy.Check(a) == nil {
			readdressed[d.ID] = a
		}
		if s.noteDevice(d, r, linkID, wanted[d.ID], now) {
			changed = true
		}
	}
	s.devices.mu.Unlock()
	s.scanned(p.ID, scanID)
	if changed {
		s.host.Review(p.ID)
		s.events.Publish(events.LANSeen, p.Code, l.Label, "an agent looked at the devices of "+p.Code)
	}
	return readdressed, nil
}

// noteDevice keeps one report, and reports whether it says something new. The caller holds the lock.
func (s *Side) noteDevice(d site.Device, r DeviceReport, linkID int64, wanted bool, now time.Time) (other bool) {
	before := s.devices.byID[d.ID]
	r.At, r.Hours, r.WithoutIPv6 = now, before.Hours, 0
	if r.Missed = before.Missed; !r.Unsure {
		r.Hours.Note(now, r.Present)
		if r.Missed = 0; !r.Present {
			r.Missed = min(before.Missed+1, lostAfter)
		}
	}
	if r.Renewed = before.Renewed; before.IPv6.IsValid() && r.IPv6.IsValid() && r.IPv6 != before.IPv6 {
		r.Renewed = now
	}
	if wanted && d.IPv6.IsValid() && r.Present && !r.IPv6.IsValid() {
		r.WithoutIPv6 = min(before.WithoutIPv6+1, lostAfter)
	}
	kept := before.At
	before.At, before.Hours = now, r.Hours // that is nothing new
	was, _ := json.Marshal(before)
	doc, err := json.Marshal(r)
	if err != nil {
		return false
	}
	other = string(was) != string(doc)
	s.devices.byID[d.ID] = r
	// The same again costs no write, except once an hour for the hours of the day.
	if other || kept.Truncate(time.Hour) != now.Truncate(time.Hour) {
		s.devices.dirty[d.ID] = store.DeviceReport{DeviceID: d.ID, LinkID: linkID, At: now, Doc: doc}
	}
	return other
}

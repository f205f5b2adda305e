// Package mirror carries what the server that writes knows beyond the database to the others, so that each shows it from memory of its own.
// It owns nothing: at the one it is copied out of the rooms, at the others put into theirs.
//
// It holds no lock, and calls one room after the other.
package mirror

import (
	"net/netip"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/history"
	"inkpost.example/inkpost/internal/engine/moves"
	"inkpost.example/inkpost/internal/engine/probing/seen"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/engine/siteside"
	"inkpost.example/inkpost/internal/engine/vantages"
	"inkpost.example/inkpost/internal/engine/verify"
	"inkpost.example/inkpost/internal/store"
)

// News is what the server that writes tells in one go: sites as it knows them, and then what happened. It is sent as encoding/gob writes
// it, which passes over fields that only one side has.
type News struct {
	Edits  []record.Touched // what was edited of the record
	Sites  []Site
	Areas  []store.Fault // open ones of providers and the service itself
	Own    *Own          // nil where it is as it was
	Events []Event
	Moves  *moves.Waiting // nil where they are as they were
	Whole  bool           // with this, every site was told
	// Position is that of the newest event.
	Position uint64
}

// Own is what concerns no site.
type Own struct {
	Vantages []vantages.Vantage
	Unfit    map[int64]string
	Since    time.Time // since when silence proves something
	Asks     verify.Servers
}

// Event is one of package events.
type Event struct {
	ID, Site, Part, Words string
	Kind                  events.Kind
	At                    time.Time
}

// Site is what is known of a site.
type Site struct {
	ID       int64
	Services []Service
	Links    []Link
	Devices  []Device
	Names    []Name
	Aliases  []Alias
	Faults   []store.Fault
	Paths    []diagnose.Path // nil where all is well
}

// Service is what is known of one, its newest spans and its day.
type Service struct {
	ID      int64
	Status  Status
	Results []seen.Result
	Spans   []ledger.Span
	Today   history.Today // zero where there is none
	Trial   site.Trial
	Trying  bool
}

// Status is that of package seen, but for what only the diagnosis needs.
type Status struct {
	State                 probe.State
	Since, Proven, Probed time.Time
	View                  probe.View
	Address               netip.Addr
	Latency               time.Duration
	Message               string
	Shown                 *seen.Shown
	Ways                  []seen.Way
	Settling              bool
}

func statusOf(st seen.Status) Status {
	return Status{State: st.State, Since: st.Since, Proven: st.Proven, Probed: st.Probed, View: st.View,
		Address: st.Address, Latency: st.Latency, Message: st.Message, Shown: st.Shown, Ways: st.Ways, Settling: st.Settling}
}

func (st Status) status() seen.Status {
	return seen.Status{State: st.State, Since: st.Since, Proven: st.Proven, Probed: st.Probed, View: st.View,
		Address: st.Address, Latency: st.Latency, Message: st.Message, Shown: st.Shown, Ways: st.Ways, Settling: st.Settling}
}

// Link is what is known of one.
type Link struct {
	ID     int64
	Heard  time.Time
	Known  bool // there is a report
	Report site.LinkReport
	Router site.RouterWord
}

// Device is what was last seen of one.
type Device struct {
	ID   int64
	Seen siteside.DeviceReport
}

// Name is what servers gave for a hostname, and Pushed what its remote zone has.
type Name struct {
	ID     int64
	Known  verify.NameKnown
	Pushed []store.RemoteName
}

// Alias is what servers gave for one.
type Alias struct {
	ID      int64
	Answers []verify.AliasAnswer
}

// Copy returns what is known of a site; ok is false for one that is gone.
func Copy(r *rooms.Rooms, siteID int64) (out Site, ok bool) {
	p, ok := r.Record.Site(siteID)
	if !ok {
		return out, false
	}
	out.ID = siteID
	vantage := r.Vantages.IDs()
	for _, s := range p.Services {
		one := Service{ID: s.ID, Status: statusOf(r.Prober.Status(s.ID)), Results: r.Prober.Results(s.ID),
			Spans: r.History.Newest(s.ID, vantage)}
		one.Today, _ = r.History.Today(s.ID)
		one.Trial, one.Trying = r.Proofs.Trial(s.ID)
		out.Services = append(out.Services, one)
	}
	for l := range p.EachLink() {
		one := Link{ID: l.ID, Heard: r.SiteSide.LastHeard(l)}
		one.Report, one.Known = r.SiteSide.Report(l.ID)
		one.Router, _ = r.SiteSide.Router(l.ID)
		out.Links = append(out.Links, one)
	}
	for _, d := range p.Devices {
		if seen, ok := r.SiteSide.Device(d.ID); ok {
			out.Devices = append(out.Devices, Device{d.ID, seen})
		}
	}
	for _, h := range p.Hostnames {
		out.Names = append(out.Names, Name{ID: h.ID, Known: r.Verify.Known(h.ID), Pushed: r.Push.Kept(h)})
	}
	for _, a := range p.Aliases {
		out.Aliases = append(out.Aliases, Alias{a.ID, r.Verify.AliasKnown(a.ID)})
	}
	for _, f := range r.Faults.Open(siteID) {
		out.Faults = append(out.Faults, f.Fault)
	}
	out.Paths = r.Faults.Paths(siteID)
	return out, true
}

// Show puts what is known of a site into the rooms of a server that follows.
func Show(r *rooms.Rooms, in Site) {
	for _, s := range in.Services {
		r.Prober.Show(s.ID, s.Status.status(), s.Results)
		for _, span := range s.Spans {
			r.History.Begin(span)
		}
		if !s.Today.Start.IsZero() {
			r.History.ShowToday(s.ID, s.Today)
		}
		r.Proofs.Show(s.ID, s.Trial, s.Trying)
	}
	for _, l := range in.Links {
		r.SiteSide.Show(l.ID, l.Heard, l.Known, l.Report, l.Router)
	}
	for _, d := range in.Devices {
		r.SiteSide.ShowDevice(d.ID, d.Seen)
	}
	for _, n := range in.Names {
		r.Verify.Show(n.ID, n.Known)
		r.Push.Show(n.Pushed)
	}
	for _, a := range in.Aliases {
		r.Verify.ShowAlias(a.ID, a.Answers)
	}
	r.Faults.Show(in.ID, in.Faults, in.Paths)
}

// CopyOwn returns what concerns no site.
func CopyOwn(r *rooms.Rooms) Own {
	return Own{Vantages: r.Vantages.List(), Unfit: r.Prober.Unfit(), Since: r.SiteSide.Since(), Asks: r.Verify.Servers()}
}

// ShowOwn puts what concerns no site into the rooms of a server that follows.
func ShowOwn(r *rooms.Rooms, in Own) {
	r.Vantages.Show(in.Vantages)
	r.Prober.ShowUnfit(in.Unfit)
	r.SiteSide.ShowSince(in.Since)
	r.Verify.ShowServers(in.Asks)
}

// Areas lists the open faults of no site.
func Areas(r *rooms.Rooms) (out []store.Fault) {
	for _, f := range r.Faults.Open(0) {
		if f.SiteID == 0 {
			out = append(out, f.Fault)
		}
	}
	return out
}

// Unwritten reports whether the database gives a fault of a site its number only now: it is told again then.
func (s Site) Unwritten() bool {
	return slices.ContainsFunc(s.Faults, func(f store.Fault) bool { return f.ID == 0 })
}

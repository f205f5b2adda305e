// Package views makes the documents of the API from what the rooms know. It owns nothing and computes nothing but sums: the diagnosis
// comes from package faults, verdicts from package probing.
//
// It holds no lock; any may be held when it is called.
//
// Errors of all methods: store.Missing for what is not on record, site.Flaws for a query that makes no sense, that of the database.
package views

import (
	"cmp"
	"context"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/store"
)

// Views makes documents.
type Views struct {
	*rooms.Rooms
	listing atomic.Pointer[listing]
}

// Site returns everything on a site's record as it stands now.
func (vw *Views) Site(ctx context.Context, code string) (contract.Site, error) {
	p, err := vw.FindSite(code)
	if err != nil {
		return contract.Site{}, err
	}
	now := vw.Now()
	out := contract.Site{SiteSummary: *vw.summary(&p, now), Links: []contract.Link{},
		Hostnames: []contract.Hostname{},
		Devices:   append([]site.Device{}, p.Devices...), Services: []contract.Service{}, Faults: []contract.Fault{},
		Paths: vw.Rooms.Faults.Diagnosis(p).Paths}
	for l := range p.EachLink() {
		out.Links = append(out.Links, vw.linkView(l, now))
	}
	for _, h := range p.Hostnames {
		out.Hostnames = append(out.Hostnames, vw.hostname(p, h, now))
	}
	for _, s := range p.Services {
		out.Services = append(out.Services, vw.serviceNow(s))
	}
	if out.Faults, err = vw.Faults(ctx, store.FaultFilter{SiteID: p.ID, OpenOnly: true, Limit: 100}); err != nil {
		return contract.Site{}, err
	}
	return out, nil
}

func (vw *Views) hostname(p record.Site, h site.Hostname, now time.Time) contract.Hostname {
	want := p.AnswerOf(h)
	out := contract.Hostname{Hostname: h, Shown: rooms.Shown(h.Name), HoldAt: rooms.HoldAt(h), State: vw.Verify.State(p, h, now),
		IPv4: want.IPv4, IPv6: want.IPv6}
	out.Verdict = diagnose.OfName(out.State)
	if given, asked := vw.Verify.Given(h.ID); asked {
		out.Given = given.String()
	}
	if pushed, held := vw.Push.Of(h); held {
		out.Held = cmp.Or(pushed.Detail, "nothing is pushed to zone "+string(h.Zone)+" yet")
	}
	for _, r := range vw.Verify.Elsewhere(h) {
		out.Resolvers = append(out.Resolvers, contract.ServerAnswer{Server: r.Server, Authoritative: r.Authoritative,
			Given: r.Given.String(), Differs: r.Given != want})
	}
	return out
}

func (vw *Views) serviceNow(s site.Service) contract.Service {
	st, now := vw.Prober.Status(s.ID), vw.Now()
	expected := s.ExpectedAt(now)
	out := contract.Service{Service: s, Options: s.Options.Get(),
		External: site.Ports(s.ExternalFrom, s.ExternalTo), Internal: strconv.Itoa(s.InternalFrom),
		State: st.State, AsExpected: probe.AsExpected(expected, st.State), Since: st.Since,
		Outcome: st.View.Outcome, Probed: st.Probed, Address: st.Address, LatencyUS: st.Latency.Microseconds(), Message: st.Message,
		ExpectedNow: expected,
		NotProvable: s.Mute() && st.View.Outcome == probe.Silent, Vantages: vw.seenBy(s, now)}
	out.Ways = waysView(st.Ways)
	out.Verdict = diagnose.OfService(expected, st.State)
	out.StateWords = probe.Words(expected, st.State, out.NotProvable)
	if !vw.InUse(s) && !out.AsExpected {
		out.Verdict, out.StateWords = diagnose.Unproven, diagnose.AwaitedWords
	}
	if st.Shown != nil {
		out.Seen, out.Certificate, out.Weakness, out.Named = st.Shown.Fingerprint, certificateView(st.Shown.Certificate),
			st.Shown.Weakness, namedView(st.Shown.Named)
	}
	if key, err := probe.WireGuardKey(s.ProbeKey); err == nil {
		out.PeerKey, out.PeerKeys = peerKeyOf(key), vw.peerKeys(s)
	}
	return out
}

func (vw *Views) seenBy(s site.Service, now time.Time) []contract.VantageResult {
	out := []contract.VantageResult{}
	for _, v := range vw.SeenBy(s, now) {
		out = append(out, contract.VantageResult{Vantage: v.Name, Outcome: v.Outcome, InRow: v.InRow, At: v.At,
			LatencyUS: v.Latency.Microseconds(), Message: v.Message, LeftOut: v.LeftOut})
	}
	return out
}

// Hostname returns one hostname as it stands now.
func (vw *Views) Hostname(ctx context.Context, name string) (contract.Hostname, error) {
	p, h, ok := vw.Record.HostnameAt(names.Name(name))
	if !ok || string(h.Name) != name || !vw.Sees(ctx, p.ID) { // or else it is one of its extra names
		return contract.Hostname{}, store.Missing{Kind: "hostname", Name: name}
	}
	return vw.hostname(p, h, vw.Now()), nil
}

// Zones lists the zones by apex.
func (vw *Views) Zones() []names.Zone {
	out := vw.Record.Zones()
	slices.SortFunc(out, func(a, b names.Zone) int { return strings.Compare(string(a.Apex), string(b.Apex)) })
	return out
}

// Moves lists moves, the newest first.
func (vw *Views) Moves(ctx context.Context, q contract.MoveQuery) ([]contract.Move, error) {
	f := store.MoveFilter{Before: q.Before, Limit: q.Limit, Since: q.Since, Until: q.Until, Source: wan.Source(q.Source),
		Unfinished: q.Unfinished, SiteIDs: vw.IDsSeen(ctx)}
	if q.Site != "" {
		p, err := vw.SiteSeen(ctx, q.Site)
		if err != nil {
			return nil, err
		}
		f.SiteID = p.ID
		if q.Link != "" {
			l, err := p.LinkNamed(q.Link)
			if err != nil {
				return nil, err
			}
			f.LinkID = l.ID
		}
	}
	var err error
	if f.Address, err = site.ParseAddress("address", q.Address); err != nil {
		return nil, err
	}
	list, err := vw.Store.Moves(ctx, f)
	list = vw.Rooms.Moves.With(list, f, func(linkID int64) (string, string, bool) {
		p, l, ok := vw.Record.SiteOfLink(linkID)
		return p.Code, l.Label, ok
	})
	out := make([]contract.Move, 0, len(list))
	for _, m := range list {
		out = append(out, trail(m))
	}
	return out, err
}

// trail puts the stages of a move in order. Up to the publishing each follows the one before it; that names answer, that resolvers see it,
// and that services are confirmed all follow the publishing.
func trail(m store.Move) contract.Move {
	out := contract.Move{ID: m.ID, Site: m.Site, Link: m.Link, Old: m.Old.String(), New: m.New.String(), Source: string(m.Source),
		Noticed: m.Noticed}
	millis := func(d time.Duration) float64 { return max(0, float64(d.Microseconds())/1000) }
	cause, last := m.Noticed, m.Noticed
	for _, s := range []struct {
		name     string
		at       time.Time
		parallel bool
	}{{contract.StageNoticed, m.Noticed, false}, {contract.StageReceived, m.Received, false},
		{contract.StageRecorded, m.Recorded, false}, {contract.StagePublished, m.Published, false},
		{contract.StageAnswered, m.Answered, true}, {contract.StageSeen, m.Seen, true}, {contract.StageConfirmed, m.Confirmed, true}} {
		stage := contract.Stage{Name: s.name, At: s.at}
		if !s.at.IsZero() {
			stage.AfterMS, stage.ReachedMS = millis(s.at.Sub(cause)), millis(s.at.Sub(m.Noticed))
			if !s.parallel && s.at.After(cause) {
				cause = s.at
			}
			if s.at.After(last) {
				last = s.at
			}
		}
		out.Stages = append(out.Stages, stage)
	}
	for _, z := range m.Zones {
		out.Zones = append(out.Zones, contract.ZoneReached{Zone: z.Zone, At: z.At, ReachedMS: millis(z.At.Sub(m.Noticed))})
		if z.At.After(last) {
			last = z.At
		}
	}
	out.TotalMS = millis(last.Sub(m.Noticed))
	return out
}

// History returns a service's spans over a stretch of time, the newest one as it is now.
func (vw *Views) History(ctx context.Context, code, service string, from, until time.Time) (contract.History, error) {
	_, s, err := vw.FindService(code, service)
	if err != nil {
		return contract.History{}, err
	}
	spans, err := vw.Store.Spans(ctx, s.ID, from, until)
	if err != nil {
		return contract.History{}, err
	}
	for _, live := range vw.Rooms.History.Newest(s.ID, vw.Rooms.Vantages.IDs()) {
		if live.From.After(until) || live.Until.Before(from) {
			continue
		}
		live.Vantage = vw.Rooms.Vantages.Name(live.VantageID)
		spans = slices.DeleteFunc(spans, func(x ledger.Span) bool { return x.VantageID == live.VantageID && x.From.Equal(live.From) })
		spans = append(spans, live)
	}
	return contract.History{Service: s.Name, From: from, Until: until,
		GapMS: ledger.Gap(time.Duration(s.Interval) * time.Second).Milliseconds(), Spans: judged(s, spans)}, nil
}

// judged adds to each span what it means for the service's owner, by what was expected when it ended: a port that was opened for a while
// was right to answer then.
func judged(s site.Service, spans []ledger.Span) []contract.HistorySpan {
	out := make([]contract.HistorySpan, len(spans))
	for i, span := range spans {
		out[i] = contract.HistorySpan{Span: span, Verdict: diagnose.OfOutcome(s.RuleAt(span.Until), span.Outcome)}
	}
	return out
}

// Availability returns the availability of the services of a site over each window, or of one of them where service names it.
func (vw *Views) Availability(ctx context.Context, code, service string) ([]contract.ServiceAvailability, error) {
	p, err := vw.FindSite(code)
	if err != nil {
		return nil, err
	}
	list := p.Services
	if service != "" {
		_, s, err := vw.FindService(code, service)
		if err != nil {
			return nil, err
		}
		list = []site.Service{s}
	}
	ids := make([]int64, len(list))
	for i, s := range list {
		ids[i] = s.ID
	}
	windows, err := vw.Rooms.History.Availability(ctx, ids)
	if err != nil {
		return nil, err
	}
	out := []contract.ServiceAvailability{}
	for _, s := range list {
		out = append(out, contract.ServiceAvailability{Site: p.Code, Service: s.Name, Expected: s.ExpectedAt(vw.Now()),
			Windows: windows[s.ID]})
	}
	return out, nil
}

// Days returns the availability and latency of a service day by day over the last so many days, the oldest first. Errors: store.Missing,
// that of the database.
func (vw *Views) Days(ctx context.Context, code, service string, count int) ([]ledger.Availability, error) {
	_, s, err := vw.FindService(code, service)
	if err != nil {
		return nil, err
	}
	return vw.Rooms.History.Days(ctx, s.ID, ledger.DayOf(vw.Now()).AddDate(0, 0, 1-count))
}

// patternView reports a link's rhythm; nil when none is known.
func (vw *Views) patternView(linkID int64) *contract.ChangePattern {
	p, ok := vw.Rooms.Moves.Pattern(linkID)
	if !ok {
		return nil
	}
	return &contract.ChangePattern{Words: p.String(), Next: vw.Rooms.Moves.NextChange(p), Sure: p.Sure(), SpreadSeconds: p.Spread.Seconds()}
}

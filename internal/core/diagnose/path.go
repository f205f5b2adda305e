package diagnose

import (
	"fmt"
	"time"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
)

// Verdict on one station of a path.
type Verdict string

// The verdicts. Unproven says that nothing was learned of the hop: it stands behind a break, or nobody has looked.
const (
	Proven    Verdict = "proven"
	Unsettled Verdict = "unsettled"
	Broken    Verdict = "broken"
	Unproven  Verdict = "unproven"
)

// Station is one hop of a path, with its value and its verdict.
type Station struct {
	Hop     Hop     `json:"hop"`
	Value   string  `json:"value"`
	Detail  string  `json:"detail,omitempty"`
	Verdict Verdict `json:"verdict"`
}

// Path is the way from outside to one service. Finding explains the break, if there is one.
type Path struct {
	Service  string        `json:"service"`
	State    probe.State   `json:"state"`
	Verdict  Verdict       `json:"verdict"`
	Words    string        `json:"state_words"`
	Outcome  probe.Outcome `json:"outcome"`
	Stations []Station     `json:"stations"`
	Finding  *Finding      `json:"finding,omitempty"`
	// Awaited says that it was never in use: it is to be commissioned, and what it lacks is no fault.
	Awaited bool     `json:"to_commission,omitempty"`
	Remarks []Remark `json:"remarks,omitempty"` // what may surprise, and is no fault
}

// AwaitedWords say how a service stands that was never in use.
const AwaitedWords = "to be commissioned"

// All returns every problem that the evidence shows, and the path of every service of the site. What is open stays where it still fails and
// nothing explains it yet. What is not in use yet is no problem: only paths show what it lacks.
func All(e Evidence, open ...Finding) (found []Finding, paths []Path) {
	found, all := Problems(e, open...)
	return found, PathsWith(e, all)
}

// Paths returns the path of every service of the site, in the order of the record.
func Paths(e Evidence) []Path { return PathsWith(e, Site(e)) }

// PathsWith returns the path of every service of the site, with what was found.
func PathsWith(e Evidence, findings []Finding) []Path {
	out := make([]Path, 0, len(e.Services))
	for _, s := range e.Services {
		out = append(out, e.path(s, findings))
	}
	return out
}

func (e Evidence) path(s ServiceEvidence, findings []Finding) Path {
	d, _ := e.device(s.Device)
	l, _ := e.link(s.OnLink)
	p := Path{Service: s.Name, State: s.State, Verdict: OfService(s.Expected, s.State), Outcome: s.Outcome,
		Words: probe.Words(s.Expected, s.State, s.Mute() && s.Outcome == probe.Silent)}
	p.Finding = explains(s, findings)
	if p.Awaited = !s.inUse(); p.Awaited && s.State != probe.StateReachable {
		p.Verdict, p.Words = Unproven, AwaitedWords
	}

	from := "no vantage point"
	if views := s.counting(); len(views) == 1 {
		from = views[0].Vantage
	} else if len(views) > 1 {
		from = fmt.Sprintf("%d vantage points", len(views))
	}
	probed := "not probed yet"
	if !s.Probed.IsZero() {
		probed = fmt.Sprintf("probed %s ago", spoken(e.Now.Sub(s.Probed)))
	}
	name, state := "no hostname", names.StateIdle
	for _, h := range e.Hostnames {
		if h.Link == "" || h.Link == s.OnLink {
			name, state = string(h.Name), h.State
			break
		}
	}
	address := "unknown"
	if l.Addresses().Known() {
		address = l.Addresses().String()
	}
	p.Stations = []Station{
		{Hop: HopVantage, Value: from, Detail: probed, Verdict: Proven},
		{Hop: HopHostname, Value: name, Detail: string(state), Verdict: nameVerdict(state)},
		{Hop: HopAddress, Value: address, Detail: joined(l.Label, l.Provider), Verdict: Unproven},
		{Hop: HopUpstream, Value: "not examined", Verdict: Unproven},
		{Hop: HopForward, Value: fmt.Sprintf("%s %s → %s", s.Transport, site.Ports(s.ExternalFrom, s.ExternalTo),
			site.Ports(s.InternalFrom, s.InternalFrom+s.ExternalTo-s.ExternalFrom)), Verdict: Unproven},
		{Hop: HopDevice, Value: d.Name, Detail: d.Address.String(), Verdict: Unproven},
		{Hop: HopService, Value: s.Name, Detail: joined(string(s.Kind), string(s.Outcome)), Verdict: Unproven},
	}
	if s.Pinholed() {
		inner := site.Ports(s.InternalFrom, s.InternalTo())
		words := fmt.Sprintf("pinhole %s %s", s.Transport, inner)
		if s.Forwarded() {
			words = p.Stations[4].Value + ", and " + words
		}
		p.Stations[4].Value = words
		for _, w := range s.Ways {
			p.Stations[4].Detail = joined(p.Stations[4].Detail, fmt.Sprintf("%s %s", w.Reach, w.Outcome))
		}
	}
	e.judge(&p, s, l)
	for _, w := range s.Ways { // the other way proves nothing of this one
		if w.Outcome == probe.Skipped && p.Stations[4].Verdict == Proven {
			p.Stations[4].Verdict = Unsettled
		}
	}
	e.fromTheSite(&p, s, l)
	if p.Finding == nil {
		p.Remarks = e.remarks(l, s)
	}
	return p
}

// fromTheSite adds what is known from the site's side: what stands in front of the router, and how the device looks from inside.
func (e Evidence) fromTheSite(p *Path, s ServiceEvidence, l LinkEvidence) {
	upstream := &p.Stations[3]
	switch l.NAT.Verdict {
	case wan.NATDirect:
		if upstream.Verdict == Unproven {
			upstream.Value, upstream.Verdict = "no NAT in front", Proven
		}
	case wan.NATDouble, wan.NATCarrier:
		if upstream.Verdict == Proven {
			upstream.Detail = string(l.NAT.Verdict) + " NAT"
		} else {
			upstream.Value = string(l.NAT.Verdict) + " NAT"
		}
		if upstream.Verdict == Unproven {
			upstream.Verdict = Unsettled
		}
	}
	seen, ok := e.inside(s.Device)
	if !ok || seen.At.Before(s.Turned) {
		return
	}
	d, _ := e.device(s.Device)
	if device := &p.Stations[5]; seen.device(d) == causes.There && device.Verdict == Unproven {
		device.Verdict = Proven
	}
	if service := &p.Stations[6]; seen.Ports[s.Name] == "open" && seen.Found == "" && service.Verdict == Unproven {
		service.Verdict, service.Detail = Proven, joined(service.Detail, "open from inside")
	}
}

// judge sets the verdicts behind the hostname. What a connection passed is proven; the hop that the finding names is
// broken; what lies behind a break stays unproven.
func (e Evidence) judge(p *Path, s ServiceEvidence, l LinkEvidence) {
	if s.Probed.IsZero() {
		p.Stations[0].Verdict = Unproven
	}
	reached, how := e.gotAsFar(s, l)
	for i := 2; i <= reached; i++ {
		p.Stations[i].Verdict = Proven
	}
	if reached >= 3 {
		p.Stations[3].Value = "passed"
	}
	if how != "" {
		p.Stations[4].Detail = joined(p.Stations[4].Detail, how)
	}
	alive := l.Addresses().Known() && (!l.Overdue && !l.Heard.IsZero() || len(e.where(func(x ServiceEvidence) bool {
		return x.OnLink == s.OnLink && x.Outcome.Open()
	})) > 0)
	if alive && p.Stations[2].Verdict == Unproven {
		p.Stations[2].Verdict = Proven
	}
	if s.Settling && p.Finding == nil {
		p.Stations[2].Verdict, p.Stations[2].Detail = Unsettled, settlingWords(e.Now, s.Turned)
	}
	if p.Finding == nil {
		if !s.failing() && s.State != probe.StateUnknown && !s.Outcome.Good() && s.Expected == probe.ExpectReachable {
			p.Stations[6].Verdict = Unsettled // a failure that is not confirmed yet
		}
		if s.Mute() && s.Outcome == probe.Silent {
			p.Stations[4].Detail, p.Stations[6].Detail = "not provable this way", "silence proves nothing: have the agent prove the path"
		}
		if s.Expected == probe.ExpectClosed && probe.AsExpected(s.Expected, s.State) {
			p.Stations[4].Verdict, p.Stations[4].Detail = Proven, "closed, as it should be"
		}
		return
	}
	for i := range p.Stations {
		if p.Stations[i].Hop == p.Finding.Hop {
			p.Stations[i].Verdict = Broken
			if !p.Finding.Serious() || p.Awaited { // it works, and should be seen to; or it is not finished
				p.Stations[i].Verdict = Unsettled
			}
			if p.Finding.Sure == causes.Open {
				p.Stations[i].Detail = joined(p.Stations[i].Detail, "likeliest")
			}
		}
	}
}

// gotAsFar is the last station that packets are proven to have got to, and what shows it; -1 if nothing does.
func (e Evidence) gotAsFar(s ServiceEvidence, l LinkEvidence) (station int, how string) {
	if s.Outcome.Good() {
		return 6, ""
	}
	switch reach(s, l) {
	case causes.PassedOn:
		return 4, "got as far as the router, which passes it on"
	case causes.RefusedBehind, causes.AnsweredBehind:
		return 5, "got as far as a machine behind the router"
	case causes.StoppedRouter:
		return 3, "got as far as the router, and no further"
	case causes.RefusedRouter, causes.AnsweredRouter:
		return 3, "got as far as the router, which answers itself"
	case causes.StoppedModem, causes.RefusedModem:
		return 2, "got as far as the modem in front of the router"
	case causes.StoppedSite, causes.RefusedSite:
		return 2, "got as far as the site's address"
	case causes.StoppedBefore:
		return -1, "did not get as far as the site"
	}
	return -1, ""
}

// settlingWords say on a path that nothing is decided yet.
func settlingWords(now, turned time.Time) string {
	return fmt.Sprintf("settling: it failed %s ago, and whoever announces the address is being asked", spoken(now.Sub(turned)))
}

// explains picks the finding that accounts for s: the one that lists it, or one about its link's address or its name.
func explains(s ServiceEvidence, findings []Finding) *Finding {
	for _, f := range findings {
		for _, name := range f.Services {
			if name == s.Name {
				return &f
			}
		}
	}
	for _, f := range findings {
		if f.Cause == "address-unknown" && f.Subject == "link "+s.OnLink {
			return &f
		}
	}
	return nil
}

func nameVerdict(s names.State) Verdict {
	switch s {
	case names.StatePointed:
		return Proven
	case names.StateSettling:
		return Unsettled
	case names.StateStale, names.StateHeld:
		return Broken
	}
	return Unproven
}

func joined(a, b string) string {
	switch {
	case a == "":
		return b
	case b == "":
		return a
	}
	return a + ", " + b
}

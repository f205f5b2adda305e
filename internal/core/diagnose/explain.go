package diagnose

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

// Problems returns the problems that All returns, and with them what only paths show.
func Problems(e Evidence, open ...Finding) (found, all []Finding) {
	all = Site(e)
	for _, f := range all {
		if e.begun(f) {
			found = append(found, f)
		}
	}
	for _, f := range open {
		if e.stands(f, found) {
			found = append(found, f)
		}
	}
	for _, f := range found[:len(found):len(found)] {
		if !slices.ContainsFunc(all, func(x Finding) bool { return x.Key() == f.Key() }) {
			all = append(all, f)
		}
	}
	return found, all
}

// stands reports whether a problem that was told is not over, although it is not found now: one of its services still fails, or was not
// looked at since this server began, and nothing else that is found explains it. What is waited for, or not known yet, ends nothing.
func (e Evidence) stands(f Finding, found []Finding) bool {
	if slices.ContainsFunc(found, func(x Finding) bool { return x.Key() == f.Key() }) {
		return false
	}
	return slices.ContainsFunc(e.Services, func(s ServiceEvidence) bool {
		l, ok := e.link(s.OnLink)
		unseen := s.Probed.IsZero() && ok && l.Addresses().Known() && e.Now.Sub(e.Began) < beginning
		return slices.Contains(f.Services, s.Name) && (unseen || s.failing()) && explains(s, found) == nil
	})
}

// beginning is how long after its start a server may not have looked at everything.
const beginning = 3 * time.Minute

// Ranking is how the causes of a problem were weighed.
type Ranking struct {
	Services []string       `json:"services"`
	Sure     causes.Sure    `json:"sure"`
	Causes   []RankedCause  `json:"causes"`
	Unknown  []causes.Check `json:"unknown,omitempty"` // checks that were not made
}

// RankedCause is a cause with what speaks for and against it. And is a second cause that is at work too. Share is its share of what is
// possible, from 0 to 1.
type RankedCause struct {
	Cause    causes.Slug `json:"cause"`
	And      causes.Slug `json:"and,omitempty"`
	Summary  string      `json:"summary"`
	Share    float64     `json:"share"`
	Excluded bool        `json:"excluded,omitempty"`
	For      []string    `json:"for,omitempty"`
	Against  []string    `json:"against,omitempty"`
}

// Rankings returns how the causes of every failing service were weighed, all of them.
func Rankings(e Evidence) (out []Ranking) {
	for _, l := range e.Links {
		for _, x := range e.explain(l) {
			out = append(out, e.ranking(l, x))
		}
	}
	return out
}

// Site returns every problem that the evidence shows, each symptom under one cause only.
func Site(e Evidence) (out []Finding) {
	if e.allDown() {
		out = append(out, e.siteDark())
	}
	for _, l := range e.Links {
		out = append(out, e.atSite(l)...)
		out = append(out, e.shownBeside(l)...)
		if !l.Addresses().Known() {
			if f, ok := e.addressUnknown(l); ok {
				out = append(out, f)
			}
			continue
		}
		found := e.failures(l)
		out = append(out, found...)
		if l.Overdue && !l.Failing && !tellsOf(found, l) && e.backLongEnough(l) {
			out = append(out, e.overdue(l))
		}
	}
	out = append(out, e.drifted(out)...)
	out = append(out, e.inRange()...)
	return append(out, e.names()...)
}

// tellsOf reports whether a finding is about the link as a whole.
func tellsOf(found []Finding, l LinkEvidence) bool {
	for _, f := range found {
		if f.Subject == "link "+l.Label && f.Cause != "one-side-only" {
			return true
		}
	}
	return false
}

// explained are failing services of one link with how their causes were weighed. known is what is known of the first.
type explained struct {
	causes.Explanation
	list  []ServiceEvidence
	known causes.Seen
}

// explain weighs the causes of what fails on one link whose address is known.
func (e Evidence) explain(l LinkEvidence) (out []explained) {
	if !l.Addresses().Known() || l.Failing { // nothing comes through: that is told of the link
		return nil
	}
	failing := e.where(func(s ServiceEvidence) bool {
		return s.OnLink == l.Label && s.Expected == probe.ExpectReachable && (s.failing() || e.missedInside(s)) &&
			!(s.turnedDown() && (s.Misnamed || e.Now.After(s.Expires)))
	})
	members := make([]causes.Member, len(failing))
	for i, s := range failing {
		members[i] = causes.Member{Device: s.Device, Seen: e.signs(l, s, failing)}
	}
	onceOnTheWay(members)
	for _, x := range causes.Explain(members) {
		one := explained{Explanation: x, known: members[x.Members[0]].Seen}
		for _, k := range x.Members {
			one.list = append(one.list, failing[k])
		}
		out = append(out, one)
	}
	return out
}

// failures says what fails on one link.
func (e Evidence) failures(l LinkEvidence) (out []Finding) {
	failing := e.explain(l)
	for _, x := range failing {
		if !e.spreading(l, x) {
			out = append(out, e.told(l, x)...)
		}
	}
	if len(failing) == 0 && l.Held != "" {
		out = append(out, finding("address-held", "link "+l.Label, e.ofLink(l), l.Held))
	}
	for _, s := range e.Services {
		if s.OnLink == l.Label && s.Expected == probe.ExpectClosed && s.failing() {
			out = append(out, e.about("exposed", l, s, seen([]ServiceEvidence{s})...))
		}
	}
	return out
}

// spreading reports whether others of the link's services began to fail before these were believed, and it is not known yet whether that
// is one trouble: a fault of one service would be told first, and one of all a moment later; or whether a trial or a look from inside is
// under way that will tell causes apart. It waits seven tenths of an interval at most, so that a fault is told within two. What begins
// later closes no fault that is open.
func (e Evidence) spreading(l LinkEvidence, x explained) bool {
	list := x.list
	first, every := began(list), time.Duration(list[0].Interval)*time.Second
	if e.Now.Sub(first) > every*7/10 {
		return false
	}
	if slices.ContainsFunc(list, func(s ServiceEvidence) bool { return s.Trying || x.Sure == causes.Open && e.looking(l, s) }) {
		return true
	}
	believed := first.Add(pace.Sustain(every))
	return slices.ContainsFunc(e.Services, func(s ServiceEvidence) bool {
		return s.OnLink == l.Label && s.State == probe.StateReachable && s.Turned.Before(believed) &&
			s.RuleAt(e.Now).Meaning(s.Outcome) == probe.NotWanted && s.Expected == probe.ExpectReachable
	})
}

// looking reports whether an agent that is there has not told yet how a failing service looks from inside or what the router says of its
// port, or is not sure of its device.
func (e Evidence) looking(l LinkEvidence, s ServiceEvidence) bool {
	if !l.Agent || l.Overdue || l.Heard.Before(s.Turned) {
		return false
	}
	r, looks := e.Seen[s.Device]
	looks = looks && e.Now.Sub(r.At) <= InsideFor
	asks := !l.Word.At.IsZero() && s.Forwarded() && !s.OnRouter // its router answered before
	return looks && (r.At.Before(s.Turned) || r.Unsure) || asks && l.Word.At.Before(s.Turned)
}

// missedInside reports a service that proves nothing by silence, whose device is not where it should be: an agent has looked more
// than once.
func (e Evidence) missedInside(s ServiceEvidence) bool {
	r, ok := e.inside(s.Device)
	d, _ := e.device(s.Device)
	return ok && s.Mute() && s.Outcome == probe.Silent && r.Missed >= 2 && r.device(d) != causes.There
}

// about makes a finding of one service.
func (e Evidence) about(slug causes.Slug, l LinkEvidence, s ServiceEvidence, evidence ...string) Finding {
	f := finding(slug, "service "+s.Name, e.ofServices(l, []ServiceEvidence{s}), evidence...)
	f.Services = []string{s.Name}
	return f
}

// told puts an explanation into words: one finding, or two where two causes are at work.
func (e Evidence) told(l LinkEvidence, x explained) (out []Finding) {
	best, list, known := x.Best(), x.list, x.known
	p := e.ofServices(l, list)
	slugs := []causes.Slug{best.Slug}
	if best.And != "" {
		slugs = append(slugs, best.And)
	}
	if best.Out {
		slugs = []causes.Slug{"unexplained"}
	}
	for _, slug := range slugs {
		c, _ := causes.Find(slug)
		f := finding(slug, subject(c, l, list), p, e.evidence(l, list, known, best)...)
		f.Services, f.Sure = e.services(l, list, c), x.Sure
		if best.Out {
			f.Sure = causes.Open
			for _, r := range x.Ranking[:min(2, len(x.Ranking))] {
				f.Between = append(f.Between, r.Slug)
				f.Also = append(f.Also, e.so(r.Slug, p)+": against it speaks "+strings.Join(e.objections(l, list, known, r.Against),
					"; ")+".")
			}
		} else if x.Sure == causes.Open && best.And == "" {
			f.Between = x.Between()
			for _, other := range f.Between[1:min(len(f.Between), 4)] {
				f.Also = append(f.Also, e.so(other, p)+".")
			}
			if d, ok := e.device(list[0].Device); ok && !d.Reserved && !c.Scope.Wide() && slices.Contains(f.Between, "device-drifted") {
				f.Also = append(f.Also, fmt.Sprintf("%s has no reservation: the router may have given it another LAN address than %s.",
					d.Name,
					d.Address))
			}
			f.Check = e.deciding(l, f.Between, known, p, list)
		} else if other, ok := runnerUp(x); ok && best.And == "" {
			f.Also = append(f.Also, e.so(other, p)+".")
			f.Check = e.deciding(l, []causes.Slug{best.Slug, other}, known, p, list)
		}
		out = append(out, f)
	}
	return out
}

// runnerUp returns the next cause that is still possible, where it is worth a word.
func runnerUp(x explained) (other causes.Slug, ok bool) {
	for _, r := range x.Ranking[1:] {
		if !r.Out && r.And == "" {
			return r.Slug, x.Sure == causes.Likely && r.Share >= worthAWord
		}
	}
	return other, false
}

// worthAWord is the share from which on another cause is told beside a likely one.
const worthAWord = 0.02

func (e Evidence) so(slug causes.Slug, p places) string {
	c, _ := causes.Find(slug)
	return causes.Fill(c.So, p)
}

// deciding returns the check that tells the likeliest from the next; from the one after that if none does.
func (e Evidence) deciding(l LinkEvidence, between []causes.Slug, known causes.Seen, p places, list []ServiceEvidence) *Check {
	made := e.made(l, list)
	for _, other := range between[1:] {
		check, sign, ok := causes.Deciding(between[0], other, known, made)
		if ok {
			return &Check{Name: check, Tells: sign.String(), Ask: causes.Fill(check.Ask(), p)}
		}
	}
	return nil
}

// made are the checks that were made and said nothing, and those that nobody can have made: they are asked of no one.
func (e Evidence) made(l LinkEvidence, list []ServiceEvidence) map[causes.Check]bool {
	out := map[causes.Check]bool{causes.TryMapping: !l.Agent || l.MayMap, causes.HopLimited: true}
	for _, s := range list {
		r, ok := e.inside(s.Device)
		if ok && !r.At.Before(s.Turned) && !r.Unsure {
			out[causes.LookInside], out[causes.LoopLook] = true, true
		}
		out[causes.HopLimited] = out[causes.HopLimited] && s.Series != nil && s.Series.Problem == ""
	}
	return out
}

func subject(c causes.Cause, l LinkEvidence, list []ServiceEvidence) string {
	switch {
	case c.Scope == causes.ScopeDevice, c.Scope == causes.ScopeService && len(list) > 1:
		return "device " + list[0].Device
	case c.Scope == causes.ScopeService:
		return "service " + list[0].Name
	}
	return "link " + l.Label
}

// services lists what a cause takes with it: what fails, and what proves nothing by its silence.
func (e Evidence) services(l LinkEvidence, list []ServiceEvidence, c causes.Cause) []string {
	out := serviceNames(list)
	if c.Scope == causes.ScopeService || c.Slug == "one-side-only" {
		return out
	}
	for _, s := range e.Services {
		silent := s.OnLink == l.Label && s.Mute() && s.Outcome == probe.Silent && !s.failing() && !e.missedInside(s)
		if silent && (c.Scope != causes.ScopeDevice || s.Device == list[0].Device) {
			out = append(out, s.Name)
		}
	}
	return out
}

// ranking puts a whole ranking into words.
func (e Evidence) ranking(l LinkEvidence, x explained) Ranking {
	list, known := x.list, x.known
	p := e.ofServices(l, list)
	out := Ranking{Services: serviceNames(list), Sure: x.Sure}
	for i, r := range x.Ranking {
		if r.And != "" && i > 0 {
			continue // pairs are of interest only where they win
		}
		one := RankedCause{Cause: r.Slug, And: r.And, Summary: e.so(r.Slug, p), Share: r.Share, Excluded: r.Out,
			For: e.reasons(l, list, known, r.For), Against: e.objections(l, list, known, r.Against)}
		if r.Out && i > 0 { // the evidence stands above: here it is which of it
			one.For, one.Against = briefly(r.For, known), briefly(r.Against, known)
		}
		if r.And != "" {
			one.Summary += ", and: " + e.so(r.And, p)
		}
		out.Causes = append(out.Causes, one)
	}
	asked := map[causes.Check]bool{}
	for _, s := range causes.Signs() {
		if known[s] == causes.Unseen && s.Check() != "" && !asked[s.Check()] {
			asked[s.Check()] = true
			out.Unknown = append(out.Unknown, s.Check())
		}
	}
	return out
}

// drifted reports devices that are not where the record has them, where nothing fails yet.
func (e Evidence) drifted(told []Finding) (out []Finding) {
	for _, d := range e.Devices {
		r, ok := e.inside(d.Name)
		if !ok {
			continue
		}
		slug := causes.Slug("device-drifted")
		switch r.device(d) {
		case causes.Drifted, causes.DriftedTaken:
		case causes.AwayTaken:
			slug = "address-taken"
		default:
			continue
		}
		f := finding(slug, "device "+d.Name, e.ofDevice(d.Name), e.whereabouts(d, r)...)
		f.Services = serviceNames(e.where(func(s ServiceEvidence) bool { return s.Device == d.Name }))
		if !slices.ContainsFunc(told, func(t Finding) bool { return t.Key() == f.Key() }) {
			out = append(out, f)
		}
	}
	return out
}

func (e Evidence) where(pick func(ServiceEvidence) bool) []ServiceEvidence {
	var out []ServiceEvidence
	for _, s := range e.Services {
		if pick(s) {
			out = append(out, s)
		}
	}
	return out
}

// preferred names the link that hostnames lead to while another fails.
func (e Evidence) preferred(but site.Link) (other site.Link, ok bool) {
	links := make([]site.Link, len(e.Links))
	for i, x := range e.Links {
		links[i] = x.Link
	}
	other, ok = site.Preferred(slices.Values(links))
	return other, ok && other.ID != but.ID
}

package diagnose

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

// fromRouter adds what the router itself says of the port of a forward, and what became of a trial.
func (e Evidence) fromRouter(l LinkEvidence, s ServiceEvidence, out *causes.Seen) {
	if w := l.Word; e.fresh(w.At, s.Turned) {
		out[causes.Mapping] = e.mapping(l, s)
		switch {
		case !w.Began.IsZero():
			out[causes.Restarted] = yes(w.Began.After(s.Turned.Add(-restartBefore)))
		case !w.LineUp.IsZero() && w.LineUp.Before(s.Turned.Add(-restartBefore)):
			out[causes.Restarted] = causes.No // its line has been up all the while, and so it has
		}
	}
	if t := s.Trial; e.fresh(t.At, s.Turned) {
		out[causes.Asked] = map[site.Came]causes.Value{site.CameThrough: causes.Arrived, site.CameNot: causes.Lost,
			site.CameTaken: causes.Occupied}[t.Came]
	}
}

// restartBefore is how long before a failure was seen a router may have begun anew for that to be why: usually it begins after it.
const restartBefore = time.Minute

// fresh reports whether something was seen since a service began to fail, and lately. What is from the future is not believed.
func (e Evidence) fresh(at, turned time.Time) bool {
	return !at.IsZero() && !at.Before(turned) && e.Now.Sub(at) <= InsideFor && at.Sub(e.Now) <= clockSlip
}

// mapping says what the router lists for a port. Many routers list only what machines have asked for, and not what a person has entered:
// that it lists nothing says something only where it lists a port that works.
func (e Evidence) mapping(l LinkEvidence, s ServiceEvidence) causes.Value {
	p, asked := l.Word.Ports[s.Name]
	d, ok := e.device(s.Device)
	switch {
	case !asked || !ok:
		return causes.Unseen
	case !p.To.IsValid() && e.listsForwards(l, s):
		return causes.NotListed
	case !p.To.IsValid():
		return causes.Unseen
	case p.To.Addr() == d.Address && int(p.To.Port()) == s.InternalFrom:
		return causes.Listed
	case p.To.Addr() == d.Address:
		return causes.ListedOtherPort
	case p.Lease == 0 && e.listsForwards(l, s):
		return causes.ListedElsewhere
	}
	return causes.ListedForAnother
}

// listsForwards reports whether the router lists what a person has entered: a port that works, with no end to it.
func (e Evidence) listsForwards(l LinkEvidence, but ServiceEvidence) bool {
	for _, x := range e.Services {
		p, ok := l.Word.Ports[x.Name]
		if ok && x.Name != but.Name && x.OnLink == l.Label && x.proven() && p.To.IsValid() && p.Lease == 0 {
			return true
		}
	}
	return false
}

// listed says in words what the router lists for a port.
func (e Evidence) listed(l LinkEvidence, s ServiceEvidence) string {
	p := l.Word.Ports[s.Name]
	ago := spoken(e.Now.Sub(l.Word.At))
	if !p.To.IsValid() {
		return fmt.Sprintf("the router, asked %s ago, lists forwards, and none of %s", ago, s.port())
	}
	words := fmt.Sprintf("the router, asked %s ago, passes %s on to %s", ago, s.port(), p.To)
	if p.Description != "" {
		words += fmt.Sprintf(" (%q)", p.Description)
	}
	if p.Lease > 0 {
		words += ", as a machine there has asked for"
	}
	return words
}

// since says in words how long the router, or its line, has been up.
func (e Evidence) since(l LinkEvidence) string {
	if w := l.Word; !w.Began.IsZero() {
		return fmt.Sprintf("the router says that it began anew %s ago", spoken(e.Now.Sub(w.Began)))
	}
	return fmt.Sprintf("the router says that its line has been up for %s", spoken(e.Now.Sub(l.Word.LineUp)))
}

// holder is where the router passes a port on to, if that is not where it should.
func (e Evidence) holder(l LinkEvidence, s ServiceEvidence) string {
	if p := l.Word.Ports[s.Name]; p.To.IsValid() && s.Outcome != probe.Skipped {
		return p.To.Addr().String()
	}
	return ""
}

// RouterSays puts a router's word into words, a line each.
func RouterSays(w site.RouterWord, now time.Time) (out []string) {
	if w.Line != "" || !w.LineUp.IsZero() {
		words := "its line: " + orElse(w.Line, "up")
		if !w.LineUp.IsZero() {
			words += ", for " + spoken(now.Sub(w.LineUp))
		}
		if w.Trouble != "" {
			words += "; its last trouble was " + w.Trouble
		}
		out = append(out, words)
	}
	if !w.Began.IsZero() {
		out = append(out, "it began anew "+spoken(now.Sub(w.Began))+" ago")
	}
	for _, name := range slices.Sorted(maps.Keys(w.Ports)) {
		p := w.Ports[name]
		switch {
		case !p.To.IsValid():
			out = append(out, "it lists nothing for the port of "+name)
		case p.Lease > 0:
			out = append(out, fmt.Sprintf("it leads the port of %s to %s, as a machine has asked for", name, p.To))
		default:
			out = append(out, fmt.Sprintf("it leads the port of %s to %s", name, p.To))
		}
	}
	return out
}

// elsewhere says how the same external port does at other links of the provider.
func (s ServiceEvidence) elsewhere() causes.Value {
	switch works, silent := s.WorksElsewhere, s.SilentElsewhere; {
	case silent >= manySites && silent > 3*works:
		return causes.ElsewhereFails
	case works >= 2 && works > 3*silent:
		return causes.ElsewhereWorks
	}
	return causes.Unseen
}

// elsewhereWords say it in words.
func (s ServiceEvidence) elsewhereWords(l LinkEvidence) string {
	if s.SilentElsewhere > s.WorksElsewhere {
		return fmt.Sprintf("%s is silent at %d other sites of %s, too, where other ports work", s.port(), s.SilentElsewhere,
			provider(l.Link))
	}
	return fmt.Sprintf("%s works at %d other sites of %s", s.port(), s.WorksElsewhere, provider(l.Link))
}

package diagnose

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

// pinholeFails returns the way over IPv6 of a service that fails there, while the forward, where it has one, works.
func (s ServiceEvidence) pinholeFails() (w Way, fails bool) {
	for _, way := range s.Ways {
		if way.Reach == site.ByForward && !way.Outcome.Good() {
			return w, false
		}
		if way.Reach == site.ByPinhole && !way.Outcome.Good() && way.Outcome != probe.Skipped {
			w, fails = way, true
		}
	}
	return w, fails
}

// pinholes explains services that fail at their devices' own IPv6 addresses, and gives the failing services that are left. IPv6 is
// not translated: there is no forward to be missing, and what lies between is the router's firewall.
func (e Evidence) pinholes(cut []ServiceEvidence) (out []Finding, rest []ServiceEvidence) {
	for _, s := range cut {
		w, fails := s.pinholeFails()
		look, looked := e.inside(s.Device)
		away := looked && !look.Present && !look.At.Before(s.Turned) &&
			!slices.ContainsFunc(s.Ways, func(w Way) bool { return w.Outcome.Good() })
		if !fails || away { // a device that is away is reported as such
			rest = append(rest, s)
			continue
		}
		if f, ok := e.pinhole(s, w, look, looked); ok {
			out = append(out, f)
		} else {
			rest = append(rest, s)
		}
	}
	return out, rest
}

func (e Evidence) pinhole(s ServiceEvidence, w Way, look DeviceReport, looked bool) (f Finding, ok bool) {
	d, _ := e.device(s.Device)
	ports := fmt.Sprintf("%s port %s", strings.ToUpper(string(s.Transport)), site.Ports(s.InternalFrom, s.InternalTo()))
	f = Finding{Subject: "service " + s.Name, Services: []string{s.Name},
		Evidence: []string{fmt.Sprintf("%s (%s) over IPv6 at %s: %s, %d times in a row", s.Name, ports, w.Target, w.Outcome, s.InRow)}}
	for _, other := range s.Ways {
		if other.Reach == site.ByForward && other.Outcome.Good() {
			f.Evidence = append(f.Evidence, fmt.Sprintf("over IPv4, by the forward at %s, it is %s", other.Target, other.Outcome))
		}
	}
	open := looked && !look.At.Before(s.Turned) && look.Ports[s.Name] == "open"
	if open {
		f.Evidence = append(f.Evidence, fmt.Sprintf("from inside, %s ago: %s has it open at %s", spoken(e.Now.Sub(look.At)), d.Name,
			d.Address))
	}
	at := addressOf(w.Target)
	switch w.Outcome {
	case probe.Silent, probe.Unroutable:
		f.Cause, f.Hop = CausePinholeMissing, HopForward
		f.Summary = fmt.Sprintf("The router does not let %s in to %s over IPv6", ports, s.Device)
		f.Next = fmt.Sprintf("In the router's IPv6 firewall, allow %s to %s (%s). The card has the fields: inkpost "+
			"service card %s %s", ports, at, d.Name, e.Site.Code, s.Name)
		f.Also = []string{fmt.Sprintf("The firewall on %s drops what comes from outside its LAN.", d.Name)}
		if !open {
			f.Also = append(f.Also, fmt.Sprintf("%s does not listen at its IPv6 address, or drops it there.", d.Name))
		}
	case probe.Refused:
		f.Cause, f.Hop = CauseServiceStopped, HopService
		f.Summary = fmt.Sprintf("%s is let in over IPv6, and %s refuses it: nothing listens at its IPv6 address", ports, s.Device)
		f.Next = fmt.Sprintf("On %s, have what listens on %s listen on IPv6 too (%s).", d.Name, ports, at)
		f.Also = []string{"The router refuses it by a rule of its IPv6 firewall."}
	default:
		return f, false
	}
	return f, true
}

func addressOf(target string) string {
	at, err := netip.ParseAddrPort(target)
	if err != nil {
		return target
	}
	return at.Addr().String()
}

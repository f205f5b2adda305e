package diagnose

import (
	"fmt"
	"strings"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
)

// Site returns every problem that the evidence shows, each symptom under one cause only.
func Site(e Evidence) []Finding {
	var out []Finding
	for _, l := range e.Links {
		out = append(out, e.explain(l)...)
	}
	out = append(out, e.moved()...)
	out = append(out, e.inRange()...)
	out = append(out, e.held()...)
	for _, h := range e.Hostnames {
		if h.LostIPv6 {
			out = append(out, lostIPv6(h))
		} else if h.State == names.StateStale && len(h.Behind) > 0 && h.Given == h.Want {
			out = append(out, Finding{
				Cause: CauseResolverBehind, Hop: HopHostname, Subject: "hostname " + string(h.Name),
				Summary:  fmt.Sprintf("%s is right at its own name server, but not everywhere", h.Name),
				Evidence: h.Behind,
				Next: "Ask whoever runs the resolver to forget the name, and use another resolver until then: it keeps answers " +
					"longer than their TTL allows.",
				Also: []string{"The zone's other name servers do not have the change yet."},
			})
		} else if h.State == names.StateStale {
			out = append(out, Finding{
				Cause: CauseNameStale, Hop: HopHostname, Subject: "hostname " + string(h.Name),
				Summary:  fmt.Sprintf("%s answers %s instead of %s", h.Name, h.Given, h.Want),
				Evidence: []string{fmt.Sprintf("the name server of %s was asked and gave %s", h.Zone, h.Given)},
				Next:     "Look at the service's log for the zone; it publishes the address again at the next announcement.",
			})
		}
	}
	return out
}

// explain says what fails on one link, from the widest cause to the narrowest.
func (e Evidence) explain(l LinkEvidence) []Finding {
	out := append(e.atSite(l), append(e.routerAnswers(l), e.certificates(l)...)...)
	on := e.where(func(s ServiceEvidence) bool { return s.OnLink == l.Label })
	failing := e.where(func(s ServiceEvidence) bool { return s.OnLink == l.Label && s.failing() })
	if !l.Addresses().Known() {
		if len(on) == 0 && !l.Agent || l.beginning(e.Now) {
			return out
		}
		return append(out, e.addressUnknown(l))
	}
	var cut, closedWrong []ServiceEvidence
	for _, s := range failing {
		if s.Expected == probe.ExpectClosed {
			closedWrong = append(closedWrong, s)
		} else {
			cut = append(cut, s)
		}
	}
	if l.Held != "" {
		out, cut = append(out, e.addressHeld(l, cut)), nil
	}
	silentSince := e.quiet(l, cut)
	pinholes, cut := e.pinholes(cut)
	out = append(out, pinholes...)
	if f, ok := e.unannounced(l, cut); ok && silentSince {
		out, cut = append(out, f), nil
	}
	recognised, cut := e.recognised(l, cut)
	out = append(out, recognised...)
	proven := e.where(func(s ServiceEvidence) bool {
		return s.OnLink == l.Label && (s.proven() || s.State == probe.StateImpaired || s.Outcome == probe.Stranger && s.Quarantine == "")
	})
	switch {
	case len(cut) > 0 && all(cut, probe.Unroutable) && len(proven) == 0 && !silentSince:
		out = append(out, e.noRoute(l, cut))
	case len(cut) > 0 && len(proven) == 0 && (l.Overdue || silentSince) && all(cut, probe.Silent, probe.Refused, probe.Unroutable):
		out = append(out, e.siteDark(l, cut))
	case len(cut) > 0 && len(proven) == 0 && all(cut, probe.Silent, probe.Refused) &&
		(l.NAT.Verdict == wan.NATDouble || l.NAT.Verdict == wan.NATCarrier):
		f, _ := e.translated(l, cut)
		out = append(out, f)
	case len(cut) > 1 && len(proven) == 0 && all(cut, probe.Silent) && devicesOf(cut) > 1:
		out = append(out, e.inboundBlocked(l, cut))
	default:
		out = append(out, e.narrow(l, cut)...)
		if l.Overdue && !l.Failing { // or else that has been reported already
			out = append(out, e.agentOverdue(l, proven))
		}
	}
	for _, s := range closedWrong {
		out = append(out, e.exposed(s))
	}
	return out
}

func all(list []ServiceEvidence, outcomes ...probe.Outcome) bool {
	for _, s := range list {
		found := false
		for _, o := range outcomes {
			found = found || s.Outcome == o
		}
		if !found {
			return false
		}
	}
	return true
}

func devicesOf(list []ServiceEvidence) int {
	seen := map[string]bool{}
	for _, s := range list {
		seen[s.Device] = true
	}
	return len(seen)
}

func serviceNames(list []ServiceEvidence) []string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = s.Name
	}
	return out
}

func seen(list []ServiceEvidence) []string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = fmt.Sprintf("%s (%s) at %s: %s, %d times in a row", s.Name, s.port(), s.Address, s.Outcome, s.InRow)
	}
	return out
}

func (e Evidence) heard(l LinkEvidence) string {
	if !l.Agent && l.Rhythm > 0 {
		return fmt.Sprintf("the router on link %s announced last %s ago", l.Label, spoken(e.Now.Sub(l.Heard)))
	}
	if l.Heard.IsZero() {
		return "no agent was ever heard on link " + l.Label
	}
	return fmt.Sprintf("the agent on link %s was heard %s ago", l.Label, spoken(e.Now.Sub(l.Heard)))
}

func (e Evidence) addressUnknown(l LinkEvidence) Finding {
	f := Finding{
		Cause: CauseAddressUnknown, Hop: HopAddress, Subject: "link " + l.Label,
		Summary:  fmt.Sprintf("The public address of link %s is not known yet", l.Label),
		Evidence: []string{"nothing has announced an address for this link"},
		Next:     fmt.Sprintf("Start an agent at the site: inkpost agent invite %s %s", e.Site.Code, l.Label),
	}
	var refused []string
	for _, r := range l.Refused {
		refused = append(refused, fmt.Sprintf("%d times, from %s: %s", r.Count, r.From, r.Reason))
	}
	switch {
	case len(refused) > 0:
		f.Evidence = refused
		f.Next = "Something announces for this link, and is refused: the reason says what to correct, at the site or here."
	case l.Held != "":
		f.Evidence = []string{e.heard(l), l.Held}
		f.Next = "The agent is heard; what it says is not followed, for the reason above. inkpost link show lists what each of its " +
			"sources says."
	case l.Agent && !l.Heard.IsZero():
		f.Evidence = []string{e.heard(l), "none of its sources gives an address that can be reached from outside"}
		f.Next = fmt.Sprintf("See what its sources say: inkpost link show %s %s", e.Site.Code, l.Label)
	}
	return f
}

func (e Evidence) noRoute(l LinkEvidence, cut []ServiceEvidence) Finding {
	return Finding{
		Cause: CauseNoRoute, Hop: HopAddress, Subject: "link " + l.Label, Services: serviceNames(cut),
		Summary:  fmt.Sprintf("The network reports no route to %s", l.Addresses()),
		Evidence: append(seen(cut), e.heard(l)),
		Next:     fmt.Sprintf("Report it to the provider %s: its network does not route %s.", provider(l.Link), l.Addresses()),
	}
}

func (e Evidence) siteDark(l LinkEvidence, cut []ServiceEvidence) Finding {
	return Finding{
		Cause: CauseSiteDark, Hop: HopAddress, Subject: "link " + l.Label, Services: serviceNames(cut),
		Summary:  fmt.Sprintf("Nothing answers at %s, and nothing is heard from the site", l.Addresses()),
		Evidence: append(seen(cut), e.heard(l)),
		Next: fmt.Sprintf("Call the site: is the power on, is the modem's line light on? If both, report the line to %s.",
			provider(l.Link)),
		Also: []string{"The address has moved and the agent could not say so: a restarted router may show another address."},
	}
}

const compareAddresses = "Compare the WAN address on the router's status page with %s. The same: all forwards are gone, load the " +
	"router's saved settings. " +
	`Different: another NAT stands in front; bridge that device or ask %s for a public address.`

func (e Evidence) inboundBlocked(l LinkEvidence, cut []ServiceEvidence) Finding {
	return Finding{
		Cause: CauseInboundBlocked, Hop: HopUpstream, Subject: "link " + l.Label, Services: serviceNames(cut),
		Summary:  fmt.Sprintf("The site is alive at %s, but nothing gets in", l.Addresses()),
		Evidence: append(seen(cut), e.heard(l)),
		Next:     fmt.Sprintf(compareAddresses, l.Addresses(), provider(l.Link)),
		Also:     []string{"The router was reset to factory settings.", "The provider blocks incoming connections."},
	}
}

func (e Evidence) agentOverdue(l LinkEvidence, proven []ServiceEvidence) Finding {
	if !l.Agent {
		return e.routerOverdue(l, proven)
	}
	f := Finding{
		Cause: CauseAgentOverdue, Hop: HopAddress, Subject: "link " + l.Label,
		Summary:  fmt.Sprintf("The agent on link %s is overdue; a new address would not be noticed", l.Label),
		Evidence: []string{e.heard(l)},
		Next:     "Look at the machine that runs the agent: is it on, and does it reach this server? Check the agent's log.",
	}
	return e.stillReachable(f, l, proven)
}

func (e Evidence) stillReachable(f Finding, l LinkEvidence, proven []ServiceEvidence) Finding {
	if len(proven) > 0 {
		f.Evidence = append(f.Evidence, fmt.Sprintf("%s still reachable at %s", strings.Join(serviceNames(proven), ", "), l.Addresses()))
	}
	return f
}

// routerOverdue is agentOverdue for a router that announces by itself.
func (e Evidence) routerOverdue(l LinkEvidence, proven []ServiceEvidence) Finding {
	f := Finding{
		Cause: CauseAgentOverdue, Hop: HopAddress, Subject: "link " + l.Label,
		Summary:  fmt.Sprintf("The router on link %s no longer announces; a new address would not be noticed", l.Label),
		Evidence: []string{fmt.Sprintf("it announced every %s, and was heard last %s ago", spoken(l.Rhythm), spoken(e.Now.Sub(l.Heard)))},
		Next:     "Look at the router's page for dynamic names: does it still have the URL and the key, and what did it get as an answer?",
	}
	return e.stillReachable(f, l, proven)
}

// narrow explains failures while the link itself is fine: a device that is away takes all its services with it, the
// others are explained one by one.
func (e Evidence) narrow(l LinkEvidence, cut []ServiceEvidence) []Finding {
	var out []Finding
	done := map[string]bool{}
	for _, s := range cut {
		of := func(x ServiceEvidence) bool { return x.Device == s.Device && x.OnLink == l.Label }
		siblings := e.where(func(x ServiceEvidence) bool { return of(x) && x.Expected == probe.ExpectReachable })
		silent := e.where(func(x ServiceEvidence) bool { return of(x) && x.failing() && x.Outcome == probe.Silent })
		seen, looked := e.inside(s.Device)
		d, _ := e.device(s.Device)
		if looked && (seen.Found != "" || taken(d, seen)) {
			continue // it is reported as a device that has moved, or whose address another machine has
		}
		if f, ok := e.fromInside(s); ok && (s.Outcome == probe.Silent || s.Outcome == probe.Refused) {
			if f.Cause != CauseDeviceAway || !done[s.Device] {
				out = append(out, f)
			}
			done[s.Device] = done[s.Device] || f.Cause == CauseDeviceAway
			continue
		}
		switch {
		case s.Outcome == probe.Silent && len(siblings) > 1 && len(silent) == len(siblings):
			if !done[s.Device] {
				out = append(out, e.deviceAway(silent))
			}
			done[s.Device] = true
		case s.Outcome == probe.Silent:
			out = append(out, e.forwardMissing(s, len(siblings)))
		case s.Outcome == probe.Refused:
			out = append(out, e.serviceStopped(s))
		case s.Outcome == probe.Garbled || s.Outcome == probe.Stranger:
			out = append(out, e.wrongProtocol(s))
		default:
			out = append(out, e.noRoute(l, []ServiceEvidence{s}))
		}
	}
	return out
}

func (e Evidence) deviceAway(silent []ServiceEvidence) Finding {
	d, _ := e.device(silent[0].Device)
	return Finding{
		Cause: CauseDeviceAway, Hop: HopDevice, Subject: "device " + d.Name, Services: serviceNames(silent),
		Summary:  fmt.Sprintf("Device %s does not answer on any of its ports", d.Name),
		Evidence: seen(silent),
		Next: fmt.Sprintf("Ask someone at the site whether %s is on. If it is, look in the router's list of devices for %s: it "+
			"must have %s.",
			d.Name, orElse(d.MAC, "its MAC address"), d.Address),
		Also: reservation(d),
	}
}

func (e Evidence) forwardMissing(s ServiceEvidence, siblings int) Finding {
	d, _ := e.device(s.Device)
	f := Finding{
		Cause: CauseForwardMissing, Hop: HopForward, Subject: "service " + s.Name, Services: []string{s.Name},
		Summary:  fmt.Sprintf("The router does not pass %s on to %s", s.port(), s.Device),
		Evidence: seen([]ServiceEvidence{s}),
		Next: fmt.Sprintf("In the router, enter the forward: %s, external %s, to %s, internal %s.",
			s.Transport, site.Ports(s.ExternalFrom, s.ExternalTo), d.Address,
			site.Ports(s.InternalFrom, s.InternalFrom+s.ExternalTo-s.ExternalFrom)),
		Also: []string{fmt.Sprintf("The firewall on %s drops the port.", d.Name)},
	}
	if siblings > 1 {
		f.Evidence = append(f.Evidence, fmt.Sprintf("other services on %s can be reached, so the device is on", d.Name))
	} else {
		f.Also = append([]string{fmt.Sprintf("%s is off, asleep, or no longer at %s.", d.Name, d.Address)}, f.Also...)
	}
	f.Also = append(f.Also, reservation(d)...)
	return f
}

func (e Evidence) serviceStopped(s ServiceEvidence) Finding {
	d, _ := e.device(s.Device)
	return Finding{
		Cause: CauseServiceStopped, Hop: HopService, Subject: "service " + s.Name, Services: []string{s.Name},
		Summary:  fmt.Sprintf("%s reaches %s, which refuses it: the service is not running", s.port(), s.Device),
		Evidence: seen([]ServiceEvidence{s}),
		Next: fmt.Sprintf("On %s (%s), start what should listen on %s port %s, and make it start at boot.", d.Name, d.Address,
			s.Transport, site.Ports(s.InternalFrom, 0)),
		Also: append([]string{fmt.Sprintf("The forward points to another device, or %s listens on another port.", d.Name)},
			reservation(d)...),
	}
}

func (e Evidence) wrongProtocol(s ServiceEvidence) Finding {
	return Finding{
		Cause: CauseWrongProtocol, Hop: HopService, Subject: "service " + s.Name, Services: []string{s.Name},
		Summary:  fmt.Sprintf("Something else answers on %s", s.port()),
		Evidence: answeredEvidence(s),
		Next: fmt.Sprintf("Check in the router that %s goes to %s and to no other device, and that the service's settings are "+
			"as expected.", s.port(), s.Device),
	}
}

// answeredEvidence is the evidence of an answer that is not as it should be.
func answeredEvidence(s ServiceEvidence) []string {
	out := seen([]ServiceEvidence{s})
	if s.Message != "" {
		out = append(out, s.Message)
	}
	return out
}

func (e Evidence) exposed(s ServiceEvidence) Finding {
	return Finding{
		Cause: CauseExposed, Hop: HopForward, Subject: "service " + s.Name, Services: []string{s.Name},
		Summary:  fmt.Sprintf("%s must stay closed, yet anyone can open it", s.port()),
		Evidence: seen([]ServiceEvidence{s}),
		Next:     fmt.Sprintf("Remove the forward of %s in the router, or switch off its remote management.", s.port()),
	}
}

func reservation(d site.Device) []string {
	if d.Reserved || d.Name == "" {
		return nil
	}
	return []string{fmt.Sprintf("%s has no reservation: the router may have given it another LAN address than %s.", d.Name, d.Address)}
}

func provider(l site.Link) string { return orElse(l.Provider, "the provider") }

func orElse(s, instead string) string {
	if s == "" {
		return instead
	}
	return s
}

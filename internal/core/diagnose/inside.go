package diagnose

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
)

// InsideFor is how long what an agent saw of a device counts.
const InsideFor = 5 * time.Minute

// DeviceReport is what an agent saw of a device from inside the site. Ports holds, by service, "open", "refused", "silent" or
// "unknown"; Found is the address at which the device's MAC is, where that is another than on record.
type DeviceReport struct {
	At      time.Time
	Present bool
	Found   string
	Ports   map[string]string
	Hours   Hours
	MAC     string // that answers at the recorded address; "" if nobody does
}

// RefusedEvidence reports announcements that were refused lately.
type RefusedEvidence struct {
	Reason, From string
	Count        int
	Last         time.Time
}

func (e Evidence) inside(device string) (DeviceReport, bool) {
	s, ok := e.Seen[device]
	return s, ok && e.Now.Sub(s.At) <= InsideFor
}

// fromInside explains a failing service by what an agent saw of it; ok is false if that says nothing certain.
func (e Evidence) fromInside(s ServiceEvidence) (f Finding, ok bool) {
	seen, ok := e.inside(s.Device)
	if !ok || seen.At.Before(s.Turned) { // a look from before it failed says nothing of why
		return f, false
	}
	d, _ := e.device(s.Device)
	port := fmt.Sprintf("%s port %d", strings.ToUpper(string(s.Transport)), s.InternalFrom)
	word := fmt.Sprintf("from inside, %s ago: ", spoken(e.Now.Sub(seen.At)))
	switch state := seen.Ports[s.Name]; {
	case seen.Found != "":
		return Finding{}, false // the device's own finding
	case state == "open":
		f = e.forwardMissing(s, 0)
		f.Evidence = append(f.Evidence, word+fmt.Sprintf("%s has %s open", d.Name, port))
		f.Also = nil
	case state == "refused":
		f = e.serviceStopped(s)
		f.Summary = fmt.Sprintf("%s is on, and refuses %s even from inside: the service is not running", d.Name, port)
		f.Evidence = append(f.Evidence, word+fmt.Sprintf("%s refuses %s", d.Name, port))
		f.Also = nil
	case state == "silent" && !seen.Present:
		f = e.deviceAway([]ServiceEvidence{s})
		f.Summary = fmt.Sprintf("Device %s does not answer, from inside the site either", d.Name)
		f.Evidence = append(f.Evidence, word+fmt.Sprintf("nobody answers at %s", d.Address))
		f.Evidence = append(f.Evidence, seen.pattern(e.Now)...)
	case state == "silent":
		f = Finding{
			Cause: CauseDeviceFirewall, Hop: HopDevice, Subject: "service " + s.Name, Services: []string{s.Name},
			Summary:  fmt.Sprintf("%s is on, and drops %s even from inside", d.Name, port),
			Evidence: append(seenList(s), word+fmt.Sprintf("%s is there, and %s keeps silent", d.Name, port)),
			Next:     fmt.Sprintf("On %s, allow %s in the device's own firewall.", d.Name, port),
		}
	default:
		return f, false
	}
	return f, true
}

func seenList(s ServiceEvidence) []string { return seen([]ServiceEvidence{s}) }

// moved reports devices that are not where the record has them: their forwards lead nowhere, or soon will.
func (e Evidence) moved() []Finding {
	var out []Finding
	for _, d := range e.Devices {
		s, ok := e.inside(d.Name)
		if ok && s.Found == "" && taken(d, s) {
			out = append(out, e.addressTaken(d, s))
		}
		if !ok || s.Found == "" {
			continue
		}
		on := e.where(func(x ServiceEvidence) bool { return x.Device == d.Name })
		f := Finding{
			Cause: CauseDeviceMoved, Hop: HopDevice, Subject: "device " + d.Name, Services: serviceNames(on),
			Summary:  fmt.Sprintf("%s is at %s now, and the forwards lead to %s", d.Name, s.Found, d.Address),
			Evidence: []string{fmt.Sprintf("from inside, %s ago: %s answers at %s", spoken(e.Now.Sub(s.At)), d.MAC, s.Found)},
			Next: fmt.Sprintf("In the router, reserve %s for %s, then restart %s; or record %s and change the forwards.",
				d.Address, d.MAC, d.Name, s.Found),
		}
		if taken(d, s) {
			f.Summary = fmt.Sprintf("%s is at %s now, and another machine has %s, to which the forwards lead", d.Name, s.Found, d.Address)
			f.Evidence = append(f.Evidence, fmt.Sprintf("%s answers at %s instead", s.MAC, d.Address))
		}
		if d.Reserved {
			f.Also = []string{fmt.Sprintf("The reservation is for another MAC, or %s lies inside the range that the "+
				"router gives out.", d.Address)}
		}
		out = append(out, f)
	}
	return out
}

// taken reports whether another machine has the device's recorded address.
func taken(d site.Device, s DeviceReport) bool {
	return d.MAC != "" && s.MAC != "" && !strings.EqualFold(s.MAC, d.MAC)
}

// addressTaken reports a machine that has a device's address, while the device itself is nowhere.
func (e Evidence) addressTaken(d site.Device, s DeviceReport) Finding {
	on := e.where(func(x ServiceEvidence) bool { return x.Device == d.Name })
	return Finding{
		Cause: CauseAddressTaken, Hop: HopDevice, Subject: "device " + d.Name, Services: serviceNames(on),
		Summary: fmt.Sprintf("Another machine has %s, the address of %s: the forwards lead to it", d.Address, d.Name),
		Evidence: []string{fmt.Sprintf("from inside, %s ago: %s answers at %s; %s has %s", spoken(e.Now.Sub(s.At)), s.MAC, d.Address,
			d.Name, d.MAC)},
		Next: fmt.Sprintf("In the router, see which machine %s is, and reserve %s for %s; then start both anew.", s.MAC,
			d.Address, d.MAC),
		Also: []string{fmt.Sprintf("%s was replaced, or has another network card: record its MAC.", d.Name)},
	}
}

// lostIPv6 reports a hostname whose device no longer has the IPv6 address that is answered.
func lostIPv6(h HostnameEvidence) Finding {
	return Finding{
		Cause: CauseDeviceIPv6, Hop: HopHostname, Subject: "hostname " + string(h.Name),
		Summary:  fmt.Sprintf("%s answers an IPv6 address that %s no longer has", h.Name, h.Device),
		Evidence: []string{fmt.Sprintf("an agent looked three times in a row: %s is there, without it and without another", h.Device)},
		Next: fmt.Sprintf("See whether %s still has IPv6, and whether the router still gives a prefix to its LAN. The agent has "+
			"to be on the same LAN.", h.Device),
	}
}

// inRange reports devices whose address the router may give to another.
func (e Evidence) inRange() []Finding {
	var out []Finding
	for _, l := range e.Links {
		for _, d := range e.Devices {
			if !l.Dynamic.Contains(d.Address) {
				continue
			}
			f := Finding{
				Cause: CauseInDynamicRange, Hop: HopDevice, Subject: "device " + d.Name,
				Summary:  fmt.Sprintf("The router may give %s, which is %s's, to another device", d.Address, d.Name),
				Evidence: []string{fmt.Sprintf("the router gives out %s, and %s has no reservation", l.Dynamic, d.Name)},
				Next: fmt.Sprintf("In the router, reserve an address outside %s for %s, and record it.", l.Dynamic,
					orElse(d.MAC, d.Name)),
			}
			if d.Reserved {
				f.Evidence = []string{fmt.Sprintf("the reservation of %s lies inside what the router gives out, %s: some routers do "+
					"not leave it out", d.Name, l.Dynamic)}
			}
			out = append(out, f)
		}
	}
	return out
}

// translated explains a link on which nothing gets in by what stands in front of its router.
func (e Evidence) translated(l LinkEvidence, cut []ServiceEvidence) (f Finding, ok bool) {
	f = Finding{Subject: "link " + l.Label, Services: serviceNames(cut), Evidence: append(seen(cut), l.NAT.Words)}
	switch l.NAT.Verdict {
	case wan.NATCarrier:
		f.Cause, f.Hop = CauseCarrierNAT, HopUpstream
		f.Summary = fmt.Sprintf("%s translates in front of link %s: no forward works", provider(l.Link), l.Label)
	case wan.NATDouble:
		f.Cause, f.Hop = CauseDoubleNAT, HopUpstream
		f.Summary = fmt.Sprintf("Another device translates in front of the router of link %s", l.Label)
	default:
		return f, false
	}
	if len(l.NAT.Chain) > 1 {
		var hops []string
		for _, h := range l.NAT.Chain {
			hops = append(hops, h.String())
		}
		f.Evidence = append(f.Evidence, "on the way out: "+strings.Join(hops, ", then "))
	}
	f.Next = strings.Join(l.NAT.Remedies, " ")
	return f, true
}

// refusalsMin is how many refusals are worth reporting: one is a slip.
const refusalsMin = 3

// atSite reports what is wrong at the site although everything may still work.
func (e Evidence) atSite(l LinkEvidence) []Finding {
	var out []Finding
	if l.Resolver != "" {
		out = append(out, Finding{
			Cause: CauseSiteResolver, Hop: HopAddress, Subject: "link " + l.Label,
			Summary:  "The resolver at the site does not resolve the server's name",
			Evidence: []string{l.Resolver, "the agent goes on with the address that the name had last: the link itself works"},
			Next:     "Set a working resolver in the router, or on the agent's machine.",
		})
	}
	var refused []string
	for _, r := range l.Refused {
		if r.Count >= refusalsMin {
			refused = append(refused, fmt.Sprintf("%d times, from %s: %s", r.Count, r.From, r.Reason))
		}
	}
	if len(refused) > 0 {
		out = append(out, Finding{
			Cause: CauseKeyRefused, Hop: HopAddress, Subject: "link " + l.Label,
			Summary:  fmt.Sprintf("Announcements of link %s are refused", l.Label),
			Evidence: refused,
			Next: fmt.Sprintf("Correct it at the site. A new key: inkpost agent invite %s %s for an agent, inkpost agent "+
				"router-url %s %s for a router.", e.Site.Code, l.Label, e.Site.Code, l.Label),
		})
	}
	if l.Failing {
		f := Finding{
			Cause: CauseLinkFailing, Hop: HopAddress, Subject: "link " + l.Label,
			Summary:  fmt.Sprintf("Link %s is down", l.Label),
			Evidence: []string{e.heard(l)},
			Next:     fmt.Sprintf("Look at the modem and router of link %s; then report the line to %s.", l.Label, provider(l.Link)),
		}
		links := make([]site.Link, len(e.Links))
		for i, x := range e.Links {
			links[i] = x.Link
		}
		if other, ok := site.Preferred(slices.Values(links)); ok && other.ID != l.ID {
			f.Evidence = append(f.Evidence, fmt.Sprintf("hostnames that follow the preferred link lead to link %s (%s) meanwhile",
				other.Label, other.Addresses()))
		}
		out = append(out, f)
	}
	return out
}

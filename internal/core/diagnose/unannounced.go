package diagnose

import (
	"fmt"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
)

// quiet reports whether whoever announces a link's address has not been heard since its services began to fail: a failure is believed
// only when an announcement has had the time to come, and so its silence belongs to what happened.
func (e Evidence) quiet(l LinkEvidence, cut []ServiceEvidence) bool {
	if !l.Announced || len(cut) == 0 {
		return false
	}
	first := cut[0].Turned
	for _, s := range cut {
		if s.Turned.Before(first) {
			first = s.Turned
		}
	}
	return !l.Heard.IsZero() && !l.Heard.After(first)
}

// unannounced explains a link at whose address somebody answers, but not the site, since nothing is heard of the site. Where nobody
// answers at all, that is another matter.
func (e Evidence) unannounced(l LinkEvidence, cut []ServiceEvidence) (f Finding, ok bool) {
	answered := false
	for _, s := range cut {
		switch s.Outcome {
		case probe.Stranger, probe.Garbled, probe.Refused, probe.Opened:
			answered = true
		}
	}
	for _, s := range e.Services {
		if s.OnLink == l.Label && (s.proven() || s.State == probe.StateImpaired) {
			return f, false
		}
	}
	if !answered {
		return f, false
	}
	evidence := append(seen(cut), prints(cut)...)
	for _, s := range cut {
		if s.Quarantine != "" {
			evidence = append(evidence, s.Quarantine)
			break
		}
	}
	return Finding{
		Cause: CauseUnannounced, Hop: HopAddress, Subject: "link " + l.Label, Services: serviceNames(cut),
		Summary:  fmt.Sprintf("The site seems to have another address than %s, and nothing has announced it", l.Addresses()),
		Evidence: append(evidence, e.heard(l)),
		Next: fmt.Sprintf("Find out the site's present address: call someone there, or look at the customer page of %s. "+
			"See why %s does not announce it: is it on, and does it reach this server?",
			provider(l.Link), announcer(l)),
		Also: []string{fmt.Sprintf("The line is down, and %s has given the address to another customer.", provider(l.Link))},
	}, true
}

func announcer(l LinkEvidence) string {
	if l.Agent {
		return "the agent"
	}
	return "the router"
}

// addressHeld explains services that fail while the link's new address is not followed: they are looked for at the old one.
func (e Evidence) addressHeld(l LinkEvidence, cut []ServiceEvidence) Finding {
	return Finding{
		Cause: CauseAddressHeld, Hop: HopAddress, Subject: "link " + l.Label, Services: serviceNames(cut),
		Summary:  fmt.Sprintf("Link %s reports another address, which is not followed", l.Label),
		Evidence: append([]string{l.Held}, seen(cut)...),
		Next:     fmt.Sprintf("See what each source says, and why it is not followed: inkpost link show %s %s", e.Site.Code, l.Label),
	}
}

// settlingWords say on a path that nothing is decided yet.
func settlingWords(now, turned time.Time) string {
	return fmt.Sprintf("settling: it failed %s ago, and whoever announces the address is being asked", spoken(now.Sub(turned)))
}

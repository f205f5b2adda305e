package diagnose

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

// recognised explains, on one link, what the fingerprints and the several vantage points show, and gives the failing
// services that are left to be explained otherwise.
func (e Evidence) recognised(l LinkEvidence, cut []ServiceEvidence) (out []Finding, rest []ServiceEvidence) {
	var elsewhere, oneSide []ServiceEvidence
	for _, s := range cut {
		switch {
		case s.Outcome == probe.Stranger && s.Quarantine != "":
			elsewhere = append(elsewhere, s)
		case s.Outcome == probe.Stranger:
			out = append(out, e.stranger(s))
		case s.State == probe.StateImpaired:
			oneSide = append(oneSide, s)
		default:
			rest = append(rest, s)
		}
	}
	if len(elsewhere) > 0 {
		out = append(out, e.somebodyElse(l, elsewhere))
	}
	if len(oneSide) > 0 {
		out = append(out, e.oneSide(l, oneSide))
	}
	return out, rest
}

func (e Evidence) somebodyElse(l LinkEvidence, list []ServiceEvidence) Finding {
	return Finding{
		Cause: CauseSomebodyElse, Hop: HopAddress, Subject: "link " + l.Label, Services: serviceNames(list),
		Summary:  fmt.Sprintf("%s now appears to belong to someone else", l.Addresses()),
		Evidence: append(append(seen(list), prints(list)...), e.heard(l)),
		Next: fmt.Sprintf("Find out the site's present address: call someone there, or look at the provider's (%s) customer page. "+
			"Nothing is probed at %s until the link is proven again.",
			provider(l.Link), l.Addresses()),
		Also: []string{"The devices were replaced while the agent was off."},
	}
}

func prints(list []ServiceEvidence) (out []string) {
	for _, s := range list {
		if s.Outcome == probe.Stranger {
			out = append(out, fmt.Sprintf("%s shows %s; pinned is %s", s.Name, s.Fingerprint, s.Service.Fingerprint))
		}
	}
	return out
}

func (e Evidence) stranger(s ServiceEvidence) Finding {
	return Finding{
		Cause: CauseStranger, Hop: HopService, Subject: "service " + s.Name, Services: []string{s.Name},
		Summary:  fmt.Sprintf("%s answers, but it is not the %s that was commissioned", s.port(), s.Name),
		Evidence: append(seen([]ServiceEvidence{s}), prints([]ServiceEvidence{s})...),
		Next: fmt.Sprintf("Ask whether %s was replaced, reset or given a new certificate. If so, pin what it shows now: inkpost "+
			"service pin %s %s. If nobody knows of it, take the forward away first.", s.Device, e.Site.Code, s.Name),
		Also: []string{fmt.Sprintf("The forward of %s leads to another device.", s.port())},
	}
}

// oneSide explains services that some vantage points reach and others do not.
func (e Evidence) oneSide(l LinkEvidence, list []ServiceEvidence) Finding {
	var reached, not []string
	for _, s := range list {
		for _, v := range s.counting() {
			if v.Outcome.Good() && !slices.Contains(reached, v.Vantage) {
				reached = append(reached, v.Vantage)
			}
			if !v.Outcome.Good() && !slices.Contains(not, v.Vantage) {
				not = append(not, v.Vantage)
			}
		}
	}
	var evidence []string
	for _, s := range list {
		var words []string
		for _, v := range s.counting() {
			words = append(words, fmt.Sprintf("%s from %s", v.Outcome, v.Vantage))
		}
		evidence = append(evidence, fmt.Sprintf("%s (%s): %s", s.Name, s.port(), strings.Join(words, ", ")))
	}
	return Finding{
		Cause: CauseOneSide, Hop: HopVantage, Subject: "link " + l.Label, Services: serviceNames(list),
		Summary: fmt.Sprintf("Reached from %s, but not from %s", orElse(strings.Join(reached, ", "), "some vantage points"),
			orElse(strings.Join(not, ", "), "others")),
		Evidence: evidence,
		Next: fmt.Sprintf("Look whether the router or %s blocks some networks (a country list, an address list, attack protection). "+
			"If not, report the way to %s: give both ends.",
			orElse(strings.Join(devices(list), ", "), "the device"), provider(l.Link)),
	}
}

func devices(list []ServiceEvidence) (out []string) {
	for _, s := range list {
		if !slices.Contains(out, s.Device) {
			out = append(out, s.Device)
		}
	}
	return out
}

// routerAnswers reports services that answer outside while their device, looked at from inside, does not: somebody else on the way answers,
// most often the router itself.
func (e Evidence) routerAnswers(l LinkEvidence) (out []Finding) {
	for _, s := range e.Services {
		look, ok := e.inside(s.Device)
		if s.OnLink != l.Label || s.OnRouter || !ok || !s.Outcome.Open() || s.Transport == probe.UDP || look.At.Before(s.Turned) ||
			look.Ports[s.Name] != "refused" {
			continue
		}
		d, _ := e.device(s.Device)
		out = append(out, Finding{
			Cause: CauseRouterAnswers, Hop: HopForward, Subject: "service " + s.Name, Services: []string{s.Name},
			Summary: fmt.Sprintf("%s is answered outside, but %s refuses it inside: the router or another device answers instead",
				s.port(), s.Device),
			Evidence: append(seen([]ServiceEvidence{s}),
				fmt.Sprintf("from inside, %s port %s of %s is refused", s.Transport, site.Ports(s.InternalFrom, 0), d.Address)),
			Next: fmt.Sprintf("See in the router whether its own page, VPN or provider's access uses %s; move one of the two to "+
				"another port.", s.port()),
		})
	}
	return out
}

// certificateSoon is how long before its end a certificate is reported.
const certificateSoon = 14 * 24 * time.Hour

func (e Evidence) certificates(l LinkEvidence) (out []Finding) {
	for _, s := range e.Services {
		left := s.Expires.Sub(e.Now)
		if s.OnLink != l.Label || s.Expires.IsZero() || left > certificateSoon || s.Expected != probe.ExpectReachable {
			continue
		}
		words := fmt.Sprintf("The certificate of %s expires in %s", s.Name, spoken(left))
		if left <= 0 {
			words = fmt.Sprintf("The certificate of %s expired %s ago", s.Name, spoken(-left))
		}
		out = append(out, Finding{
			Cause: CauseCertificate, Hop: HopService, Subject: "service " + s.Name, Services: []string{s.Name}, Summary: words,
			Evidence: []string{fmt.Sprintf("it is valid until %s", s.Expires.UTC().Format(time.DateOnly))},
			Next:     fmt.Sprintf("Renew it on %s, and make sure that it renews itself. With a new key, pin what is shown then.", s.Device),
		})
	}
	return out
}

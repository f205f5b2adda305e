package diagnose

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

// Findings of what is seen directly: nothing has to be weighed.

// refusalsMin is how many refusals are worth reporting: one is a slip.
const refusalsMin = 3

// atSite reports what is wrong at the site although everything may still work.
func (e Evidence) atSite(l LinkEvidence) (out []Finding) {
	subject, p := "link "+l.Label, e.ofLink(l)
	if l.Resolver != "" {
		out = append(out, finding("site-resolver", subject, p, l.Resolver,
			"the agent goes on with the address that the name had last: the link itself works"))
	}
	if refused := refusals(l, refusalsMin); len(refused) > 0 {
		out = append(out, finding("key-refused", subject, p, refused...))
	}
	if l.Failing && !e.allDown() {
		f := finding("link-failing", subject, p, e.heard(l))
		f.Services = serviceNames(e.where(func(s ServiceEvidence) bool { return s.OnLink == l.Label && s.failing() }))
		if other, ok := e.preferred(l.Link); ok {
			f.Evidence = append(f.Evidence, fmt.Sprintf("hostnames that follow the preferred link lead to link %s (%s) meanwhile",
				other.Label, other.Addresses()))
		}
		out = append(out, f)
	}
	return out
}

// allDown reports whether none of several links of the site works.
func (e Evidence) allDown() bool {
	return len(e.Links) > 1 && !slices.ContainsFunc(e.Links, func(l LinkEvidence) bool { return !l.Failing })
}

// siteDark says that a site with several links is dark: one fault, and not one for each of them.
func (e Evidence) siteDark() Finding {
	p := e.ofSite()
	var addresses, providers, heard []string
	for _, l := range e.Links {
		addresses, heard = append(addresses, l.Addresses().String()), append(heard, e.heard(l))
		if !slices.Contains(providers, provider(l.Link)) {
			providers = append(providers, provider(l.Link))
		}
	}
	p["address"], p["provider"] = strings.Join(addresses, " and "), strings.Join(providers, " and ")
	f := finding("site-dark", "site "+e.Site.Code, p, heard...)
	f.Services = serviceNames(e.where(func(s ServiceEvidence) bool { return s.failing() }))
	return f
}

func refusals(l LinkEvidence, least int) (out []string) {
	for _, r := range l.Refused {
		if r.Count >= least {
			out = append(out, fmt.Sprintf("%d times, from %s: %s", r.Count, r.From, r.Reason))
		}
	}
	return out
}

// shownBeside reports what services show although they can be reached.
func (e Evidence) shownBeside(l LinkEvidence) (out []Finding) {
	for _, s := range e.Services {
		if s.OnLink != l.Label {
			continue
		}
		// It was reached before the look and after it: somebody who is not the device answers.
		if look, ok := e.inside(s.Device); ok && !s.OnRouter && s.Outcome.Good() && s.Transport != probe.UDP && !look.At.Before(s.Turned) &&
			s.Probed.After(look.At) &&
			look.Ports[s.Name] == "refused" && look.Found == "" {
			d, _ := e.device(s.Device)
			out = append(out, e.about("router-answers", l, s, append(seen([]ServiceEvidence{s}),
				fmt.Sprintf("from inside, %s port %s of %s is "+
					"refused", s.Transport, site.Ports(s.InternalFrom, 0), d.Address))...))
		}
		if f, ok := e.certificate(l, s); ok {
			out = append(out, f)
		}
	}
	return append(out, e.strained(l)...)
}

// certificateSoon is how long before its end a certificate is reported.
const certificateSoon = 14 * 24 * time.Hour

func (e Evidence) certificate(l LinkEvidence, s ServiceEvidence) (f Finding, ok bool) {
	left := s.Expires.Sub(e.Now)
	if s.Expires.IsZero() || left > certificateSoon && !s.Misnamed || s.Expected != probe.ExpectReachable {
		return f, false
	}
	until := "it is valid until " + s.Expires.UTC().Format(time.DateOnly)
	switch {
	case left <= 0:
		f = e.about("certificate-expired", l, s, until, fmt.Sprintf("it expired %s ago", spoken(-left)))
	case s.Misnamed:
		f = e.misnamed(l, s)
	default:
		f = e.about("certificate-expiring", l, s, until, fmt.Sprintf("it expires in %s", spoken(left)))
	}
	f.CutOff = s.turnedDown() && s.failing()
	return f, true
}

// misnamed says that a certificate is made out to another name.
func (e Evidence) misnamed(l LinkEvidence, s ServiceEvidence) Finding {
	p := e.ofServices(l, []ServiceEvidence{s})
	p["names"] = orElse(strings.Join(s.CertificateFor, ", "), "no name")
	for _, h := range e.Hostnames {
		if h.Link == "" || h.Link == l.Label {
			p["hostname"] = string(h.Name)
			break
		}
	}
	f := finding("certificate-name", "service "+s.Name, p, "it is made out to "+p["names"])
	f.Services = []string{s.Name}
	return f
}

// turnedDown reports a service that is not taken for its certificate alone: nothing has to be weighed.
func (s ServiceEvidence) turnedDown() bool {
	return s.Options.Get().Certificate == "checked" && s.Outcome == probe.Garbled && !s.Expires.IsZero()
}

// addressUnknown reports a link of which no address is known.
func (e Evidence) addressUnknown(l LinkEvidence) (f Finding, ok bool) {
	on := e.where(func(s ServiceEvidence) bool { return s.OnLink == l.Label })
	if len(on) == 0 && !l.Agent || l.beginning(e.Now) {
		return f, false
	}
	f = finding("address-unknown", "link "+l.Label, e.ofLink(l), "nothing has announced an address for this link")
	look := causes.Fill("inkpost link show {site} {link}", e.ofLink(l))
	refused := refusals(l, 1)
	switch {
	case len(refused) > 0:
		f.Evidence = refused
		f.Next = "Something announces for this link, and is refused: the reason says what to correct, at the site or here."
	case l.Held != "":
		f.Evidence = []string{e.heard(l), l.Held}
		f.Next = "The agent is heard; what it says is not followed, for the reason above. What each of its sources says: " + look
	case l.Agent && !l.Heard.IsZero():
		f.Evidence = []string{e.heard(l), "none of its sources gives an address that can be reached from outside"}
		f.Next = "See what its sources say: " + look
	}
	return f, true
}

// overdue reports whoever announces a link and is silent, while services still answer.
func (e Evidence) overdue(l LinkEvidence) Finding {
	f := finding("updater-overdue", "link "+l.Label, e.ofLink(l), e.heard(l))
	if !l.Agent {
		f.Evidence = []string{fmt.Sprintf("it announced every %s, and was heard last %s ago", spoken(l.Rhythm), spoken(e.Now.Sub(l.Heard)))}
		f.Next = "Look at the router's page for dynamic names: does it still have the URL and the key, and what did it get as an answer?"
	}
	working := e.where(func(s ServiceEvidence) bool { return s.OnLink == l.Label && s.proven() })
	if len(working) > 0 {
		f.Evidence = append(f.Evidence, fmt.Sprintf("%s still reachable at %s", strings.Join(serviceNames(working), ", "), l.Addresses()))
	}
	return f
}

// inRange reports devices whose address the router may give to another.
func (e Evidence) inRange() (out []Finding) {
	for _, l := range e.Links {
		for _, d := range e.Devices {
			if !l.Dynamic.Contains(d.Address) {
				continue
			}
			f := finding("in-dynamic-range", "device "+d.Name, e.ofDevice(d.Name),
				fmt.Sprintf("the router gives out %s, and %s has no reservation", l.Dynamic, d.Name))
			if d.Reserved {
				f.Evidence = []string{fmt.Sprintf("the reservation of %s lies inside what the router gives out, %s: some routers do "+
					"not leave it out", d.Name, l.Dynamic)}
			}
			f.Next = fmt.Sprintf("In the router, reserve an address outside %s for %s, and record it.", l.Dynamic, orElse(d.MAC, d.Name))
			out = append(out, f)
		}
	}
	return out
}

// names reports what is wrong with the site's hostnames.
func (e Evidence) names() []Finding {
	out := e.held()
	for _, h := range e.Hostnames {
		subject, p := "hostname "+string(h.Name), e.ofDevice(h.Device)
		p["hostname"], p["zone"] = string(h.Name), string(h.Zone)
		if h.Want.IsValid() {
			p["want"] = h.Want.String()
		}
		switch {
		case h.LostIPv6:
			out = append(out, finding("device-ipv6-lost", subject, p,
				fmt.Sprintf("an agent looked three times in a row: %s is there, without it and without another", h.Device)))
		case h.State != names.StateStale:
		case len(h.Behind) > 0 && h.Given == h.Want:
			out = append(out, finding("resolver-behind", subject, p, h.Behind...))
		case !h.Given.IsValid():
			out = append(out, finding("name-missing", subject, p, fmt.Sprintf("the name server of %s was asked and gave no address",
				h.Zone)))
		default:
			p["given"] = h.Given.String()
			out = append(out, finding("name-stale", subject, p, fmt.Sprintf("the name server of %s was asked and gave %s", h.Zone,
				h.Given)))
		}
	}
	return out
}

// held says which remote zones do not take this site's names, one finding a zone: it is one primary that has the trouble.
func (e Evidence) held() []Finding {
	byZone := map[names.Name][]HostnameEvidence{}
	var order []names.Name
	for _, h := range e.Hostnames {
		if h.State != names.StateHeld || h.Push.Problem == "" {
			continue
		}
		if byZone[h.Zone] == nil {
			order = append(order, h.Zone)
		}
		byZone[h.Zone] = append(byZone[h.Zone], h)
	}
	var out []Finding
	for _, zone := range order {
		list := byZone[zone]
		push := list[0].Push
		slug := causes.Slug("primary-refuses")
		if push.Problem == PushUnreachable {
			slug = "primary-away"
		}
		words := make([]string, len(list))
		for i, h := range list {
			words[i] = string(h.Name)
		}
		p := e.ofSite()
		p["zone"], p["primary"], p["hostname"] = string(zone), push.Primary, strings.Join(words, ", ")
		out = append(out, finding(slug, "zone "+string(zone), p, fmt.Sprintf("its primary %s: %s", push.Primary, push.Detail),
			fmt.Sprintf("tried %d times in %s", push.Tries, spoken(e.Now.Sub(push.Since)))))
	}
	return out
}

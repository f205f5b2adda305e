package diagnose

import (
	"fmt"
	"slices"
	"strings"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

// evidence says what was seen, and what of it speaks for a cause.
func (e Evidence) evidence(l LinkEvidence, list []ServiceEvidence, known causes.Seen, best causes.Ranked) []string {
	out := append(seen(list), prints(list)...)
	for _, line := range e.reasons(l, list, known, best.For) {
		if !slices.Contains(out, line) {
			out = append(out, line)
		}
	}
	if known[causes.Alive] == causes.Quiet || known[causes.Alive] == causes.Heard {
		if line := e.heard(l); !slices.Contains(out, line) {
			out = append(out, line)
		}
	}
	for _, s := range list {
		if s.Quarantine != "" {
			return append(out, s.Quarantine)
		}
	}
	return out
}

// seen says of each service what came back.
func seen(list []ServiceEvidence) []string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = fmt.Sprintf("%s (%s) at %s: %s, %d times in a row", s.Name, s.port(), s.Address, s.Outcome, s.InRow)
		switch {
		case s.ICMP.Came() && s.Outcome == probe.Silent:
			out[i] += ", and once: " + s.ICMP.String()
		case s.ICMP.Came():
			out[i] += ": " + s.ICMP.String()
		case s.Message != "" && s.Outcome == probe.Garbled:
			out[i] += ": " + s.Message
		}
		if !s.Service.Forwarded() || len(s.Ways) > 1 {
			out[i] += overWays(s)
		}
	}
	return out
}

func overWays(s ServiceEvidence) (words string) {
	for _, w := range s.Ways {
		over := "over IPv6, by the pinhole"
		if w.Reach == site.ByForward {
			over = "over IPv4, by the forward"
		}
		words += fmt.Sprintf("; %s at %s, it is %s", over, w.Target, w.Outcome)
	}
	return words
}

func prints(list []ServiceEvidence) (out []string) {
	for _, s := range list {
		if s.Outcome == probe.Stranger {
			out = append(out, fmt.Sprintf("%s shows %s; pinned is %s", s.Name, s.Fingerprint, s.Service.Fingerprint))
		}
	}
	return out
}

// reasons puts signs into words, with their times. What goes without saying is left out.
func (e Evidence) reasons(l LinkEvidence, list []ServiceEvidence, known causes.Seen, signs []causes.Sign) (out []string) {
	for _, sign := range signs {
		for _, line := range e.reason(l, list, sign, known[sign]) {
			if line != "" && !slices.Contains(out, line) {
				out = append(out, line)
			}
		}
	}
	return out
}

// objections puts signs that speak against a cause into words, also those that otherwise go without saying.
func (e Evidence) objections(l LinkEvidence, list []ServiceEvidence, known causes.Seen, signs []causes.Sign) (out []string) {
	for _, sign := range signs {
		lines := e.reasons(l, list, known, []causes.Sign{sign})
		if len(lines) == 0 {
			lines = []string{brief(sign, known[sign])}
		}
		out = append(out, lines...)
	}
	return out
}

func (e Evidence) reason(l LinkEvidence, list []ServiceEvidence, sign causes.Sign, v causes.Value) []string {
	s := list[0]
	d, _ := e.device(s.Device)
	r, _ := e.inside(s.Device)
	ago := spoken(e.Now.Sub(r.At)) + " ago"
	switch sign {
	case causes.Outside:
		return seen(list)
	case causes.Way, causes.Transport, causes.Held, causes.Together, causes.Vantages, causes.Port, causes.Asleep, causes.Provider,
		causes.WAN:
		return []string{e.seldomSaid(l, list, sign, v)}
	case causes.Reach:
		return reachWords(list, e)
	case causes.Inside:
		var out []string
		for _, x := range list {
			out = append(out, e.insideLine(x, ago))
		}
		return out
	case causes.Device:
		return e.whereabouts(d, r)
	case causes.Siblings:
		switch v {
		case causes.Work:
			return []string{fmt.Sprintf("other services on %s can be reached, so the device is on", d.Name)}
		case causes.Fail:
			return []string{fmt.Sprintf("no service of %s can be reached", d.Name)}
		}
		return nil
	case causes.Others:
		return []string{e.others(l, s, v)}
	case causes.Alive:
		return []string{e.heard(l)}
	case causes.NAT:
		return natWords(l)
	case causes.Mapping:
		return []string{e.listed(l, s)}
	case causes.Elsewhere:
		return []string{s.elsewhereWords(l)}
	case causes.Restarted:
		return []string{e.since(l)}
	case causes.Asked:
		return []string{fmt.Sprintf("%s, %s ago", s.Trial.Why, spoken(e.Now.Sub(s.Trial.At)))}
	}
	return []string{brief(sign, v)}
}

func briefly(signs []causes.Sign, known causes.Seen) (out []string) {
	for _, s := range signs {
		out = append(out, brief(s, known[s]))
	}
	return out
}

// brief says a sign in a few words.
func brief(sign causes.Sign, v causes.Value) string { return sign.String() + ": " + sign.Words(v) }

// seldomSaid are reasons that are said only where they are not the rule.
func (e Evidence) seldomSaid(l LinkEvidence, list []ServiceEvidence, sign causes.Sign, v causes.Value) string {
	s := list[0]
	r, _ := e.inside(s.Device)
	switch {
	case sign == causes.Held && v == causes.Yes:
		return l.Held
	case sign == causes.Together && v == causes.Yes && len(list) > 1:
		return fmt.Sprintf("they failed at one time, %s ago", spoken(e.Now.Sub(began(list))))
	case sign == causes.Together && v == causes.No:
		return "they failed one after another"
	case sign == causes.Vantages && v == causes.Some:
		return vantageWords(list)
	case sign == causes.Port && v == causes.OftenBlocked:
		return fmt.Sprintf("%s is one that providers often block", s.port())
	case sign == causes.Asleep && v == causes.Yes:
		return strings.Join(r.pattern(e.Now), "")
	case sign == causes.Asleep:
		return fmt.Sprintf("%s is usually there at this time of the day", s.Device)
	case sign == causes.Provider && v == causes.Many:
		return fmt.Sprintf("%d other sites of %s went dark within ten minutes", l.DarkWith, provider(l.Link))
	case sign == causes.Provider:
		return fmt.Sprintf("other sites of %s can be reached", provider(l.Link))
	case sign == causes.Way && v == causes.ByPinhole:
		return "it fails at the device's own IPv6 address, which is not translated"
	}
	return ""
}

func vantageWords(list []ServiceEvidence) string {
	var lines []string
	for _, s := range list {
		var words []string
		for _, v := range s.counting() {
			words = append(words, fmt.Sprintf("%s from %s", v.Outcome, v.Vantage))
		}
		lines = append(lines, fmt.Sprintf("%s (%s): %s", s.Name, s.port(), strings.Join(words, ", ")))
	}
	return strings.Join(lines, "; ")
}

// reachWords say how far packets got.
func reachWords(list []ServiceEvidence, e Evidence) (out []string) {
	for _, s := range list {
		if s.Series == nil {
			continue
		}
		var lines []string
		for _, a := range s.Series.Answers {
			word := string(a.Reply)
			if a.ICMP.Came() {
				word = string(a.ICMP.Notice()) + " from " + a.ICMP.From.String()
			}
			lines = append(lines, fmt.Sprintf("%d: %s", a.Limit, word))
		}
		words := fmt.Sprintf("packets to %s with a hop limit, %s ago: %s", s.port(), spoken(e.Now.Sub(s.Series.At)), strings.Join(lines,
			", "))
		if c := s.Series.Calibration; c.Router > 0 {
			words += fmt.Sprintf("; a port that works is passed on at %d and answers at %d", c.Router, c.Open)
		}
		out = append(out, words)
	}
	return out
}

// insideLine says what a port says from inside.
func (e Evidence) insideLine(s ServiceEvidence, ago string) string {
	r, ok := e.inside(s.Device)
	if !ok || r.Ports[s.Name] == "" {
		return ""
	}
	words := map[string]string{"open": "has %s open", "refused": "refuses %s, even from inside",
		"silent":     "keeps silent on %s, even from inside",
		"prohibited": "prohibits %s, even from inside", "hung": "accepts %s and says nothing, even from inside",
		"other": "answers as another on %s"}[r.Ports[s.Name]]
	if words == "" {
		return ""
	}
	return fmt.Sprintf("from inside, %s: %s "+words, ago, s.Device, s.inside())
}

// whereabouts says where an agent saw a device, and who has its address.
func (e Evidence) whereabouts(d site.Device, r DeviceReport) (out []string) {
	ago := fmt.Sprintf("from inside, %s ago: ", spoken(e.Now.Sub(r.At)))
	switch r.device(d) {
	case causes.Unseen:
		return nil
	case causes.There:
		return []string{ago + d.Name + " is there, at " + d.Address.String()}
	case causes.Away:
		return append([]string{fmt.Sprintf("%snobody answers at %s", ago, d.Address)}, r.pattern(e.Now)...)
	case causes.AwayTaken:
		return []string{fmt.Sprintf("%s%s answers at %s; %s has %s", ago, r.MAC, d.Address, d.Name, d.MAC)}
	}
	out = []string{fmt.Sprintf("%s%s answers at %s", ago, d.MAC, r.Found)}
	if taken(d, r) {
		out = append(out, fmt.Sprintf("another machine, %s, has %s", r.MAC, d.Address))
	}
	if d.Reserved {
		out = append(out, fmt.Sprintf("%s is recorded as reserved: the reservation is for another MAC, or inside what the router gives out",
			d.Address))
	}
	return out
}

func (e Evidence) others(l LinkEvidence, s ServiceEvidence, v causes.Value) string {
	working := e.where(func(x ServiceEvidence) bool { return x.OnLink == l.Label && x.Device != s.Device && x.proven() })
	switch v {
	case causes.Work:
		return fmt.Sprintf("%s can be reached at %s", strings.Join(serviceNames(working), ", "), l.Addresses())
	case causes.Fail:
		return "no service of another device can be reached either"
	}
	return ""
}

func natWords(l LinkEvidence) (out []string) {
	out = []string{l.NAT.Words}
	if len(l.NAT.Chain) > 1 {
		var hops []string
		for _, h := range l.NAT.Chain {
			hops = append(hops, h.String())
		}
		out = append(out, "on the way out: "+strings.Join(hops, ", then "))
	}
	return out
}

func (e Evidence) heard(l LinkEvidence) string {
	switch {
	case !l.Agent && l.Rhythm > 0:
		return fmt.Sprintf("the router on link %s announced last %s ago", l.Label, spoken(e.Now.Sub(l.Heard)))
	case l.Heard.IsZero():
		return "no agent was ever heard on link " + l.Label
	}
	return fmt.Sprintf("the agent on link %s was heard %s ago", l.Label, spoken(e.Now.Sub(l.Heard)))
}

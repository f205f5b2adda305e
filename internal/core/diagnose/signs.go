package diagnose

import (
	"slices"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
)

// signs says what is known of a failing service. What is older than its failure says nothing of why, and what is from the future is not
// believed.
func (e Evidence) signs(l LinkEvidence, s ServiceEvidence, failing []ServiceEvidence) (out causes.Seen) {
	out[causes.Outside] = outside(s, l)
	if byWay := saidOnTheWay(l, failing); out[causes.Outside] == causes.Silent && byWay != causes.Unseen {
		out[causes.Outside] = byWay
	}
	out[causes.Way], out[causes.Family] = ways(s)
	out[causes.Reach] = reach(s, l)
	out[causes.Transport] = causes.OverTCP
	if s.Transport == probe.UDP {
		out[causes.Transport] = causes.OverUDP
	}
	out[causes.Port] = causes.Ordinary
	if slices.Contains(oftenBlocked, s.ExternalFrom) && s.Transport != probe.UDP {
		out[causes.Port] = causes.OftenBlocked
	}
	if s.Outcome == probe.Stranger {
		out[causes.Shown] = e.shown(s)
	}
	out[causes.Provider] = l.neighbours()
	out[causes.Alive] = l.alive(failing, e.Now)
	e.fromInside(l, s, &out)
	out[causes.Siblings] = e.around(l, s, func(x ServiceEvidence) bool { return x.Device == s.Device })
	out[causes.Others] = e.around(l, s, func(x ServiceEvidence) bool { return x.Device != s.Device })
	if out[causes.Siblings] == causes.Work || out[causes.Others] == causes.Work {
		out[causes.Alive] = causes.Unseen // it is alive, whether or not somebody announces it
	}
	if out[causes.Device] == causes.Away && (out[causes.Siblings] == causes.Work || out[causes.Family] == causes.OtherWorks) {
		out[causes.Device], out[causes.Asleep] = causes.Unseen, causes.Unseen // it answers: whoever looked has missed it
	}
	out[causes.NAT] = map[wan.Verdict]causes.Value{wan.NATDirect: causes.Direct, wan.NATDouble: causes.Double,
		wan.NATCarrier: causes.Carrier}[l.NAT.Verdict]
	if out[causes.NAT] == causes.Carrier && e.passedOn(l) {
		out[causes.NAT] = causes.Double // the provider does pass on what it was asked to
	}
	if out[causes.Way] == causes.ByPinhole {
		out[causes.NAT] = causes.Unseen // IPv6 is not translated
	}
	out[causes.Held] = yes(l.Held != "")
	out[causes.Together] = together(failing)
	out[causes.Vantages] = s.seenBy()
	out[causes.Elsewhere] = s.elsewhere()
	if out[causes.Way] == causes.ByForward {
		e.fromRouter(l, s, &out)
	}
	if l.Gateway.IsValid() && l.IPv4.IsValid() {
		out[causes.WAN] = causes.Differs
		if l.Gateway == l.IPv4 {
			out[causes.WAN] = causes.Same
		}
	}
	return out
}

// passedOn reports whether a forward of the link is known to work.
func (e Evidence) passedOn(l LinkEvidence) bool {
	return slices.ContainsFunc(e.Services, func(x ServiceEvidence) bool {
		return x.OnLink == l.Label && x.Forwarded() && !x.Pinholed() && x.proven() && x.Outcome.Good()
	})
}

// oftenBlocked are TCP ports that providers are known not to let in.
var oftenBlocked = []int{23, 25, 80, 135, 137, 138, 139, 445}

func yes(b bool) causes.Value {
	if b {
		return causes.Yes
	}
	return causes.No
}

// ways says which way fails, and how the other one of a service that has two does.
func ways(s ServiceEvidence) (way, family causes.Value) {
	if s.OnRouter {
		return causes.OnRouter, causes.Unseen
	}
	way = causes.ByForward
	if !s.Forwarded() {
		way = causes.ByPinhole
	}
	var bad, good, left int
	for _, w := range s.Ways {
		switch {
		case w.Outcome == probe.Skipped:
			left++
		case w.Outcome.Good():
			good++
		default:
			if bad++; bad == 1 || w.Reach == site.ByForward {
				way = causes.ByForward
				if w.Reach == site.ByPinhole {
					way = causes.ByPinhole
				}
			}
		}
	}
	switch {
	case bad > 0 && good > 0:
		family = causes.OtherWorks
	case bad > 1 && left == 0:
		family = causes.OtherFails
	}
	return way, family
}

// reach says how far packets got, and to which of the devices that translate.
func reach(s ServiceEvidence, l LinkEvidence) causes.Value {
	series := s.Series
	if series == nil || series.At.Before(s.Turned) {
		return causes.Unseen
	}
	double := l.NAT.Verdict == wan.NATDouble || l.NAT.Verdict == wan.NATCarrier || series.Calibration.NATs > 1
	direct := !double && (l.NAT.Verdict == wan.NATDirect || series.Calibration.NATs == 1)
	first := func(ofRouter, ofModem, ofSite causes.Value) causes.Value {
		switch {
		case double:
			return ofModem
		case direct:
			return ofRouter
		}
		return ofSite
	}
	switch series.Distance {
	case probe.PassedOn:
		if double && series.Calibration.NATs < 2 {
			return causes.Unseen // the one behind it may still be where it ends
		}
		return causes.PassedOn
	case probe.EndsAtFirst:
		return first(causes.StoppedRouter, causes.StoppedModem, causes.StoppedSite)
	case probe.EndsAtInner:
		return causes.StoppedRouter
	case probe.EndsBefore:
		return causes.StoppedBefore
	case probe.RefusedByFirst:
		if s.OnRouter {
			return causes.RefusedBehind
		}
		return first(causes.RefusedRouter, causes.RefusedModem, causes.RefusedSite)
	case probe.RefusedByInner:
		return causes.RefusedRouter
	case probe.RefusedBehind:
		return causes.RefusedBehind
	case probe.AnsweredByFirst:
		if s.OnRouter {
			return causes.AnsweredBehind
		}
		return causes.AnsweredRouter
	case probe.AnsweredBehind:
		return causes.AnsweredBehind
	}
	return causes.Unseen
}

// shown says whose fingerprint a stranger shows.
func (e Evidence) shown(s ServiceEvidence) causes.Value {
	for _, x := range e.Services {
		if x.Name == s.Name || s.Fingerprint == "" || x.Service.Fingerprint != s.Fingerprint {
			continue
		}
		if x.Device == s.Device {
			return causes.OwnOther
		}
		return causes.Sibling
	}
	return causes.Unknown
}

// insideWords are the words of agents for what a port says.
var insideWords = map[string]causes.Value{"open": causes.InOpen, "refused": causes.InRefused, "silent": causes.InSilent,
	"prohibited": causes.InProhibited, "hung": causes.InHung, "other": causes.InOther}

// fromInside adds what an agent saw of the service and its device. A look from before the move after which it fails counts, unless the site
// is dark.
func (e Evidence) fromInside(l LinkEvidence, s ServiceEvidence, out *causes.Seen) {
	seen, ok := e.inside(s.Device)
	dark := out[causes.Provider] == causes.Many || out[causes.Alive] == causes.Quiet
	if !ok || seen.At.Before(s.Turned) && (dark || !s.onlyMoved(l, seen.At)) {
		return
	}
	d, _ := e.device(s.Device)
	out[causes.Device] = seen.device(d)
	if out[causes.Device] == causes.There {
		out[causes.Inside] = insideWords[seen.Ports[s.Name]]
	}
	if out[causes.Inside] == causes.InOpen && !seen.Spoke[s.Name] && (s.Outcome == probe.Garbled || s.Outcome == probe.Stranger) {
		out[causes.Inside] = causes.Unseen // it opens; who answers was not asked
	}
	out[causes.Loopback] = e.loop(s, seen)
	if seen.looked() {
		_, _, asleep := seen.Hours.Asleep(e.Now)
		out[causes.Asleep] = yes(asleep)
	}
	if d.IPv6.IsValid() && s.Pinholed() {
		out[causes.Renewed] = yes(!seen.Renewed.IsZero() && e.Now.Sub(seen.Renewed) < renewedFor)
	}
}

// loop says what the public address and port said from inside, where the router is known to loop traffic back: it does for another service.
func (e Evidence) loop(s ServiceEvidence, seen DeviceReport) causes.Value {
	loops := false
	for _, x := range e.Services {
		r, ok := e.inside(x.Device)
		loops = loops || ok && x.Name != s.Name && x.OnLink == s.OnLink && r.Loop[x.Name] == "answers"
	}
	switch {
	case seen.Loop[s.Name] == "answers":
		return causes.LoopAnswers
	case loops && seen.Loop[s.Name] == "silent":
		return causes.LoopSilent
	}
	return causes.Unseen
}

// renewedFor is how long another IPv6 address of a device may be why a rule of the router is about the old one.
const renewedFor = 7 * 24 * time.Hour

// device says who has the device's address, and where it is.
func (r DeviceReport) device(d site.Device) causes.Value {
	other := taken(d, r)
	switch {
	case r.Found != "" && other:
		return causes.DriftedTaken
	case r.Found != "":
		return causes.Drifted
	case other:
		return causes.AwayTaken
	case r.Unsure:
		return causes.Unseen
	case r.Present:
		return causes.There
	}
	return causes.Away
}

// taken reports whether another machine has the device's recorded address.
func taken(d site.Device, s DeviceReport) bool {
	return d.MAC != "" && s.MAC != "" && !strings.EqualFold(s.MAC, d.MAC)
}

// around says how other services of the link do.
func (e Evidence) around(l LinkEvidence, s ServiceEvidence, which func(ServiceEvidence) bool) causes.Value {
	work, fail, pending := 0, 0, 0
	for _, x := range e.Services {
		if x.Name == s.Name || x.OnLink != l.Label || x.Expected != probe.ExpectReachable || !which(x) {
			continue
		}
		switch {
		case x.failing():
			fail++
		case x.proven() && x.Outcome.Good() && !x.Probed.Before(s.Turned):
			work++
		case x.Mute() && x.Outcome == probe.Silent:
		default:
			pending++
		}
	}
	switch {
	case work > 0:
		return causes.Work
	case pending > 0:
		return causes.Unseen
	case fail > 0:
		return causes.Fail
	}
	return causes.Unseen
}

// alive says whether the site was heard since its services began to fail.
func (l LinkEvidence) alive(failing []ServiceEvidence, now time.Time) causes.Value {
	announces := l.Announced || l.Agent
	switch {
	case !announces || l.Heard.IsZero() || len(failing) == 0:
		return causes.Unseen
	case l.Heard.After(began(failing)) && !l.Overdue:
		return causes.Heard
	case began(failing).Sub(l.Heard) > silentBefore:
		return causes.Unseen
	case now.Sub(l.Heard) <= wan.Patience(l.Every) && !l.Overdue:
		return causes.Unseen // it has not had the time to say something
	case l.Overdue, l.Announced:
		return causes.Quiet
	}
	return causes.Unseen
}

// silentBefore is how long somebody has to have been silent before a failure to be silent for reasons of their own.
const silentBefore = 5 * time.Minute

// began is when the first of some services began to fail.
func began(list []ServiceEvidence) (first time.Time) {
	for i, s := range list {
		if i == 0 || s.Turned.Before(first) {
			first = s.Turned
		}
	}
	return first
}

// together says whether services failed at one time: within two of their intervals.
func together(list []ServiceEvidence) causes.Value {
	if len(list) < 2 {
		return causes.Unseen
	}
	first, last, within := began(list), time.Time{}, time.Minute
	for _, s := range list {
		if s.Turned.After(last) {
			last = s.Turned
		}
		within = max(within, 2*time.Duration(s.Interval)*time.Second)
	}
	return yes(last.Sub(first) <= within)
}

// seenBy says whether all vantage points see a failure.
func (s ServiceEvidence) seenBy() causes.Value {
	good, bad := 0, 0
	for _, v := range s.counting() {
		switch {
		case v.Outcome.Good():
			good++
		case v.Outcome != probe.Skipped && v.Outcome != "":
			bad++
		}
	}
	switch {
	case good > 0 && bad > 0 && s.State == probe.StateImpaired:
		return causes.Some
	case good > 0 && bad > 0:
		return causes.Unseen // they have not looked at the same moment: it begins, or is over
	}
	return causes.All
}

// neighbours says whether many sites of the provider went dark with this one.
func (l LinkEvidence) neighbours() causes.Value {
	switch {
	case l.DarkWith >= manySites:
		return causes.Many
	case l.ProviderSites > manySites:
		return causes.Few
	}
	return causes.Unseen
}

// manySites of one provider that go dark together are an outage of the provider.
const manySites = 3

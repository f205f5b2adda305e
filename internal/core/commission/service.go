package commission

import (
	"cmp"
	"fmt"
	"time"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

// service returns the entry of a step for a service; false where the service does not have that step.
func (f Facts) service(step Step, s Service) (Entry, bool) {
	switch step {
	case Inside:
		return f.inside(s), !s.OnRouter
	case Before:
		return f.before(s), true
	case Forward:
		return f.forward(s), true
	case Firewall:
		return f.firewall(s), !s.OnRouter
	case Outside:
		return f.outside(s), true
	case ByName:
		return f.byName(s), true
	}
	return f.pinned(s), true
}

// port names a service's port outside.
func (s Service) port() string {
	return fmt.Sprintf("%s %s", s.Transport, site.Ports(s.ExternalFrom, s.ExternalTo))
}

// inner names its port on the device.
func (f Facts) inner(s Service) string {
	for _, d := range f.Devices {
		if d.ID == s.DeviceID && d.Address.IsValid() {
			return fmt.Sprintf("%s, %s port %s", d.Address, s.Transport, site.Ports(s.InternalFrom, s.InternalTo()))
		}
	}
	return fmt.Sprintf("%s, %s port %s", s.Device, s.Transport, site.Ports(s.InternalFrom, s.InternalTo()))
}

// works reports whether the service was seen from outside to be reachable, since the run began.
func (f Facts) works(s Service) bool { return s.State == probe.StateReachable && f.since(s.Probed) }

// blames reports whether the diagnosis of what fails points to one of these hops.
func (f Facts) blames(s Service, hops ...diagnose.Hop) bool {
	if s.Finding == nil || !f.since(s.Probed) || s.State == probe.StateReachable {
		return false
	}
	for _, h := range hops {
		if s.Finding.Hop == h {
			return true
		}
	}
	return false
}

// found shows the diagnosis in place.
func (e Entry) found(s Service) Entry {
	e.Finding = s.Finding
	return e.failing(s.Finding.Summary, s.Finding.Next)
}

// blamed is what waits for somebody to do it, and is what the diagnosis points to meanwhile. Once somebody has said that it is done, that
// is failing; where the causes are open between several it is said at the test outside.
func (e Entry) blamed(s Service) Entry {
	e.refuted = s.Finding.Sure != causes.Open
	e = e.found(s)
	e.State = Waiting
	return e
}

func (f Facts) inside(s Service) Entry {
	e := Entry{Title: "It answers inside", ByWord: !s.Agent,
		Do: fmt.Sprintf("Switch it on, and set it up to answer at %s.", f.inner(s))}
	if !s.Agent {
		e.Do += " No agent looks from inside here: try it from a machine on the same LAN, and say so."
		if f.works(s) {
			return e.is(Done, "it answers outside, and so inside")
		}
		return e.is(Waiting, "nobody has looked from inside")
	}
	words := map[string]string{"refused": "the port is refused: the service does not run, or listens on another port",
		"silent":     "nothing comes back: it is off, asleep, or its firewall drops what comes from its own LAN",
		"prohibited": "its firewall says that it is prohibited", "hung": "it takes the connection and says nothing: it hangs",
		"other": "something else answers there than was pinned"}
	switch {
	case !f.since(s.Looked) || s.Inside == "":
		return e.is(Waiting, "the agent is asked to look")
	case s.Inside == "open":
		return e.is(Done, "the agent sees it answer at "+f.inner(s))
	case words[s.Inside] == "":
		e.ByWord = true
		return e.is(Waiting, "the agent cannot tell from inside whether it answers")
	case s.Inside == "silent" && s.Mute():
		e.ByWord = true
		return e.is(Waiting, "the agent hears nothing back, which such a service may do although it works")
	}
	for _, d := range f.Devices {
		if d.ID == s.DeviceID && f.since(d.Looked) && !d.Present {
			return e.failing(fmt.Sprintf("the agent finds nobody at %s: %s is off, asleep, or elsewhere", d.Address,
				d.Name),
				"Switch it on, keep it from sleeping, and look at its address.")
		}
	}
	return e.failing(fmt.Sprintf("the agent looked at %s: %s", f.inner(s), words[s.Inside]),
		"Mend that first: what does not answer "+
			"inside cannot answer outside.")
}

func (f Facts) before(s Service) Entry {
	e := Entry{Title: "Before the forward, nothing answers outside", Do: "Wait for one probe from outside before you enter the forward: " +
		"what answers afterwards is then proven to be yours."}
	switch {
	case !s.Proven.IsZero() && s.Proven.Before(f.Began):
		return e.is(Skipped, fmt.Sprintf("it has been proven from outside since %s", s.Proven.UTC().Format(time.DateOnly)))
	case !s.Proven.IsZero():
		return e.is(Skipped, "it answered before anybody had looked: whether something else did before is not known")
	case !f.since(s.Probed):
		return e.is(Waiting, "not probed from outside yet")
	case s.Outcome.Open():
		return e.failing(fmt.Sprintf("something answers at %s already: %s", s.port(), cmp.Or(s.Seen, string(s.Outcome))),
			"Find out what it is: a forward of earlier times, the router's own page, another device. If it is this service, and its "+
				"forward was there before, pass this over.")
	case s.Mute() && s.Outcome == probe.Silent:
		return e.is(Skipped, "silence proves nothing of such a service")
	case s.Outcome == probe.Skipped || s.Outcome == "":
		return e.is(Waiting, cmp.Or(s.Seen, "it could not be probed"))
	}
	return e.is(Done, fmt.Sprintf("%s did not answer (%s): %s", s.port(), s.Outcome, cmp.Or(s.Seen, "nothing came back")))
}

func (f Facts) forward(s Service) Entry {
	e := Entry{Title: "The forward is entered", ByWord: true, Provable: s.Agent && s.Forwarded(), Cards: s.Cards,
		Do: "Type this into the router, box by box, and save it."}
	if s.OnRouter {
		e.Title, e.Do = "Access from outside is allowed", "The router answers itself: allow access from outside on that service's page."
	}
	switch {
	case f.works(s):
		return e.is(Done, "it answers outside: what is sent there is passed on")
	case s.Lists != "" && !f.blames(s, diagnose.HopForward, diagnose.HopUpstream):
		return e.is(Done, "the router says: "+s.Lists)
	case f.blames(s, diagnose.HopForward, diagnose.HopUpstream):
		return e.blamed(s)
	}
	return e.is(Waiting, "nothing says yet that the router passes it on")
}

func (f Facts) firewall(s Service) Entry {
	e := Entry{Title: "The device's own firewall lets it in", ByWord: true,
		Do: fmt.Sprintf("Allow %s port %s there from any address, not only from its own LAN.", s.Transport,
			site.Ports(s.InternalFrom, s.InternalTo()))}
	switch {
	case f.works(s):
		return e.is(Done, "it answers outside")
	case f.blames(s, diagnose.HopService, diagnose.HopDevice):
		return e.blamed(s)
	}
	return e.is(Waiting, "nothing says yet that it lets in what comes from outside")
}

func (f Facts) outside(s Service) Entry {
	e := Entry{Title: "It answers outside", ByWord: s.Mute(),
		Do: "Wait: it is probed from outside every few seconds while somebody watches."}
	if s.Mute() {
		e.Do = "Silence proves nothing of such a service: connect to it as a user would, from elsewhere, and say so."
	}
	switch {
	case f.works(s):
		return e.is(Done, cmp.Or(s.Seen, "reachable"))
	case !f.since(s.Probed) || s.State == probe.StateUnknown:
		return e.is(Waiting, "not judged yet: "+cmp.Or(s.Seen, "nothing was seen from outside"))
	case s.Finding != nil:
		return e.found(s)
	}
	return e.failing(fmt.Sprintf("%s: %s", s.port(), cmp.Or(s.Seen, string(s.Outcome))), "How the causes are weighed: inkpost why "+f.Site)
}

func (f Facts) byName(s Service) Entry {
	e := Entry{Title: "It answers by its name, as for a user", Do: "Wait: the name is looked up elsewhere, and what it gives is tried."}
	l := f.linkOf(s)
	switch {
	case len(l.Hostnames) == 0:
		return e.is(Skipped, "no hostname leads to it")
	case s.Mute():
		e.ByWord = true
		return e.is(Waiting, "silence proves nothing of such a service: try it by its name, and say so")
	case !f.since(s.Named.At):
		return e.is(Waiting, "not tried by its name yet")
	case !s.Named.Good:
		return e.failing(fmt.Sprintf("%s gives %s; there: %s", s.Named.Hostname, orNothing(s.Named.Given), s.Named.Message),
			"Does the name lead to this site? inkpost hostname show "+s.Named.Hostname)
	}
	return e.is(Done, fmt.Sprintf("%s gives %s, and it answers there", s.Named.Hostname, s.Named.Given))
}

func (f Facts) pinned(s Service) Entry {
	e := Entry{Title: "What it is recognised by is pinned",
		Do: "It is pinned when it first answers, so that a stranger at its port is found out."}
	switch {
	case s.Fingerprint != "" && s.Shown != "" && s.Shown != s.Fingerprint:
		return e.failing(fmt.Sprintf("it shows %s, and %s is pinned", s.Shown, s.Fingerprint),
			fmt.Sprintf("If it was replaced, pin what it shows now: inkpost service pin %s %s", f.Site, s.Name))
	case s.Fingerprint != "":
		return e.is(Done, s.Fingerprint)
	case f.works(s) && s.Shown == "":
		return e.is(Skipped, "it shows nothing by which it could be recognised")
	case s.Mute():
		return e.is(Skipped, "it shows nothing by which it could be recognised")
	}
	return e.is(Waiting, "it has not shown itself yet")
}

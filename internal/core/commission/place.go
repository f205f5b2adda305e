package commission

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/site"
)

// The steps of what services stand on: links, devices, the site.

func (f Facts) linkOf(s Service) Link {
	i := slices.IndexFunc(f.Links, func(l Link) bool { return l.ID == s.OnLink })
	if i < 0 {
		return Link{}
	}
	return f.Links[i]
}

// link returns the entry of a step for a link; false where the link does not have that step.
func (f Facts) link(step Step, l Link) (Entry, bool) {
	switch step {
	case OnRecord:
		return f.onRecord(l), true
	case Resolved:
		return f.resolved(l), true
	case Restart:
		return f.restart(l), l.Agent
	}
	return f.rehearsal(l), l.Mode != site.Static
}

func (f Facts) onRecord(l Link) Entry {
	e := Entry{Title: "Link, address and hostname are on record"}
	switch {
	case !l.Addresses().Known() && l.Refused != "":
		return e.failing("something announces for this link and is refused: "+l.Refused,
			"Correct what the reason says, at the site or here.")
	case !l.Addresses().Known() && l.Mode == site.Static:
		e.Do = "Enter the link's fixed address."
		return e.is(Waiting, "no address is on record")
	case !l.Addresses().Known():
		e.Do = fmt.Sprintf("Start an agent at the site: inkpost agent invite %s %s. Or have the router announce its address: "+
			"inkpost agent router-url %s %s", f.Site, l.Label, f.Site, l.Label)
		return e.is(Waiting, "nothing has announced an address for this link yet")
	case l.Overdue:
		return e.failing(fmt.Sprintf("its address was %s; it was last heard %s ago", l.Addresses(), pace.Length(f.Now.Sub(l.Heard))),
			"See that the agent runs and the line is up.")
	case len(l.Hostnames) == 0:
		e.Do = "Give the site a hostname, so that it can be reached wherever its address moves. Where none is wanted, pass this over."
		return e.is(Waiting, fmt.Sprintf("the address is %s; no hostname leads to it", l.Addresses()))
	}
	given := make([]string, len(l.Hostnames))
	for i, h := range l.Hostnames {
		given[i] = h.Name
	}
	return e.is(Done, fmt.Sprintf("to lead to %s: %s", l.Addresses(), strings.Join(given, ", ")))
}

// resolved tells of the hostname that is furthest from what it should be.
func (f Facts) resolved(l Link) Entry {
	e := Entry{Title: "The name resolves at resolvers elsewhere"}
	if len(l.Hostnames) == 0 {
		return e.is(Skipped, "no hostname leads to this link")
	}
	e.Do = "Wait: caches elsewhere may hold an older answer until its time to live is over."
	for _, state := range []State{Failing, Waiting} {
		for _, h := range l.Hostnames {
			if one := h.resolved(e); one.State == state {
				return one
			}
		}
	}
	first := l.Hostnames[0].resolved(e)
	if n := len(l.Hostnames) - 1; n > 0 {
		first.Words += fmt.Sprintf("; %d more resolve as well", n)
	}
	return first
}

func (h Hostname) resolved(e Entry) Entry {
	var right, wrong []string
	for _, a := range h.Elsewhere {
		if a.Right {
			right = append(right, a.Server)
		} else {
			wrong = append(wrong, a.Server+" gives "+orNothing(a.Given))
		}
	}
	whose := "Is the name somebody else's, or does another program write it? inkpost hostname show " + h.Name
	switch {
	case h.State == names.StateHeld:
		return e.failing("the zone's primary does not take "+h.Name, whose)
	case h.State == names.StateStale:
		return e.failing(fmt.Sprintf("the zone's server gives %s for %s, and not %s", orNothing(h.Given), h.Name, h.Want), whose)
	case len(wrong) > 0:
		return e.is(Waiting, strings.Join(wrong, "; ")+fmt.Sprintf(" for %s; wanted is %s", h.Name, h.Want))
	case len(right) == 0 && h.State == names.StatePointed:
		return e.is(Done, fmt.Sprintf("the zone's server gives %s for %s; this service asks no resolver elsewhere", h.Want, h.Name))
	case len(right) == 0:
		return e.is(Waiting, h.Name+": nobody was asked yet")
	}
	return e.is(Done, fmt.Sprintf("%s gives %s at %s", h.Name, h.Want, strings.Join(right, ", ")))
}

func (f Facts) restart(l Link) Entry {
	e := Entry{Title: "The agent survives a restart of its machine",
		Do: "Restart the machine on which the agent runs, and wait until it is " +
			"heard again."}
	switch {
	case l.MachineUp.IsZero():
		e.ByWord = true
		return e.is(Waiting, "the agent does not say since when its machine is up: update it, or say so")
	case f.since(l.MachineUp) && l.Heard.After(l.MachineUp) && !l.Overdue:
		return e.is(Done, "its machine restarted, and the agent was heard since")
	case l.Overdue:
		return e.is(Waiting, fmt.Sprintf("the agent was last heard %s ago", pace.Length(f.Now.Sub(l.Heard))))
	}
	return e.is(Waiting, "its machine has been up since before this run began")
}

func (f Facts) rehearsal(l Link) Entry {
	e := Entry{Title: "Rehearse a change of address", Optional: true,
		Do: "Where the router can be told to reconnect, do it: the new address " +
			"has to be announced, published and proven. Otherwise leave this out."}
	for _, m := range slices.Backward(l.Moves) {
		if !m.Confirmed.IsZero() {
			return e.is(Done, fmt.Sprintf("moved from %s to %s; services answered there after %s", m.Old, m.New,
				pace.Length(m.Confirmed.Sub(m.At))))
		}
	}
	if len(l.Moves) > 0 {
		return e.is(Waiting, fmt.Sprintf("it moved to %s; its services are not confirmed there yet", l.Moves[len(l.Moves)-1].New))
	}
	return e.is(Waiting, "it has not moved since this run began")
}

func (f Facts) reserved(d Device) Entry {
	e := Entry{Title: "Its LAN address is fixed", ByWord: true}
	where := "an address outside the range that the router gives out"
	if d.Range != "" {
		where = "an address outside " + d.Range
	}
	switch {
	case !d.Address.IsValid():
		e.Do = fmt.Sprintf("Reserve %s for %s (%s) in the router, and enter it here.", where, d.Name, cmp.Or(d.MAC, "its MAC address"))
		e.ByWord = false
		return e.is(Waiting, "no LAN address is on record")
	case d.Found != "":
		return e.failing(fmt.Sprintf("%s is at %s and not at %s", d.MAC, d.Found, d.Address),
			fmt.Sprintf("Have the router give it %s, or enter %s here.", d.Address, d.Found))
	case d.HeldBy != "" && d.MAC != "" && !strings.EqualFold(d.HeldBy, d.MAC):
		return e.failing(fmt.Sprintf("%s answers at %s, and not %s", d.HeldBy, d.Address, d.MAC),
			"Another machine has its address: give one of the two another, and reserve it.")
	case d.Reserved && d.Range != "":
		return e.is(Done, fmt.Sprintf("%s is reserved for it, in the range %s that the router gives out: see that the router keeps it free",
			d.Address, d.Range))
	case d.Reserved:
		return e.is(Done, fmt.Sprintf("%s is reserved for it", d.Address))
	}
	e.Do = fmt.Sprintf("In the router, reserve %s for %s (%s), or set it at the device, outside the range that the router gives out. "+
		"Then say so here: the record notes it as reserved.", d.Address, d.Name, cmp.Or(d.MAC, "its MAC address"))
	return e.is(Waiting, fmt.Sprintf("%s is not noted as reserved", d.Address))
}

func (f Facts) doors() Entry {
	e := Entry{Title: "What must be closed is closed", ByWord: true,
		Do: "Close what was opened for the work: the router's and the devices' " +
			"management pages, an exposed host, remote support. Then say so here. A look at the usual ports: inkpost site review " + f.Site}
	var open, closed, unknown, opened []string
	for _, d := range f.Closed {
		what := d.Service + " (" + d.Port + ")"
		switch {
		case !d.Until.IsZero():
			opened = append(opened, what)
		case !d.Known:
			unknown = append(unknown, what)
		case d.Closed:
			closed = append(closed, what)
		default:
			open = append(open, what)
		}
	}
	switch {
	case len(open) > 0:
		return e.failing("open from outside: "+strings.Join(open, ", "), "Remove the forward, or turn access from outside off there.")
	case len(opened) > 0:
		return e.is(Waiting, "still opened for a while: "+strings.Join(opened, ", "))
	case len(unknown) > 0:
		return e.is(Waiting, "not probed yet: "+strings.Join(unknown, ", "))
	case len(closed) > 0:
		return e.is(Done, "closed, seen from outside: "+strings.Join(closed, ", "))
	}
	return e.is(Waiting, "no port is on record that must be closed")
}

func (f Facts) sheet() Entry {
	e := Entry{Title: "The sheet is kept for the hand-over", Do: "Look through the sheet, and keep it: inkpost sheet keep " + f.Site}
	if f.since(f.SheetKept) {
		return e.is(Done, "kept by "+f.SheetBy)
	}
	return e.is(Waiting, "no sheet was kept since this run began")
}

// orNothing names what a server gives; "none" is how no address is written.
func orNothing(s string) string {
	if s == "" || s == "none" {
		return "nothing"
	}
	return s
}

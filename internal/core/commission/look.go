package commission

import (
	"slices"
	"strings"
	"time"
)

// Look says how a run stands: its entries in the order in which they are due, and the results that were not recorded yet because they have
// only now been seen to be so.
func Look(f Facts, results []Result) (entries []Entry, fresh []Result) {
	for _, step := range Steps() {
		for _, e := range f.entries(step) {
			e.Step = step
			if i := slices.IndexFunc(results, func(r Result) bool { return r.Step == step && r.Of == e.Of }); i >= 0 {
				e = recorded(e, results[i])
			}
			entries = append(entries, e)
		}
	}
	entries = f.order(entries)
	for i, e := range entries {
		if e.State.Over() && e.At.IsZero() {
			entries[i].At = f.Now
			fresh = append(fresh, Result{Step: e.Step, Of: e.Of, State: e.State, At: f.Now, Words: e.Words})
		}
	}
	return entries, fresh
}

// recorded puts a result over what is seen now. What a person said is shown to be wrong where it is.
func recorded(e Entry, r Result) Entry {
	if r.By != "" && r.State == Done && (e.State == Failing || e.refuted) {
		e.State, e.Words = Failing, "said by "+r.By+" to be done, and it is not so: "+e.Words
		return e
	}
	e.State, e.Words, e.At, e.By, e.Next, e.Finding, e.Cards = r.State, r.Words, r.At, r.By, "", nil, nil
	return e
}

// order makes what has to wait for a step before it later.
func (f Facts) order(list []Entry) []Entry {
	out := slices.Clone(list)
	for i, e := range list {
		waits := slices.ContainsFunc(list[:i], func(x Entry) bool { return !x.State.Over() && !x.Optional && f.gates(x, e) })
		missing := e.State == Skipped && e.At.IsZero() // that there is nothing to do may change with what it waits for
		if waits && (!e.State.Over() || missing) {
			out[i].State, out[i].Next, out[i].Finding, out[i].Cards = Later, "", nil, nil
		}
	}
	return out
}

// gates reports whether x has to be over before e is due: it is about the same service, or about the device or link of it. The sheet comes
// last.
func (f Facts) gates(x, e Entry) bool {
	switch e.Step {
	case Sheet:
		return true
	case Doors:
		return x.Step == Outside
	case Resolved, Restart, Rehearsal:
		return x.Step == OnRecord && x.Of == e.Of
	case OnRecord, Prepared, Reserved:
		return false
	}
	i := slices.IndexFunc(f.Services, func(s Service) bool { return s.ID == e.Of })
	s := f.Services[i]
	switch x.Step {
	case OnRecord:
		return x.Of == f.linkOf(s).ID
	case Prepared, Reserved:
		return x.Of == s.DeviceID
	case Resolved:
		return x.Of == f.linkOf(s).ID && e.Step == ByName
	case Restart, Rehearsal:
		return false
	}
	return x.Of == s.ID
}

// Due returns the entry to work on: the first that is neither over nor later; false where all are.
func Due(entries []Entry) (Entry, bool) {
	i := slices.IndexFunc(entries, func(e Entry) bool { return !e.State.Over() && e.State != Later })
	if i < 0 {
		return Entry{}, false
	}
	return entries[i], true
}

// Find returns an entry by its step and subject.
func Find(entries []Entry, step Step, subject string) (Entry, bool) {
	i := slices.IndexFunc(entries, func(e Entry) bool { return e.Step == step && e.Subject == subject })
	if i < 0 {
		return Entry{}, false
	}
	return entries[i], true
}

// Finished reports whether nothing is left but what may be left.
func Finished(entries []Entry) bool {
	return !slices.ContainsFunc(entries, func(e Entry) bool { return !e.State.Over() && !e.Optional })
}

// since reports whether something was seen since the run began.
func (f Facts) since(t time.Time) bool { return !t.IsZero() && !t.Before(f.Began) }

func (f Facts) entries(step Step) (out []Entry) {
	switch step {
	case OnRecord, Resolved, Restart, Rehearsal:
		for _, l := range f.Links {
			if e, ok := f.link(step, l); ok {
				e.Of, e.Subject = l.ID, "link "+l.Label
				out = append(out, e)
			}
		}
	case Prepared:
		for _, d := range f.Devices {
			if len(d.Steps) > 0 {
				e := Entry{Title: "It is set up", ByWord: true, Do: strings.Join(d.Steps, " ")}
				e.Of, e.Subject = d.ID, "device "+d.Name
				out = append(out, e.is(Waiting, "its kit asks for this, and somebody has to say that it is so"))
			}
		}
	case Reserved:
		for _, d := range f.Devices {
			if !d.Router {
				e := f.reserved(d)
				e.Of, e.Subject = d.ID, "device "+d.Name
				out = append(out, e)
			}
		}
	case Doors:
		out = append(out, f.doors())
	case Sheet:
		out = append(out, f.sheet())
	default:
		for _, s := range f.Services {
			if e, ok := f.service(step, s); ok {
				e.Of, e.Subject = s.ID, "service "+s.Name
				out = append(out, e)
			}
		}
	}
	return out
}

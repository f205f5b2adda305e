package notice

import (
	"cmp"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/fault"
)

// Move is what the decision needs of a move.
type Move struct {
	ID    int64
	Place fault.Place
	At    time.Time
}

// Item is one thing that is told to somebody.
type Item struct {
	What    What
	FaultID int64
	MoveID  int64
	Cause   causes.Slug
	Before  causes.Slug // what they were told that it was
	Returns int
	Rule    Rule // that says so
	serious bool
	since   time.Time
}

// Due is one message: to whom, by which ways, and what it tells.
type Due struct {
	To    string
	Ways  []Way
	Items []Item
}

// Desk knows the rules and what each recipient was told. It is not safe for concurrent use.
type Desk struct {
	Rules []Rule
	told  map[string]map[int64][]Told
	moved map[string]map[int64]time.Time
	sent  map[stack][]time.Time
	// digests has when each rule's digest was written last.
	digests map[int64]time.Time
}

// stack is what is put together: of one recipient and topic, by rules that gather for as long.
type stack struct {
	to     string
	moves  bool
	gather time.Duration
}

func stackOf(to string, i Item) stack {
	return stack{to, i.MoveID != 0, time.Duration(i.Rule.GatherMinutes) * time.Minute}
}

// Times returns how often a recipient was told of a fault.
func (d *Desk) Times(to string, faultID int64) int { return len(d.told[to][faultID]) }

// LastDigest returns when a rule's digest was written last, zero for never.
func (d *Desk) LastDigest(r Rule) time.Time { return d.digests[r.ID] }

// WaysOf returns the ways that a rule tells by.
func WaysOf(r Rule) []Way { return ways(Item{Rule: r}) }

// NewDesk returns a desk at which nobody was told anything.
func NewDesk(rules []Rule) *Desk {
	return &Desk{Rules: rules, told: map[string]map[int64][]Told{}, moved: map[string]map[int64]time.Time{}, sent: map[stack][]time.Time{},
		digests: map[int64]time.Time{}}
}

// Note keeps that a message was written, at a moment. Messages are noted in the order in which they were.
func (d *Desk) Note(m Due, at time.Time) {
	for _, i := range m.Items {
		if i.What == Digest {
			d.digests[i.Rule.ID] = at
			return
		}
		if i.MoveID != 0 {
			if d.moved[m.To] == nil {
				d.moved[m.To] = map[int64]time.Time{}
			}
			d.moved[m.To][i.MoveID] = at
			continue
		}
		if d.told[m.To] == nil {
			d.told[m.To] = map[int64][]Told{}
		}
		d.told[m.To][i.FaultID] = append(d.told[m.To][i.FaultID], Told{What: i.What, Cause: i.Cause, Returns: i.Returns, At: at})
	}
	if len(m.Items) > 0 {
		key := stackOf(m.To, m.Items[0])
		for range min(len(m.Items), burstMost) { // a message of many things counts as many
			d.sent[key] = append(d.sent[key], at)
		}
	}
}

// Forget drops what is kept of messages before a moment, of faults that are not among those that count still.
func (d *Desk) Forget(before time.Time, still map[int64]bool) {
	for _, of := range d.told {
		for id, list := range of {
			if !still[id] && list[len(list)-1].At.Before(before) {
				delete(of, id)
			}
		}
	}
	for _, of := range d.moved {
		for id, at := range of {
			if at.Before(before) {
				delete(of, id)
			}
		}
	}
	for key, list := range d.sent {
		d.sent[key] = slices.DeleteFunc(list, func(at time.Time) bool { return at.Before(before) })
	}
}

// Awaits reports whether somebody who was told of a fault has yet to be told how it goes on.
func (d *Desk) Awaits(faultID int64) bool {
	for _, of := range d.told {
		if list := of[faultID]; len(list) > 0 && list[len(list)-1].What != Over {
			return true
		}
	}
	return false
}

// AwaitsMove reports whether somebody has yet to be told of a move.
func (d *Desk) AwaitsMove(m Move) bool {
	return slices.ContainsFunc(d.Rules, func(r Rule) bool {
		_, told := d.moved[r.To()][m.ID]
		return !told && r.tellsMove(m)
	})
}

// tellsMove reports whether the rule is about a move at all.
func (r Rule) tellsMove(m Move) bool {
	return r.Topic == Moves && r.Within(m.Place) && !m.At.Before(r.Created)
}

// Round decides which messages are due now. Moves are those lately; older ones than a rule are not told by it.
func (d *Desk) Round(faults []Fault, moves []Move, now time.Time) (out []Due) {
	var order []string
	of := map[string][]Rule{}
	for _, r := range d.Rules {
		if of[r.To()] == nil {
			order = append(order, r.To())
		}
		of[r.To()] = append(of[r.To()], r)
	}
	for _, to := range order { // of two rules that say so, the one that waits less counts
		slices.SortStableFunc(of[to], func(a, b Rule) int { return cmp.Compare(a.GatherMinutes, b.GatherMinutes) })
		out = append(out, d.gathered(to, d.dueFaults(to, of[to], faults, now), now)...)
		out = append(out, d.gathered(to, d.dueMoves(to, of[to], moves, now), now)...)
	}
	return out
}

func (d *Desk) dueFaults(to string, rules []Rule, faults []Fault, now time.Time) (out []Item) {
	for _, f := range faults {
		told := d.told[to][f.ID]
		for _, r := range rules {
			if what := r.Next(f, told, now); what != "" {
				i := Item{What: what, FaultID: f.ID, Cause: f.Cause, Returns: f.Returns, Rule: r, serious: f.Serious, since: f.Turned}
				if len(told) > 0 {
					i.Before = told[len(told)-1].Cause
				}
				out = append(out, i)
				break
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Item) int {
		switch {
		case a.serious != b.serious && a.serious:
			return -1
		case a.serious != b.serious:
			return 1
		}
		return cmp.Or(a.since.Compare(b.since), cmp.Compare(a.FaultID, b.FaultID))
	})
	return out
}

func (d *Desk) dueMoves(to string, rules []Rule, moves []Move, now time.Time) (out []Item) {
	for _, m := range moves {
		if _, told := d.moved[to][m.ID]; told {
			continue
		}
		for _, r := range rules {
			if r.tellsMove(m) && r.Hours.Open(now) {
				out = append(out, Item{What: Moved, MoveID: m.ID, Rule: r, since: m.At})
				break
			}
		}
	}
	slices.SortFunc(out, func(a, b Item) int { return cmp.Or(a.since.Compare(b.since), cmp.Compare(a.MoveID, b.MoveID)) })
	return out
}

// gathered makes messages of what is due to one recipient.
func (d *Desk) gathered(to string, due []Item, now time.Time) (out []Due) {
	var order []stack
	of := map[stack][]Item{}
	for _, i := range due {
		key := stackOf(to, i)
		if of[key] == nil {
			order = append(order, key)
		}
		of[key] = append(of[key], i)
	}
	for _, key := range order {
		list := of[key]
		oldest := slices.MinFunc(list, func(a, b Item) int { return a.since.Compare(b.since) }).since
		switch alone, together := Gather(len(list), oldest, d.sent[key], key.gather, now); {
		case alone:
			for _, i := range list {
				out = append(out, Due{To: to, Ways: ways(i), Items: []Item{i}})
			}
		case together:
			out = append(out, Due{To: to, Ways: ways(list...), Items: list})
		}
	}
	return out
}

func ways(items ...Item) (out []Way) {
	for _, i := range items {
		if i.Rule.Hook != "" {
			return []Way{ByHook}
		}
		for _, w := range i.Rule.Ways {
			if !slices.Contains(out, w) {
				out = append(out, w)
			}
		}
	}
	return out
}

// Package truth enumerates what each cause predicts, under what may be known, and ranks it: the table of causes has to find itself.
package truth

import (
	"slices"
	"strings"

	"inkpost.example/inkpost/internal/core/causes"
)

// Knowledge is something that may be known or not.
type Knowledge struct {
	Name  string
	Signs []causes.Sign
}

// Kinds are the kinds of knowledge that may be missing. What comes back outside, and what is on record, is always known.
var Kinds = []Knowledge{
	{"an agent", []causes.Sign{causes.Inside, causes.Device, causes.Asleep, causes.Renewed, causes.Loopback}},
	{"the gateway", []causes.Sign{causes.Mapping, causes.WAN, causes.Restarted, causes.NAT}},
	{"hop limits", []causes.Sign{causes.Reach}},
	{"a trial mapping", []causes.Sign{causes.Asked}},
	{"other services", []causes.Sign{causes.Siblings, causes.Others, causes.Together}},
	{"other sites", []causes.Sign{causes.Elsewhere, causes.Provider}},
}

// Case is one cause with one set of values that it predicts, of what is known.
type Case struct {
	Cause causes.Slug
	Known []string // names of what is known
	Seen  causes.Seen
}

// Outcome of a case.
type Outcome string

// The outcomes: first is right; open names the cause among those that nothing known tells apart; missed is wrong.
const (
	First  Outcome = "first"
	Open   Outcome = "open"
	Missed Outcome = "missed"
)

// Result is a case with its ranking.
type Result struct {
	Case
	Outcome Outcome
	causes.Explanation
}

// spread are the signs of which every predicted value is tried; of the others, the first.
var spread = []causes.Sign{causes.Outside, causes.Reach, causes.Inside, causes.Device, causes.Alive, causes.NAT, causes.Way, causes.Shown}

// possible reports whether values can be seen together.
func possible(s causes.Seen) bool {
	out, reach, inside, device := s[causes.Outside], s[causes.Reach], s[causes.Inside], s[causes.Device]
	if reach != causes.Unseen {
		switch out {
		case causes.Silent:
			if reach >= causes.RefusedRouter {
				return false
			}
		case causes.Refused:
			if reach < causes.RefusedRouter || reach >= causes.AnsweredRouter {
				return false
			}
		case causes.HostBySite, causes.NetBySite:
			if reach != causes.PassedOn {
				return false
			}
		case causes.ProhibitedBySite:
			if reach != causes.PassedOn && (reach < causes.RefusedRouter || reach > causes.RefusedBehind) {
				return false
			}
		case causes.HostByWay, causes.NetByWay, causes.ProhibitedByWay, causes.Unroutable:
			if reach != causes.StoppedBefore {
				return false
			}
		default:
			if reach < causes.AnsweredRouter {
				return false
			}
		}
	}
	if device == causes.Away && inside != causes.Unseen && inside != causes.InSilent {
		return false
	}
	if s[causes.Shown] != causes.Unseen && out != causes.Stranger {
		return false
	}
	modem := reach == causes.StoppedModem || reach == causes.RefusedModem
	if nat := s[causes.NAT]; modem && (nat == causes.Direct || nat == causes.Unseen) {
		return false
	}
	return s[causes.Way] != causes.ByPinhole || s[causes.NAT] == causes.Unseen
}

// Cases enumerates what a cause predicts, for one choice of what is known.
func Cases(c causes.Cause, known []Knowledge) (out []Case) {
	var names []string
	hidden := map[causes.Sign]bool{}
	for _, k := range Kinds {
		has := slices.ContainsFunc(known, func(x Knowledge) bool { return x.Name == k.Name })
		if has {
			names = append(names, k.Name)
		}
		for _, s := range k.Signs {
			hidden[s] = !has
		}
	}
	list := []causes.Seen{{}}
	for _, s := range causes.Signs() {
		set := c.Predicts[s]
		if set == 0 || hidden[s] {
			continue
		}
		values := set.Values()
		if !slices.Contains(spread, s) {
			values = values[:1]
		}
		var next []causes.Seen
		for _, seen := range list {
			for _, v := range values {
				if s == causes.Shown && seen[causes.Outside] != causes.Stranger {
					v = causes.Unseen // nobody shows anything
				}
				seen[s] = v
				if !slices.Contains(next, seen) {
					next = append(next, seen)
				}
			}
		}
		list = next
	}
	for _, seen := range list {
		if possible(seen) {
			out = append(out, Case{Cause: c.Slug, Known: names, Seen: seen})
		}
	}
	return out
}

// Judge ranks a case.
func Judge(c Case) Result {
	r := Result{Case: c, Outcome: Missed, Explanation: causes.Rank(c.Seen)}
	switch {
	case r.Best().Slug == c.Cause && r.Best().And == "":
		r.Outcome = First
	case slices.Contains(r.Between(), c.Cause):
		r.Outcome = Open
	}
	return r
}

// All judges every case of every ranked cause, for every choice of what is known.
func All() (out []Result) {
	for _, c := range causes.Table() {
		if !c.Ranked() {
			continue
		}
		for mask := range 1 << len(Kinds) {
			var known []Knowledge
			for i, k := range Kinds {
				if mask&(1<<i) != 0 {
					known = append(known, k)
				}
			}
			for _, one := range Cases(c, known) {
				out = append(out, Judge(one))
			}
		}
	}
	return out
}

// Words says what is seen in a case.
func Words(s causes.Seen) string {
	var list []string
	for _, sign := range s.Known() {
		list = append(list, sign.String()+" "+sign.Words(s[sign]))
	}
	return strings.Join(list, "; ")
}

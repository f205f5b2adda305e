package fault

import (
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/diagnose"
)

const (
	// heldFor is how long at most a fault keeps its cause where nobody looks again, and askAgain how soon its services are probed again
	// for another one.
	heldFor  = 2 * time.Minute
	askAgain = 20 * time.Second
)

// Proposal is another cause that a diagnosis gives an open fault, by its key, since when it does, and when its services were last asked
// to be probed for that.
type Proposal struct {
	Key          string
	Since, Asked time.Time
}

// Held is what Hold decides.
type Held struct {
	Found     []diagnose.Finding
	Proposals map[string]Proposal // by the key of what is open
	Kept      []diagnose.Finding  // that stay as they were told
	Dropped   map[string]bool     // keys of what was found and is not believed yet
	Ask       []string            // services to be probed now
}

// Hold keeps the cause of what is open at a site until the services of another cause were probed since that was found. Trouble ends
// piecemeal: the agent is heard, a device is seen, a neighbour answers, and only then does the next probe find that all is well. In between
// it would be told as something else. before are the proposals so far; probed says when a service was last probed.
func Hold(open, found []diagnose.Finding, before map[string]Proposal, probed func(service string) time.Time, now time.Time) Held {
	out := Held{Proposals: map[string]Proposal{}, Dropped: map[string]bool{}}
	has := func(list []diagnose.Finding, key string) bool {
		return slices.ContainsFunc(list, func(f diagnose.Finding) bool { return f.Key() == key })
	}
	for _, g := range found {
		told := slices.DeleteFunc(slices.Clone(open), func(f diagnose.Finding) bool { return !Same(f, g) || has(found, f.Key()) })
		if has(open, g.Key()) || len(told) == 0 || len(g.Services) == 0 {
			out.Found = append(out.Found, g)
			continue
		}
		key := told[0].Key()
		p := before[key]
		if p.Key != g.Key() {
			p.Key, p.Since = g.Key(), now
			if now.Sub(p.Asked).Abs() > askAgain {
				p.Asked = now
				out.Ask = append(out.Ask, g.Services...)
			}
		}
		if !slices.ContainsFunc(g.Services, func(name string) bool { return !probed(name).After(p.Since) }) ||
			now.Sub(p.Since).Abs() > heldFor {
			out.Found = append(out.Found, g)
			continue
		}
		out.Proposals[key], out.Dropped[g.Key()] = p, true
		for _, f := range told {
			if !has(out.Kept, f.Key()) {
				out.Kept = append(out.Kept, f)
			}
		}
	}
	out.Found = append(out.Found, out.Kept...)
	return out
}

package causes

import (
	"cmp"
	"math"
	"slices"
)

// Member is one failing service with what is known of it.
type Member struct {
	Device string
	Seen   Seen
}

// Sure is how sure a ranking is.
type Sure string

// How sure: nothing else fits; something else is possible; what is known does not tell the first few apart.
const (
	Certain Sure = "certain"
	Likely  Sure = "likely"
	Open    Sure = "open"
)

// Ranked is a cause with its place in a ranking. And is a second cause that is at work too, where no single one fits. Share is its share of
// what is possible, from 0 to 1. Out says that Against holds a sign that excludes it.
type Ranked struct {
	Slug, And    Slug
	Share        float64
	For, Against []Sign
	Out          bool
	from         candidate
}

// Explanation is one cause, or several that cannot be told apart, of some services that fail.
type Explanation struct {
	Members []int // indices of what was explained
	Ranking []Ranked
	Sure    Sure
}

// Best returns the likeliest cause.
func (e Explanation) Best() Ranked { return e.Ranking[0] }

// Between returns the causes that what is known does not tell from the best, itself included; none if it is likely or certain.
func (e Explanation) Between() []Slug {
	if e.Sure != Open {
		return nil
	}
	out := []Slug{e.Best().Slug}
	for _, r := range e.Ranking[1:] {
		if (r.near(e.Best()) || r.fits()) && !slices.Contains(out, r.Slug) {
			out = append(out, r.Slug)
		}
	}
	return out
}

// fits reports whether nothing that is seen speaks against r.
func (r Ranked) fits() bool { return !r.Out && r.And == "" && len(r.Against) == 0 }

// near reports whether nothing tells r from the best, and it is not much rarer.
func (r Ranked) near(best Ranked) bool {
	switch {
	case r.Out || r.And != "":
		return false
	case r.Share*evenRatio >= best.Share:
		return true
	}
	return r.fits() && r.Share*openRatio >= best.Share
}

const (
	// openRatio is how many times likelier the best has to be than another, against which nothing speaks, to be told as the likely one,
	// and evenRatio where something speaks against the other.
	openRatio = 25
	evenRatio = 4
	// certainRatio is how many times likelier it has to be to be certain, where something else is not excluded.
	certainRatio = 400
	// together is the chance that a second service of a device has the same trouble of its own.
	together = 0.05
)

// judge orders candidates and says how sure the first one is.
func judge(members []int, list []Ranked) Explanation {
	slices.SortStableFunc(list, func(a, b Ranked) int {
		switch {
		case a.Out == b.Out:
			return cmp.Compare(b.from.score(), a.from.score())
		case b.Out:
			return -1
		}
		return 1
	})
	best, total := list[0].from.score(), 0.0
	for i := range list {
		list[i].Share = math.Exp(list[i].from.score() - best)
		total += list[i].Share
	}
	for i := range list {
		list[i].Share /= total
	}
	e := Explanation{Members: members, Ranking: list, Sure: Certain}
	for _, r := range list[1:] {
		if r.near(list[0]) {
			e.Sure = Open
			break
		}
		if !r.Out && r.Share*certainRatio > list[0].Share {
			e.Sure = Likely
		}
	}
	return e
}

// candidate is how one cause, or two, explain some services.
type candidate struct {
	cause Cause
	inner *Cause
	prior float64
	fits  []match
}

func (c candidate) out() bool {
	return slices.ContainsFunc(c.fits, func(f match) bool { return f.Out })
}

// fitsAll reports whether nothing that is seen speaks against the candidate.
func (c candidate) fitsAll() bool {
	return !slices.ContainsFunc(c.fits, func(f match) bool { return len(f.Against) > 0 })
}

// own is the score of what belongs to the services alone; device and link are of the signs that they share.
func (c candidate) own() (sum float64) {
	for _, f := range c.fits {
		sum += f.service
	}
	return sum + c.prior
}

func (c candidate) device() float64 { return c.fits[0].device }
func (c candidate) link() float64   { return c.fits[0].link }
func (c candidate) score() float64  { return c.own() + c.device() + c.link() }

func (c candidate) ranked() Ranked {
	r := Ranked{Slug: c.cause.Slug, Out: c.out(), from: c}
	if c.inner != nil {
		r.And = c.inner.Slug
	}
	for _, f := range c.fits {
		for _, s := range f.For {
			if !slices.Contains(r.For, s) {
				r.For = append(r.For, s)
			}
		}
		for _, s := range f.Against {
			if !slices.Contains(r.Against, s) {
				r.Against = append(r.Against, s)
			}
		}
	}
	return r
}

func consider(members []Member, which []int, c Cause, inner *Cause) candidate {
	out := candidate{cause: c, inner: inner, prior: c.prior()}
	if inner != nil {
		out.prior += inner.prior()
	}
	if c.Scope == ScopeService && (inner == nil || inner.Scope == ScopeService) {
		out.prior += float64(len(which)-1) * math.Log(together)
	}
	for _, i := range which {
		out.fits = append(out.fits, c.fit(members[i].Seen, inner))
	}
	return out
}

// candidates are all causes that can explain some services of one device or, if wide, of several. Where something speaks against each of
// them, pairs of a cause at the router and one behind it are candidates, too.
func candidates(members []Member, which []int, wide bool) (out []candidate) {
	for _, c := range table {
		if c.Ranked() && (!wide || c.Scope.Wide()) {
			out = append(out, consider(members, which, c, nil))
		}
	}
	if wide || slices.ContainsFunc(out, func(c candidate) bool { return c.fitsAll() }) {
		return out
	}
	for _, c := range table {
		if !c.Ranked() || c.Hop.place() < HopUpstream.place() || c.Hop.place() > HopForward.place() || c.Scope.Wide() {
			continue
		}
		for i := range table {
			if inner := &table[i]; inner.Ranked() && !inner.Scope.Wide() && inner.Hop.place() > HopForward.place() {
				out = append(out, consider(members, which, c, inner))
			}
		}
	}
	return out
}

// rank weighs all candidates for some services.
func rank(members []Member, which []int, wide bool) Explanation {
	list := candidates(members, which, wide)
	ranked := make([]Ranked, len(list))
	for i, c := range list {
		ranked[i] = c.ranked()
	}
	return judge(which, ranked)
}

// Rank returns what may be the cause of one failing service, from what is known of it.
func Rank(seen Seen) Explanation { return rank([]Member{{Seen: seen}}, []int{0}, false) }

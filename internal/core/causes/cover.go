package causes

import "math"

// part is a way to explain some services: its explanations, and how likely all of it is.
type part struct {
	list []Explanation
	own  float64 // without what the explanations share
	// device and link are the scores of the signs that are shared, of each explanation.
	device, link []float64
}

func mean(list []float64) float64 {
	sum := 0.0
	for _, x := range list {
		sum += x
	}
	return sum / math.Max(1, float64(len(list)))
}

func (p part) within() float64 { return p.own + mean(p.device) }
func (p part) score() float64  { return p.own + mean(p.link) }

// Explain explains the failing services of one link, from the widest scope down: one cause that predicts all of the symptoms wins over
// several. What it leaves is explained by itself.
func Explain(members []Member) []Explanation {
	if len(members) == 0 {
		return nil
	}
	all := make([]int, len(members))
	for i := range members {
		all[i] = i
	}
	best := byDevice(members, all)
	if len(members) > 1 {
		for _, c := range table {
			if p, ok := wide(members, all, c); ok && p.score() > best.score() {
				best = p
			}
		}
	}
	return best.list
}

// wide explains as many services as it can by one cause of the link, and the others by themselves.
func wide(members []Member, all []int, c Cause) (p part, ok bool) {
	if !c.Ranked() || !c.Scope.Wide() {
		return p, false
	}
	covered, rest := split(members, all, c, nil)
	if len(covered) < 2 {
		return p, false
	}
	e := rank(members, covered, true)
	if e.Best().Slug != c.Slug {
		return p, false
	}
	one := e.Best().from
	p = part{list: []Explanation{e}, own: one.own(), link: []float64{one.link()}}
	perDevice := map[string]float64{}
	for k, i := range covered {
		perDevice[members[i].Device] = one.fits[k].device
	}
	for _, d := range perDevice {
		p.own += d
	}
	if len(rest) > 0 {
		more := byDevice(members, rest)
		p.list, p.own, p.link = append(p.list, more.list...), p.own+more.own, append(p.link, more.link...)
	}
	return p, true
}

// split tells the services that a cause can explain from those that something excludes it for.
func split(members []Member, which []int, c Cause, inner *Cause) (covered, rest []int) {
	for _, i := range which {
		if c.fit(members[i].Seen, inner).Out {
			rest = append(rest, i)
		} else {
			covered = append(covered, i)
		}
	}
	return covered, rest
}

// byDevice explains the services of each device by themselves.
func byDevice(members []Member, which []int) (p part) {
	var order []string
	of := map[string][]int{}
	for _, i := range which {
		d := members[i].Device
		if of[d] == nil {
			order = append(order, d)
		}
		of[d] = append(of[d], i)
	}
	for _, d := range order {
		one := ofOneDevice(members, of[d])
		p.list, p.own, p.link = append(p.list, one.list...), p.own+one.within(), append(p.link, one.link...)
	}
	return p
}

// ofOneDevice explains the services of one device: by one cause for as many as it covers, or each by its own.
func ofOneDevice(members []Member, which []int) part {
	best := each(members, which)
	if len(which) == 1 {
		return best
	}
	for _, c := range candidates(members, which, false) {
		if c.cause.Scope != ScopeDevice && (c.inner == nil || c.inner.Scope != ScopeDevice) && !oneRule(c) {
			continue
		}
		covered, rest := split(members, which, c.cause, c.inner)
		if len(covered) < 2 {
			continue
		}
		e := rank(members, covered, false)
		one := e.Best().from
		if one.cause.Slug != c.cause.Slug || one.inner != c.inner {
			continue // several rules of single services explain them better: each is told by itself
		}
		p := part{list: []Explanation{e}, own: one.own(), device: []float64{one.device()}, link: []float64{one.link()}}
		if len(rest) > 0 {
			more := each(members, rest)
			p.list, p.own = append(p.list, more.list...), p.own+more.own
			p.device, p.link = append(p.device, more.device...), append(p.link, more.link...)
		}
		if p.within()+mean(p.link) > best.within()+mean(best.link) {
			best = p
		}
	}
	return best
}

// oneRule reports whether a cause of single services is often one rule for several of a device.
func oneRule(c candidate) bool {
	return c.inner == nil && (c.cause.Slug == "device-firewall" || c.cause.Slug == "device-lan-only")
}

// each explains every service by itself.
func each(members []Member, which []int) (p part) {
	for _, i := range which {
		e := rank(members, []int{i}, false)
		best := e.Best().from
		p.list, p.own = append(p.list, e), p.own+best.own()
		p.device, p.link = append(p.device, best.device()), append(p.link, best.link())
	}
	return p
}

package causes

import (
	"math"
	"slices"
)

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
	if !c.Ranked() || !c.Scope.Wide() && c.Slug != "one-side-only" {
		return p, false
	}
	var covered, rest []int
	for _, i := range all {
		if c.fit(members[i].Seen, nil).Out {
			rest = append(rest, i)
		} else {
			covered = append(covered, i)
		}
	}
	if len(covered) < 2 {
		return p, false
	}
	one := consider(members, covered, c, nil)
	e := rankAll(members, covered, true)
	if e.Best().Slug != c.Slug {
		return p, false
	}
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
	var tried []Slug
	for _, c := range candidates(members, which, false) {
		if c.cause.Scope != ScopeDevice && (c.inner == nil || c.inner.Scope != ScopeDevice) && !oneRule(c) {
			continue
		}
		var covered, rest []int
		for _, i := range which {
			if c.cause.fit(members[i].Seen, c.inner).Out {
				rest = append(rest, i)
			} else {
				covered = append(covered, i)
			}
		}
		if len(covered) < 2 || c.inner == nil && slices.Contains(tried, c.cause.Slug) {
			continue
		}
		tried = append(tried, c.cause.Slug)
		one := consider(members, covered, c.cause, c.inner)
		p := part{list: []Explanation{rankAll(members, covered, false)}, own: one.own(), device: []float64{one.device()},
			link: []float64{one.link()}}
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
		one := []int{i}
		var best candidate
		list := candidates(members, one, false)
		for k, c := range list {
			if k == 0 || best.out() && !c.out() || best.out() == c.out() && c.score() > best.score() {
				best = c
			}
		}
		p.list = append(p.list, rankAll(members, one, false))
		p.own += best.own()
		p.device, p.link = append(p.device, best.device()), append(p.link, best.link())
	}
	return p
}

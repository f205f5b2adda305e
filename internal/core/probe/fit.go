package probe

// SharedView is what one vantage point sees of the services that another one reaches too.
type SharedView struct {
	Shared  int // services that some other vantage point reaches
	Failing int // those of them that this one does not
}

// Unfit reports whether a vantage point is itself at fault: it fails to reach at least five services, and a quarter of those that others
// reach. Its results do not count until hardly any of them is left. already: it was unfit before.
func (s SharedView) Unfit(already bool) bool {
	if already {
		return 50*s.Failing >= s.Shared && s.Failing > 0
	}
	return s.Failing >= 5 && 4*s.Failing >= s.Shared
}

// LinkView is what a lone vantage point sees of the links, or addresses, that answered it before and were probed lately: whether
// anything answers there now.
type LinkView[K comparable] map[K]bool

// With takes in whether a service on a link answers.
func (v LinkView[K]) With(link K, answers bool) LinkView[K] {
	if v == nil {
		v = LinkView[K]{}
	}
	v[link] = v[link] || answers
	return v
}

// Blind reports whether the vantage point's own uplink is the likelier cause: nothing answers on any of at least five links. Providers
// fail, but not all of them at the same moment.
func (v LinkView[K]) Blind() bool {
	for _, answers := range v {
		if answers {
			return false
		}
	}
	return len(v) >= 5
}

// LossView is at which links probes get lost now and then.
type LossView map[int64]bool

// With takes in how the newest probes of a service on a link went.
func (v LossView) With(link int64, l Lately) LossView {
	_, tried, lossy := l.Lossy()
	if tried >= triedLeast {
		v[link] = v[link] || lossy
	}
	return v
}

// Lossy reports whether that is so at more than a third of at least five links: they have nothing in common but whoever probes them.
func (v LossView) Lossy() bool {
	n := 0
	for _, lossy := range v {
		if lossy {
			n++
		}
	}
	return len(v) >= 5 && 3*n > len(v)
}

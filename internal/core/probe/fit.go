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

// LinkView is what a lone vantage point sees of the links that answered it before.
type LinkView struct {
	Links int // links that answered before and were probed lately
	Dark  int // those of them on which nothing answers now
}

// Blind reports whether the vantage point's own uplink is the likelier cause: nothing answers on any of at least five links. Providers
// fail, but not all of them at the same moment.
func (h LinkView) Blind() bool { return h.Links >= 5 && h.Dark == h.Links }

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

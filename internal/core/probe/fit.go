package probe

// SharedView is what one vantage point sees of the services that another one reaches too.
type SharedView struct {
	Shared  int // services that some other vantage point reaches
	Failing int // those of them that this one does not
}

// Unfit says that a vantage point is wrong itself: it fails to reach five services at least, and a quarter of those that
// others reach. What it says does not count until that is over, which is when hardly any is left: already says that it was
// unfit before.
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

// Blind says that the vantage point's own way out is the likelier cause: nothing answers on any of five links at least.
// Providers fail, but not all of them in one moment.
func (h LinkView) Blind() bool { return h.Links >= 5 && h.Dark == h.Links }

package probe

import (
	"slices"
	"strings"
)

// traitPrint begins a fingerprint that is a set of traits.
const traitPrint = "traits "

// longestTrait bounds what is kept of one trait.
const longestTrait = 80

// TraitPrint makes a fingerprint of several things that a service shows, by name; "" if it shows nothing. They are written in the order of
// their names. What changes from one answer to the next must not be among them.
func TraitPrint(traits map[string]string) string {
	var list []string
	for name, v := range traits {
		if v = strings.Join(strings.Fields(strings.Map(plain, v)), " "); v != "" {
			list = append(list, name+"="+v[:min(len(v), longestTrait)])
		}
	}
	if len(list) == 0 {
		return ""
	}
	slices.Sort(list)
	return traitPrint + strings.Join(list, "; ")
}

// plain keeps what separates traits out of them.
func plain(r rune) rune {
	if r == ';' || r < ' ' {
		return ' '
	}
	return r
}

// SamePrint reports whether what a service shows is what was pinned. Of sets of traits, those that both have must agree: a service may
// leave
// one out at times. A banner that was pinned before traits were told is compared with the server's name.
func SamePrint(pinned, shown string) bool {
	if pinned == shown {
		return true
	}
	now, ok := strings.CutPrefix(shown, traitPrint)
	if !ok {
		return false
	}
	has := map[string]string{}
	for one := range strings.SplitSeq(now, "; ") {
		name, v, _ := strings.Cut(one, "=")
		has[name] = v
	}
	old, ok := strings.CutPrefix(pinned, traitPrint)
	if !ok {
		server, there := has["server"]
		return strings.HasPrefix(pinned, "banner ") && (!there || BannerPrint(server) == pinned)
	}
	common := 0
	for one := range strings.SplitSeq(old, "; ") {
		name, v, _ := strings.Cut(one, "=")
		other, there := has[name]
		if there && other != v {
			return false
		}
		if there {
			common++
		}
	}
	return common > 0
}

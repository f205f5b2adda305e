package probe

import (
	"regexp"
	"strings"
)

// Result is one attempt as the wire saw it.
type Result struct {
	Signal      Signal
	Talk        Talk
	Fingerprint string // what makes the answering service recognisable; "" if nothing does
}

// Talk is how a conversation went, where the network let it through.
type Talk int

// How a conversation went.
const (
	TalkNone     Talk = iota // nothing was asked
	TalkExpected             // the service spoke its protocol and said what it should
	TalkOther                // something else was said, or nothing
)

// Judge returns the outcome of an attempt at a service whose pinned fingerprint is given, "" for none.
func Judge(r Result, pinned string) Outcome {
	if r.Signal != SignalConnected {
		return FromSignal(r.Signal)
	}
	switch {
	case r.Talk == TalkNone:
		return Opened
	case r.Talk == TalkOther:
		return Garbled
	case pinned != "" && r.Fingerprint != "" && !SamePrint(pinned, r.Fingerprint):
		return Stranger
	}
	return Answered
}

// KeyPrint is the fingerprint of a public key whose SHA-256 is given in base64.
func KeyPrint(sum string) string { return "key SHA256:" + strings.TrimRight(sum, "=") }

var (
	bracketed = regexp.MustCompile(`<[^>]*>`)
	counting  = regexp.MustCompile(`[0-9][0-9:.]{4,}`)
)

const longestBanner = 160

// BannerPrint makes a fingerprint of what a service says of itself; "" if it says nothing. What changes from one greeting to the next is
// left out: what stands in angle brackets, and long numbers and times.
func BannerPrint(banner string) string {
	out := strings.Join(strings.Fields(banner), " ")
	out = counting.ReplaceAllString(bracketed.ReplaceAllString(out, "<>"), "#")
	if out == "" {
		return ""
	}
	return "banner " + out[:min(len(out), longestBanner)]
}

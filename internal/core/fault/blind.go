package fault

import (
	"strings"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/diagnose"
)

// Blind is a vantage point whose results do not count, and why.
type Blind struct{ Vantage, Why string }

// Blinds makes one fault of each vantage point that is blind.
func Blinds(list []Blind) (out []diagnose.Finding) {
	c, _ := causes.Find("vantage-fault")
	for _, b := range list {
		out = append(out, diagnose.Finding{Cause: c.Slug, Hop: c.Hop, Subject: vantagePrefix + b.Vantage, Sure: causes.Certain,
			Actor:   c.Actor,
			Summary: "Vantage point " + b.Vantage + " sees nothing that counts", Evidence: []string{b.Why}, Next: causes.Fill(c.Next, nil)})
	}
	return out
}

// Unrenewed makes a fault of a certificate of the console that cannot be renewed; none where nothing is said.
func Unrenewed(why string) []diagnose.Finding {
	if why == "" {
		return nil
	}
	c, _ := causes.Find("certificate-unrenewed")
	return []diagnose.Finding{{Cause: c.Slug, Hop: c.Hop, Subject: "the console's certificate", Sure: causes.Certain, Actor: c.Actor,
		Summary: c.So, Evidence: []string{why}, Next: causes.Fill(c.Next, nil)}}
}

const vantagePrefix = "vantage "

// VantageOf returns the vantage point that a fault's subject names, "" if it names none.
func VantageOf(subject string) string {
	name, ok := strings.CutPrefix(subject, vantagePrefix)
	if !ok {
		return ""
	}
	return name
}

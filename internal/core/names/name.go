// Package names computes with DNS names and zones: what is legal, what stands in which zone, and serials.
package names

import (
	"fmt"
	"strings"
)

// Limits of RFC 1035 section 2.3.4, in octets. MaxText is the longest name in its written form without a final dot:
// 255 octets on the wire are 253 characters.
const (
	MaxLabel = 63
	MaxText  = 253
)

// Name is a hostname in canonical form: lower case (RFC 4343), no final dot, at least one label.
type Name string

// ErrName says what is wrong with a name, and where.
type ErrName struct {
	Name   string
	Label  string // empty where the whole name is meant
	Detail string
}

func (e ErrName) Error() string {
	if e.Label != "" {
		return fmt.Sprintf("name %q: label %q %s", e.Name, e.Label, e.Detail)
	}
	return fmt.Sprintf("name %q %s", e.Name, e.Detail)
}

// Parse checks s against the rules for hostnames (RFC 1123 section 2.1 and RFC 1035 section 2.3.4) and brings it into
// canonical form. One final dot is accepted. It returns an ErrName.
func Parse(s string) (Name, error) {
	return checked(strings.ToLower(strings.TrimSuffix(s, ".")), s)
}

// checked is the name t, without a final dot, where it is legal; s is what errors call it.
func checked(t, s string) (Name, error) {
	if t == "" {
		return "", ErrName{Name: s, Detail: "is empty; give a name such as ket-07.isles.saltmarsh.example"}
	}
	if len(t) > MaxText {
		return "", ErrName{Name: shortened(s), Detail: fmt.Sprintf("has %d characters; at most %d are allowed", len(t), MaxText)}
	}
	for _, label := range strings.Split(t, ".") {
		if detail := labelFault(label); detail != "" {
			if label == "" {
				return "", ErrName{Name: s, Detail: detail}
			}
			return "", ErrName{Name: s, Label: label, Detail: detail}
		}
	}
	return Name(t), nil
}

// shortened is the beginning of a name that is too long to be repeated in an error.
func shortened(s string) string { return strings.ToValidUTF8(s[:min(len(s), 24)], "") + "…" }

func labelFault(label string) string {
	switch {
	case label == "":
		return "has an empty label: two dots side by side, or a dot at the start"
	case len(label) > MaxLabel:
		return fmt.Sprintf("has %d characters; at most %d are allowed", len(label), MaxLabel)
	case label[0] == '-' || label[len(label)-1] == '-':
		return "begins or ends with a hyphen; it must begin and end with a letter or a digit"
	}
	for _, r := range label {
		if (r < 'a' || r > 'z') && (r < '0' || r > '9') && r != '-' {
			return fmt.Sprintf("has the character %q; letters a-z, digits and hyphens are allowed", r)
		}
	}
	return ""
}

// Within reports whether n is the apex itself or a name below it.
func (n Name) Within(apex Name) bool {
	return n == apex || strings.HasSuffix(string(n), "."+string(apex))
}

// ZoneFor picks the longest of the apexes that n is strictly below. ok is false if none fits.
func ZoneFor(n Name, apexes []Name) (best Name, ok bool) {
	for _, apex := range apexes {
		if n != apex && n.Within(apex) && len(apex) > len(best) {
			best, ok = apex, true
		}
	}
	return best, ok
}

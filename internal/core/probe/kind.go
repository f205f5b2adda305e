package probe

import (
	"fmt"
	"slices"
	"strings"
)

// Transport carries a service.
type Transport string

// The transports.
const (
	TCP Transport = "tcp"
	UDP Transport = "udp"
)

// Kind says what protocol a service speaks, and so how its port is probed.
type Kind string

// KindTCP asks for nothing but an open port.
const KindTCP Kind = "tcp"

// Kinds lists the kinds that can be probed.
func Kinds() []Kind { return []Kind{KindTCP} }

// ParseKind accepts one of Kinds; "" is tcp.
func ParseKind(s string) (Kind, error) {
	if s == "" {
		return KindTCP, nil
	}
	if k := Kind(strings.ToLower(s)); slices.Contains(Kinds(), k) {
		return k, nil
	}
	words := make([]string, 0, len(Kinds()))
	for _, k := range Kinds() {
		words = append(words, string(k))
	}
	return "", fmt.Errorf("kind %q is unknown; it is one of %s", s, strings.Join(words, ", "))
}

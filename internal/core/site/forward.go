package site

import (
	"fmt"
	"net/netip"
	"strings"

	"inkpost.example/inkpost/internal/core/wan"
)

// Card is one rule to type into a router, field by field, in words that any router's page has in one form or another.
type Card struct {
	Title  string  `json:"title"`
	Where  string  `json:"where"` // which box to type it into
	Fields []Field `json:"fields"`
	Note   string  `json:"note,omitempty"`
}

// Field of a card.
type Field struct {
	Label string `json:"label"`
	Value string `json:"value"`
}

// Cards returns the rules that let a service be reached over a link: a forward for each router in the way, and the opening in the firewall
// where the link and the device have IPv6.
func Cards(s Service, d Device, l Link, nat wan.NAT) []Card {
	outside, inside := Ports(s.ExternalFrom, s.ExternalTo), Ports(s.InternalFrom, s.InternalFrom+s.ExternalTo-s.ExternalFrom)
	if s.OnRouter {
		return []Card{{Title: "Own service of the router", Where: "the router",
			Fields: []Field{{"Protocol", s.Transport.String()}, {"Port", outside}},
			Note: "No forward is needed: the router itself answers. Allow access from outside on that service's page, or " +
				"leave it closed."}}
	}
	forward := func(title, where, outside, to, inside string) Card {
		return Card{Title: title, Where: where, Fields: []Field{{"Name", s.Name}, {"Protocol", s.Transport.String()},
			{"External port", outside},
			{"Internal address", to}, {"Internal port", inside}, {"From", "any address"}}}
	}
	var out []Card
	rest := forward("Port forward", "the router", outside, d.Address.String(), inside)
	if inner := innerWAN(l, nat); nat.Verdict == wan.NATDouble {
		first := forward("Port forward, first of two", "the box in front (the provider's modem or router)", outside,
			orWords(inner, "the WAN address of our own router"), outside)
		first.Note = "Two routers stand one behind the other: both need a rule. Bridging the one in front makes this one unnecessary."
		rest.Title, rest.Where = "Port forward, second of two", "our own router, behind it"
		out = append(out, first)
	}
	if nat.Verdict == wan.NATCarrier {
		rest.Note = "The provider shares the address among customers: no forward helps until it gives this link a public one."
	}
	if !d.Reserved {
		rest.Note = strings.TrimSpace(rest.Note + fmt.Sprintf(" Reserve %s for %s (%s) first: the forward goes to the address, not "+
			"to the device.", d.Address, d.Name, orWords(d.MAC, "its MAC address")))
	}
	if !d.Address.Is4() || !s.Forwarded() {
		out = nil
	} else {
		out = append(out, rest)
	}
	if six := d.IPv6; s.Pinholed() || six.IsValid() && l.IPv6.IsValid() {
		to, note := "not known yet", "IPv6 is not translated: the port outside is the device's own."
		if !six.IsValid() {
			note += " An agent on the same LAN learns the device's address."
		} else {
			to = six.String()
			note += fmt.Sprintf(" Where the router asks for the host's part only, that is ::%x:%x:%x:%x, with any prefix.",
				part(six, 4), part(six, 5), part(six, 6), part(six, 7))
		}
		fields := []Field{{"Name", s.Name}, {"Direction", "incoming"}, {"Protocol", s.Transport.String()},
			{"Destination address", to}, {"Destination port", inside}, {"From", "any address"}}
		out = append(out, Card{Title: "IPv6 pinhole", Where: "the router's IPv6 firewall", Fields: fields, Note: note})
	}
	return out
}

// part returns one of the eight parts of an IPv6 address.
func part(a netip.Addr, n int) uint16 {
	b := a.As16()
	return uint16(b[2*n])<<8 | uint16(b[2*n+1])
}

// innerWAN is the WAN address of the router that the devices are behind, where another one stands in front.
func innerWAN(l Link, nat wan.NAT) string {
	for _, a := range []netip.Addr{nat.RouterWAN, l.RouterWAN} {
		if a.IsValid() {
			return a.String()
		}
	}
	return ""
}

func orWords(s, instead string) string {
	if s == "" {
		return instead
	}
	return s
}

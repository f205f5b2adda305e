package probe

import (
	"fmt"
	"net/netip"
)

// ICMP is a message that the network sent about a probe, and who sent it. The zero ICMP is that none came.
type ICMP struct {
	Type uint8      `json:"type"`
	Code uint8      `json:"code"`
	From netip.Addr `json:"from,omitzero"`
}

// Came reports whether there is a message.
func (m ICMP) Came() bool { return m.From.IsValid() }

// Notice is what an ICMP message means.
type Notice string

// The meanings, of both versions of ICMP (RFC 792, RFC 1812 section 5.2.7.1, RFC 4443 section 3).
const (
	NoNotice        Notice = ""
	NetUnreachable  Notice = "network unreachable"
	HostUnreachable Notice = "host unreachable"
	PortUnreachable Notice = "port unreachable"
	Prohibited      Notice = "prohibited"
	TimeExceeded    Notice = "time exceeded"
	OtherNotice     Notice = "another message"
)

// Notice says what a message means.
func (m ICMP) Notice() Notice {
	if !m.Came() {
		return NoNotice
	}
	type message struct{ kind, code uint8 }
	known := map[message]Notice{{3, 0}: NetUnreachable, {3, 6}: NetUnreachable, {3, 11}: NetUnreachable, {3, 1}: HostUnreachable,
		{3, 7}: HostUnreachable, {3, 12}: HostUnreachable, {3, 3}: PortUnreachable, {3, 2}: PortUnreachable, {3, 9}: Prohibited,
		{3, 10}: Prohibited, {3, 13}: Prohibited, {11, 0}: TimeExceeded}
	if !m.From.Unmap().Is4() {
		known = map[message]Notice{{1, 0}: NetUnreachable, {1, 3}: HostUnreachable, {1, 4}: PortUnreachable, {1, 1}: Prohibited,
			{1, 5}: Prohibited, {1, 6}: NetUnreachable, {3, 0}: TimeExceeded}
	}
	if n, ok := known[message{m.Type, m.Code}]; ok {
		return n
	}
	return OtherNotice
}

// String says a message in words, with its numbers: "host unreachable (ICMP 3/1) from 198.51.100.7".
func (m ICMP) String() string {
	if !m.Came() {
		return "no ICMP message"
	}
	version := "ICMP"
	if !m.From.Unmap().Is4() {
		version = "ICMPv6"
	}
	return fmt.Sprintf("%s (%s %d/%d) from %s", m.Notice(), version, m.Type, m.Code, m.From.Unmap())
}

// sitePrefix is how many bits of an IPv6 address are taken for the site's: providers give /48 to /64.
const sitePrefix = 48

// OfSite reports whether an address is the target itself, or, in IPv6, of the same site.
func OfSite(a, target netip.Addr) bool {
	a, target = a.Unmap(), target.Unmap()
	if !a.IsValid() || a.Is4() || target.Is4() {
		return a.IsValid() && a == target
	}
	p, err := target.Prefix(sitePrefix)
	return err == nil && p.Contains(a)
}

// Package lanlist reads lists of the devices of a LAN as routers print them: the leases of ISC's DHCP server, those of dnsmasq, and the
// neighbours of ip-neigh and arp.
package lanlist

import (
	"cmp"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Entry is one device. Name is "" where the list has none.
type Entry struct {
	Name    string
	MAC     string // in small letters, with colons
	Address netip.Addr
}

// The forms that are told apart.
const (
	ISC       = "ISC DHCP leases"
	Dnsmasq   = "dnsmasq leases"
	Neighbour = "ip neigh"
	ARP       = "arp -a"
)

// Read finds out which form a list has, and reads it: of several entries with one MAC, the last counts. What has no IPv4 address on a LAN,
// or no MAC, is left out. now tells what has expired. Error: that it is no such list.
func Read(text string, now time.Time) (form string, entries []Entry, err error) {
	readers := []struct {
		form string
		read func(string, time.Time) []Entry
	}{{ISC, readISC}, {Dnsmasq, readDnsmasq}, {Neighbour, readNeighbours}, {ARP, readARP}}
	for _, r := range readers {
		if list := r.read(text, now); len(list) > 0 {
			return r.form, newest(list), nil
		}
	}
	return "", nil, fmt.Errorf("is none of the lists that are read: the leases of ISC DHCP (dhcpd.leases) or dnsmasq (dnsmasq.leases), " +
		"or what ip neigh or arp -a prints")
}

// newest keeps the last entry of each MAC, in the order of addresses.
func newest(list []Entry) []Entry {
	by := map[string]Entry{}
	for _, e := range list {
		if before := by[e.MAC]; e.Name == "" && before.Address == e.Address {
			e.Name = before.Name
		}
		by[e.MAC] = e
	}
	var out []Entry
	for _, e := range by {
		out = append(out, e)
	}
	slices.SortFunc(out, func(a, b Entry) int { return cmp.Or(a.Address.Compare(b.Address), strings.Compare(a.MAC, b.MAC)) })
	return out
}

// hardware is an Ethernet address as these lists write it.
var hardware = regexp.MustCompile(`^([0-9a-f]{2}:){5}[0-9a-f]{2}$`)

// entry makes an entry of words; ok is false where they are none.
func entry(name, mac, address string) (e Entry, ok bool) {
	mac = strings.ToLower(mac)
	at, err := netip.ParseAddr(strings.Trim(address, "()"))
	if err != nil || !at.Is4() || !hardware.MatchString(mac) || strings.Trim(mac, "0:") == "" {
		return e, false
	}
	return Entry{Name: label(name), MAC: mac, Address: at}, true
}

// label makes a host's name one that a device can have: its first label, in small letters. "" where nothing is left.
func label(name string) string {
	name, _, _ = strings.Cut(strings.ToLower(strings.Trim(name, "\"'*? ")), ".")
	var b strings.Builder
	for _, r := range name {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			b.WriteRune(r)
		case b.Len() > 0:
			b.WriteByte('-')
		}
	}
	out := b.String()
	return strings.Trim(out[:min(len(out), 32)], "-")
}

// readISC reads dhcpd.leases: lease ADDRESS { ... }, of which the last of an address counts.
func readISC(text string, now time.Time) (out []Entry) {
	var address, mac, name string
	in, gone := false, false
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		words := strings.Fields(strings.TrimSuffix(line, ";"))
		switch {
		case len(words) == 3 && words[0] == "lease" && words[2] == "{":
			in, gone, address, mac, name = true, false, words[1], "", ""
		case !in:
		case line == "}":
			if e, ok := entry(name, mac, address); ok && !gone {
				out = append(out, e)
			}
			in = false
		case len(words) == 3 && words[0] == "hardware" && words[1] == "ethernet":
			mac = words[2]
		case len(words) >= 2 && words[0] == "client-hostname":
			name = strings.Join(words[1:], " ")
		case len(words) == 3 && words[0] == "binding" && words[1] == "state":
			gone = gone || words[2] == "free"
		case len(words) == 4 && words[0] == "ends" && words[1] != "never":
			ends, err := time.Parse("2006/01/02 15:04:05", words[2]+" "+words[3])
			gone = gone || err == nil && ends.Before(now)
		}
	}
	return out
}

// readDnsmasq reads dnsmasq.leases: EXPIRY MAC ADDRESS NAME CLIENT-ID, a line each; * stands for no name.
func readDnsmasq(text string, now time.Time) (out []Entry) {
	for line := range strings.Lines(text) {
		words := strings.Fields(line)
		if len(words) < 4 || strings.Trim(words[0], "0123456789") != "" {
			continue
		}
		var expiry int64
		if _, err := fmt.Sscan(words[0], &expiry); err != nil || expiry != 0 && time.Unix(expiry, 0).Before(now) {
			continue
		}
		if e, ok := entry(words[3], words[1], words[2]); ok {
			out = append(out, e)
		}
	}
	return out
}

// readNeighbours reads what ip neigh prints: ADDRESS dev INTERFACE lladdr MAC STATE. One that did not answer has no MAC.
func readNeighbours(text string, _ time.Time) (out []Entry) {
	for line := range strings.Lines(text) {
		words := strings.Fields(line)
		if i := slices.Index(words, "lladdr"); i > 0 && i+1 < len(words) && !slices.Contains(words, "FAILED") {
			if e, ok := entry("", words[i+1], words[0]); ok {
				out = append(out, e)
			}
		}
	}
	return out
}

// readARP reads what arp -a prints: NAME (ADDRESS) at MAC [ether] on INTERFACE; ? stands for no name.
func readARP(text string, _ time.Time) (out []Entry) {
	for line := range strings.Lines(text) {
		words := strings.Fields(line)
		if len(words) >= 4 && words[2] == "at" {
			if e, ok := entry(words[0], words[3], words[1]); ok {
				out = append(out, e)
			}
		}
	}
	return out
}

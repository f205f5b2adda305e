package agent

import (
	"context"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/wan"
)

// Searcher is a LAN on which machines can be asked for: without that, a device is seen only if it talked to this machine lately.
type Searcher interface {
	// Prefixes lists the LAN's own: private IPv4 ones, and IPv6 /64s that are in use.
	Prefixes() []netip.Prefix
	// Ask has the system ask who has some addresses (ARP, neighbour solicitation). Their answers come into the neighbour table.
	Ask(ctx context.Context, list []netip.Addr)
	// AskAll asks all IPv6 nodes to answer from their addresses.
	AskAll(ctx context.Context)
}

// What a search for a device may cost the LAN.
const (
	searchRate  = 60                      // addresses a second
	searchBits  = 22                      // the largest prefix that is searched
	searchAgain = 10 * time.Minute        // while nobody has seen the device
	searchSoon  = time.Minute             // where it was there since
	askWait     = 1500 * time.Millisecond // for answers
)

// finder remembers what the neighbour table forgets about devices.
type finder struct {
	mu       sync.Mutex
	first    map[string]map[netip.Addr]time.Time // by MAC: when each IPv6 address was first seen
	searched map[string]time.Time                // by MAC: when it was searched for
	there    map[string]bool                     // by MAC: it was where it should be since
	busy     bool
	wanted   map[string]bool // by MAC: what is searched for while busy
}

// ask asks for the devices on record before they are looked at: at their addresses, and at those that IPv6 makes of their MACs.
func (f *finder) ask(ctx context.Context, lan LAN, list []contract.WatchedDevice) {
	s, ok := lan.(Searcher)
	if !ok {
		return
	}
	prefixes := s.Prefixes()
	var all []netip.Addr
	six := false
	for _, item := range list {
		if a, err := netip.ParseAddr(item.Address); err == nil && contains(prefixes, a) {
			all = append(all, a)
		}
		mac, ok := macOf(item.MAC)
		if !ok || !item.WantIPv6 {
			continue
		}
		six = true
		for _, p := range prefixes {
			if p.Addr().Is6() {
				all = append(all, wan.EUI64(p, mac))
			}
		}
		f.mu.Lock()
		for a := range f.first[item.MAC] {
			if contains(prefixes, a) {
				all = append(all, a)
			}
		}
		f.mu.Unlock()
		if a, err := netip.ParseAddr(item.IPv6); err == nil && contains(prefixes, a) {
			all = append(all, a)
		}
	}
	s.Ask(ctx, all)
	if six {
		s.AskAll(ctx)
		pause(ctx, askWait)
	}
}

// sixes sets each device's IPv6 address.
func (f *finder) sixes(lan LAN, table []Neighbour, list []contract.WatchedDevice, seen []contract.DeviceReport) {
	var prefixes []netip.Prefix
	if s, ok := lan.(Searcher); ok {
		prefixes = s.Prefixes()
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	for i, item := range list {
		mac, ok := macOf(item.MAC)
		if !ok {
			continue
		}
		var now []wan.Lived
		there := map[netip.Addr]time.Time{}
		for _, n := range table {
			global := n.Address.Is6() && n.Address.IsGlobalUnicast() && !n.Address.IsPrivate()
			if !sameMAC(n.MAC, item.MAC) || !global || prefixes != nil && !contains(prefixes, n.Address) {
				continue
			}
			first, known := f.first[item.MAC][n.Address]
			if !known {
				first = time.Now()
			}
			there[n.Address] = first
			now = append(now, wan.Lived{Address: n.Address, First: first})
		}
		f.first[item.MAC] = there
		known, _ := netip.ParseAddr(item.IPv6)
		if a := wan.StableIPv6(now, mac, known); a.IsValid() {
			seen[i].IPv6 = a.String()
		}
	}
}

// missing lists the devices that are not where they should be, nor anywhere else that is known, and for which a search is due. Those that
// cannot be searched for yet are marked in seen: where they are is not known.
func (f *finder) missing(list []contract.WatchedDevice, seen []contract.DeviceReport) (out []contract.WatchedDevice) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for i, item := range list {
		s := seen[i]
		wrong := s.MAC != "" && !sameMAC(s.MAC, item.MAC)
		if item.MAC == "" || s.Found != "" || s.Present && !wrong && !s.Unsure {
			f.there[item.MAC] = f.there[item.MAC] || item.MAC != "" && s.Found == ""
			continue
		}
		since, again := time.Since(f.searched[item.MAC]), f.there[item.MAC]
		switch {
		case since >= searchAgain || again && since >= searchSoon:
			out = append(out, item)
		case again:
			seen[i].Unsure = true
		}
	}
	if f.busy { // they are being searched for
		for i, item := range list {
			if slices.ContainsFunc(out, func(x contract.WatchedDevice) bool { return x.Device == item.Device }) || f.wanted[item.MAC] {
				seen[i].Unsure = seen[i].Unsure || seen[i].Found == "" && !seen[i].Present
			}
		}
		return nil
	}
	if len(out) == 0 {
		return nil
	}
	f.busy, f.wanted = true, map[string]bool{}
	for _, item := range out {
		f.searched[item.MAC], f.there[item.MAC], f.wanted[item.MAC] = time.Now(), false, true
	}
	return out
}

func (f *finder) done() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.busy = false
}

// search asks for every address of the LAN until the devices are found, or there is none left.
func search(ctx context.Context, lan LAN, list []contract.WatchedDevice) {
	s, ok := lan.(Searcher)
	if !ok {
		return
	}
	second := time.NewTicker(time.Second)
	defer second.Stop()
	for some := range slices.Chunk(targets(s.Prefixes(), list), searchRate) {
		s.Ask(ctx, some)
		select {
		case <-second.C:
		case <-ctx.Done():
			return
		}
		if table, _ := lan.Neighbours(ctx); allFound(table, list) {
			return
		}
	}
	pause(ctx, time.Second)
}

func allFound(table []Neighbour, list []contract.WatchedDevice) bool {
	for _, item := range list {
		at, _ := netip.ParseAddr(item.Address)
		if !whereIs(table, item.MAC, at).IsValid() {
			return false
		}
	}
	return true
}

// targets lists the addresses to search: those of the LANs on which the devices are on record, or of all where that is none of ours.
func targets(prefixes []netip.Prefix, list []contract.WatchedDevice) (out []netip.Addr) {
	var of []netip.Prefix
	add := func(p netip.Prefix, near netip.Addr) {
		if p.Bits() < searchBits { // the part around the address
			p, _ = near.Prefix(searchBits)
		}
		if p = p.Masked(); p.Addr().Is4() && !slices.Contains(of, p) {
			of = append(of, p)
		}
	}
	for _, item := range list {
		at, err := netip.ParseAddr(item.Address)
		for _, p := range prefixes {
			if err == nil && p.Contains(at) {
				add(p, at)
			}
		}
	}
	if len(of) == 0 {
		for _, p := range prefixes {
			add(p, p.Addr())
		}
	}
	for _, p := range of {
		for a := p.Addr().Next(); p.Contains(a.Next()) && len(out) < 1<<(32-searchBits); a = a.Next() { // neither the network nor broadcast
			out = append(out, a)
		}
	}
	return out
}

func contains(prefixes []netip.Prefix, a netip.Addr) bool {
	return slices.ContainsFunc(prefixes, func(p netip.Prefix) bool { return p.Contains(a) })
}

func macOf(text string) (mac [6]byte, ok bool) {
	m, err := net.ParseMAC(text)
	if err != nil || len(m) != 6 {
		return mac, false
	}
	return [6]byte(m), true
}

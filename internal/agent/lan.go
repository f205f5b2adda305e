package agent

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"sync"
	"syscall"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/wan"
)

// Neighbour is a machine in the neighbour table: an address and the MAC that answers for it.
type Neighbour struct {
	Address netip.Addr
	MAC     string
	Before  bool // it answered before, and has not been asked again since
	// Age is how long ago it answered. The system believes in a neighbour for up to 45 s without asking it.
	Age time.Duration
}

// LAN is the agent's view of the site's network. Neighbours lists what the system knows, at most NeighboursMost. Try tries one port:
// "open", "refused", "silent", or "unknown" if the protocol cannot tell. Cannot lists, in words, what it is not able to do.
type LAN interface {
	Neighbours(ctx context.Context) ([]Neighbour, error)
	Try(ctx context.Context, transport string, at netip.AddrPort) (state, detail string)
	Cannot() []string
}

// NeighboursMost bounds what is read of a neighbour table, which an attacker may fill.
const NeighboursMost = 4096

// ErrManyNeighbours reports a table that is not read to its end.
var ErrManyNeighbours = errors.New("the neighbour table is full: someone is scanning this network, or it is very large; only a part " +
	"was looked at")

// tryLimit is how long a port may take to answer on a LAN.
const tryLimit = 1500 * time.Millisecond

// survey scans the devices on record: whether each is there, at which address, and how its ports answer from inside. Ports are tried first,
// which is also what makes the system ask for the device's MAC.
func survey(ctx context.Context, lan LAN, before []Neighbour, list []contract.WatchedDevice) []contract.DeviceReport {
	out := make([]contract.DeviceReport, len(list))
	slots := make(chan struct{}, 16)
	var wg sync.WaitGroup
	for i, item := range list {
		wg.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			out[i] = look(ctx, lan, before, item)
		})
	}
	wg.Wait()
	after, _ := lan.Neighbours(ctx)
	after = asked(ctx, lan, after, out, list)
	for i, item := range list {
		addNeighbours(&out[i], item, after)
	}
	return out
}

// askedFor is how long the system takes to find out that a neighbour is gone.
const askedFor = 9 * time.Second

// asked waits until the system has asked again for the devices that it knew before, and that are not known to be there otherwise.
func asked(ctx context.Context, lan LAN, table []Neighbour, seen []contract.DeviceReport, list []contract.WatchedDevice) []Neighbour {
	until := time.Now().Add(askedFor)
	for time.Now().Before(until) {
		doubt := false
		for i, item := range list {
			at, err := netip.ParseAddr(item.Address)
			for _, n := range table {
				doubt = doubt || err == nil && !seen[i].Present && item.MAC != "" && n.Before && n.Address == at
			}
		}
		if !doubt || !pause(ctx, 250*time.Millisecond) {
			break
		}
		table, _ = lan.Neighbours(ctx)
	}
	return table
}

func look(ctx context.Context, lan LAN, before []Neighbour, item contract.WatchedDevice) contract.DeviceReport {
	out := contract.DeviceReport{Device: item.Device, At: time.Now().UTC()}
	at, err := netip.ParseAddr(item.Address)
	if err != nil {
		return out
	}
	// Where the device has moved, its ports are tried where it is now.
	if there := whereIs(before, item.MAC, at); there.IsValid() {
		at = there
	}
	for _, p := range item.Ports {
		state, detail := lan.Try(ctx, p.Transport, netip.AddrPortFrom(at, uint16(p.Port)))
		out.Ports = append(out.Ports, contract.PortSeen{Service: p.Service, State: state, Detail: detail})
		out.Present = out.Present || state == "open" || state == "refused"
	}
	return out
}

// addNeighbours adds what the neighbour table says after the ports were tried. Whoever answers at the recorded address with another MAC is
// not the device.
func addNeighbours(s *contract.DeviceReport, item contract.WatchedDevice, table []Neighbour) {
	at, err := netip.ParseAddr(item.Address)
	if err != nil {
		return
	}
	there := whereIs(table, item.MAC, at)
	for _, n := range table {
		mine := sameMAC(n.MAC, item.MAC)
		if n.Address == at && !(n.Before && !s.Present) && !(mine && there.IsValid()) {
			s.MAC = n.MAC
			s.Present = item.MAC == "" || mine
		}
	}
	if there.IsValid() {
		s.Found, s.Present = there.String(), true
	}
}

// doubtful reports whether a device is there only because it was a while ago: none of its ports answers now.
func doubtful(s contract.DeviceReport, item contract.WatchedDevice, table []Neighbour) bool {
	for _, p := range s.Ports {
		if p.State == "open" || p.State == "refused" {
			return false
		}
	}
	at, _ := netip.ParseAddr(item.Address)
	for _, n := range table {
		if n.Address == at && sameMAC(n.MAC, item.MAC) {
			return len(item.Ports) > 0 && n.Age > tryLimit+time.Second
		}
	}
	return false
}

// whereIs returns another address of the recorded one's family at which a MAC answers, if it does not at the recorded one. The newest
// answer counts.
func whereIs(table []Neighbour, mac string, recorded netip.Addr) (other netip.Addr) {
	if mac == "" {
		return netip.Addr{}
	}
	var best Neighbour
	for _, n := range table {
		if !sameMAC(n.MAC, mac) || n.Address.Is4() != recorded.Is4() || n.Address.IsLinkLocalUnicast() || n.Before {
			continue
		}
		if !best.Address.IsValid() || n.Age < best.Age || n.Age == best.Age && n.Address == recorded {
			best = n
		}
	}
	if best.Address == recorded {
		return netip.Addr{}
	}
	return best.Address
}

func sameMAC(a, b string) bool {
	x, err1 := net.ParseMAC(a)
	y, err2 := net.ParseMAC(b)
	return err1 == nil && err2 == nil && strings.EqualFold(x.String(), y.String())
}

// SystemLAN is the machine's own network. Whatever the server asks for, it looks at addresses of a LAN only: private and link-local
// ones.
type SystemLAN struct {
	// Lab are prefixes that stand for LANs in a lab.
	Lab []netip.Prefix
}

// Try implements LAN.
func (l SystemLAN) Try(ctx context.Context, transport string, at netip.AddrPort) (state, detail string) {
	if !(wan.Policy{LANs: l.Lab}).OnLAN(at.Addr()) {
		return "unknown", fmt.Sprintf("%s is not an address of a LAN; it is not checked", at.Addr())
	}
	if transport != "tcp" && transport != "udp" {
		return "unknown", "only tcp and udp can be tried"
	}
	ctx, cancel := context.WithTimeout(ctx, tryLimit)
	defer cancel()
	c, err := (&net.Dialer{}).DialContext(ctx, transport, at.String())
	if err == nil {
		defer c.Close()
		if transport == "tcp" {
			return "open", ""
		}
		return tryUDP(ctx, c)
	}
	var timeout net.Error
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return "refused", ""
	case errors.As(err, &timeout) && timeout.Timeout(), errors.Is(err, syscall.EHOSTUNREACH):
		return "silent", ""
	}
	return "unknown", err.Error()
}

// tryUDP sends nothing but an empty datagram: a closed port is refused by ICMP, an open one need not answer.
func tryUDP(ctx context.Context, c net.Conn) (state, detail string) {
	if _, err := c.Write(nil); err != nil {
		return "unknown", err.Error()
	}
	_ = c.SetReadDeadline(time.Now().Add(tryLimit / 2))
	_, err := c.Read(make([]byte, 1))
	switch {
	case err == nil:
		return "open", ""
	case errors.Is(err, syscall.ECONNREFUSED):
		return "refused", ""
	case ctx.Err() != nil:
		return "unknown", ctx.Err().Error()
	}
	return "unknown", "UDP: an open port need not answer; prove the path instead"
}

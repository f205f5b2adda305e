package agent

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/contract"
)

// Neighbour is a machine in the neighbour table: an address and the MAC that answers for it.
type Neighbour struct {
	Address netip.Addr
	MAC     string
	Before  bool // it answered before, and has not been asked again since
	// Age is how long ago it answered. The system believes in a neighbour for up to 45 s without asking it.
	Age time.Duration
}

// LAN is the agent's view of the site's network. Neighbours lists what the system knows, at most NeighboursMost. Try tries one port, as its
// service's protocol asks, at an address of the LAN. Cannot lists, in words, what it is not able to do.
type LAN interface {
	Neighbours(ctx context.Context) ([]Neighbour, error)
	Try(ctx context.Context, p contract.WatchedPort, at netip.AddrPort) contract.PortSeen
	Cannot() []string
}

// Resolver is a LAN on which it can be asked at once who has some addresses, instead of believing what the system remembers. able is false
// where this program is not allowed to.
type Resolver interface {
	Resolve(ctx context.Context, list []netip.Addr) (holders map[netip.Addr]string, able bool)
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
func survey(ctx context.Context, lan LAN, before []Neighbour, list []contract.WatchedDevice,
	early func([]contract.DeviceReport)) []contract.DeviceReport {
	began := time.Now()
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
	after = resolved(ctx, lan, after, out, list)
	if early != nil { // what is certain is told at once: somebody may wait to know why a service fails
		early(certain(after, out, list, began))
	}
	after = asked(ctx, lan, after, out, list)
	for i, item := range list {
		addNeighbours(&out[i], item, after)
		out[i].Unsure = out[i].Present && doubtful(out[i], item, after, began)
	}
	return out
}

// resolved asks who has the addresses of devices whose ports say nothing, and those at which the system remembers them elsewhere, and puts
// the answers in the place of what the system remembers.
func resolved(ctx context.Context, lan LAN, table []Neighbour, seen []contract.DeviceReport,
	list []contract.WatchedDevice) []Neighbour {
	r, ok := lan.(Resolver)
	if !ok {
		return table
	}
	var ask []netip.Addr
	add := func(a netip.Addr) {
		if a.Is4() && !slices.Contains(ask, a) {
			ask = append(ask, a)
		}
	}
	for i, item := range list {
		at, err := netip.ParseAddr(item.Address)
		if err != nil || item.MAC == "" {
			continue
		}
		if !seen[i].Present {
			add(at)
		}
		for _, n := range table {
			if sameMAC(n.MAC, item.MAC) && n.Address != at {
				add(n.Address)
			}
		}
	}
	if len(ask) == 0 {
		return table
	}
	holders, able := r.Resolve(ctx, ask)
	if !able || ctx.Err() != nil {
		return table
	}
	misled(table, holders, seen, list)
	table = slices.DeleteFunc(slices.Clone(table), func(n Neighbour) bool { return slices.Contains(ask, n.Address) })
	for a, mac := range holders {
		table = append(table, Neighbour{Address: a, MAC: mac})
	}
	return table
}

// misled marks the ports of devices whose addresses the system still takes for another machine's: what was sent there went to that one.
func misled(table []Neighbour, holders map[netip.Addr]string, seen []contract.DeviceReport, list []contract.WatchedDevice) {
	for i, item := range list {
		at, _ := netip.ParseAddr(item.Address)
		if seen[i].Present || !sameMAC(holders[at], item.MAC) {
			continue
		}
		if slices.ContainsFunc(table, func(n Neighbour) bool { return n.Address == at && !sameMAC(n.MAC, item.MAC) }) {
			for k := range seen[i].Ports {
				seen[i].Ports[k].State = "unknown"
				seen[i].Ports[k].Detail = "this machine still sends to the one that had the address before"
			}
		}
	}
}

// askedFor is how long the system takes to find out that a neighbour is gone.
const askedFor = 9 * time.Second

// asked waits until the system has asked again for the devices that it knew before, and that are not known to be there otherwise.
func asked(ctx context.Context, lan LAN, table []Neighbour, seen []contract.DeviceReport, list []contract.WatchedDevice) []Neighbour {
	until, poked := time.Now().Add(askedFor), time.Now()
	for time.Now().Before(until) {
		if !inDoubt(table, seen, list) || !pause(ctx, 250*time.Millisecond) {
			break
		}
		table, _ = lan.Neighbours(ctx)
		// Once the system has given somebody up, it asks anew only when something is sent there.
		if s, ok := lan.(Searcher); ok && time.Since(poked) > time.Second {
			poked = time.Now()
			s.Ask(ctx, addresses(list))
		}
	}
	return table
}

func addresses(list []contract.WatchedDevice) (out []netip.Addr) {
	for _, item := range list {
		if a, err := netip.ParseAddr(item.Address); err == nil {
			out = append(out, a)
		}
	}
	return out
}

// doubted reports whether a device may be gone: it was known before, and its ports say nothing.
func doubted(table []Neighbour, seen contract.DeviceReport, item contract.WatchedDevice) bool {
	at, err := netip.ParseAddr(item.Address)
	return err == nil && !seen.Present && item.MAC != "" && slices.ContainsFunc(table, func(n Neighbour) bool {
		return n.Before && n.Address == at
	})
}

func inDoubt(table []Neighbour, seen []contract.DeviceReport, list []contract.WatchedDevice) bool {
	for i, item := range list {
		if doubted(table, seen[i], item) {
			return true
		}
	}
	return false
}

// certain are the reports of devices that are where they should be. Of the others it is known later: they may be elsewhere.
func certain(table []Neighbour, seen []contract.DeviceReport, list []contract.WatchedDevice,
	began time.Time) (out []contract.DeviceReport) {
	for i, item := range list {
		one := seen[i]
		addNeighbours(&one, item, table)
		if one.Present && one.Found == "" && !doubtful(one, item, table, began) && !doubted(table, seen[i], item) {
			out = append(out, one)
		}
	}
	return out
}

// portsAtOnce is how many ports of one device are tried at a time.
const portsAtOnce = 4

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
	out.Ports = make([]contract.PortSeen, len(item.Ports))
	slots := make(chan struct{}, portsAtOnce) // a device that is off keeps each of them waiting
	var wg sync.WaitGroup
	for i, p := range item.Ports {
		slots <- struct{}{}
		wg.Go(func() {
			defer func() { <-slots }()
			out.Ports[i] = lan.Try(ctx, p, netip.AddrPortFrom(at, uint16(p.Port)))
			out.Ports[i].Service = p.Service
		})
	}
	wg.Wait()
	out.Present = slices.ContainsFunc(out.Ports, func(p contract.PortSeen) bool { return answers(p.State) })
	return out
}

// answers reports whether somebody is at an address, by what one of its ports said.
func answers(state string) bool { return state != "silent" && state != "unknown" }

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

// doubtful reports whether a device is there only because it was a while ago: none of its ports answers now, and nothing has been heard of
// it
// since the look began.
func doubtful(s contract.DeviceReport, item contract.WatchedDevice, table []Neighbour, began time.Time) bool {
	if slices.ContainsFunc(s.Ports, func(p contract.PortSeen) bool { return answers(p.State) }) {
		return false
	}
	at, _ := netip.ParseAddr(item.Address)
	return len(item.Ports) > 0 && slices.ContainsFunc(table, func(n Neighbour) bool {
		return n.Address == at && sameMAC(n.MAC, item.MAC) && n.Age > time.Since(began)
	})
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

package igd

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"
)

// Status is what a gateway says of its connection (GetStatusInfo).
type Status struct {
	Connection string        // Connected, Disconnected, Connecting and the like
	Trouble    string        // why the last connection failed; "" if the gateway names nothing
	Up         time.Duration // how long the connection has been up
}

// maxWord bounds what is kept of a gateway's own words, in octets.
const maxWord = 80

func word(text string) string {
	if text = strings.ToValidUTF8(text, ""); len(text) > maxWord {
		text = strings.ToValidUTF8(text[:maxWord], "")
	}
	return text
}

// Status asks how the connection does. Errors: Refused, those of the network.
func (g Gateway) Status(ctx context.Context) (Status, error) {
	out, err := g.call(ctx, "GetStatusInfo")
	if err != nil {
		return Status{}, err
	}
	s := Status{Connection: word(out["NewConnectionStatus"]), Trouble: word(out["NewLastConnectionError"])}
	if s.Trouble == "ERROR_NONE" {
		s.Trouble = ""
	}
	if n, err := strconv.ParseUint(out["NewUptime"], 10, 32); err == nil {
		s.Up = time.Duration(n) * time.Second
	}
	return s, nil
}

// Mapping is one that a gateway lists: what is sent to an external port goes To. Lease is how long it still lasts; 0 for ever.
type Mapping struct {
	To          netip.AddrPort
	Description string
	Enabled     bool
	Lease       time.Duration
}

// The error codes of port mappings (WANIPConnection:2, 2.5.16 and 2.5.21).
const (
	codeNone  = "714"
	codeTaken = "718"
	codeOnly  = "725" // only permanent leases
)

// Listed returns what the gateway lists for an external port (GetSpecificPortMappingEntry); ok is false if it lists nothing. Transport is
// tcp
// or udp. Errors: Refused, those of the network, and an entry that leads to no address.
func (g Gateway) Listed(ctx context.Context, transport string, external int) (m Mapping, ok bool, err error) {
	out, err := g.call(ctx, "GetSpecificPortMappingEntry", port(transport, external)...)
	var refused Refused
	if errors.As(err, &refused) && refused.Code == codeNone {
		return m, false, nil
	}
	if err != nil {
		return m, false, err
	}
	at, err := netip.ParseAddr(out["NewInternalClient"])
	if err != nil {
		return m, false, fmt.Errorf("the gateway leads port %d to %q, which is not an address", external, word(out["NewInternalClient"]))
	}
	inside, err := strconv.ParseUint(out["NewInternalPort"], 10, 16)
	if err != nil {
		return m, false, fmt.Errorf("the gateway leads port %d to port %q", external, word(out["NewInternalPort"]))
	}
	m = Mapping{To: netip.AddrPortFrom(at.Unmap(), uint16(inside)), Description: word(out["NewPortMappingDescription"]),
		Enabled: out["NewEnabled"] != "0"}
	if n, err := strconv.ParseUint(out["NewLeaseDuration"], 10, 32); err == nil {
		m.Lease = time.Duration(n) * time.Second
	}
	return m, true, nil
}

// ErrTaken reports an external port that the gateway passes on already.
var ErrTaken = errors.New("the gateway passes the port on already")

// Add asks for a mapping of an external port to one of the caller's (AddPortMapping), for a length of time of at least a second. Errors:
// ErrTaken, Refused, those of the network.
func (g Gateway) Add(ctx context.Context, transport string, external int, to netip.AddrPort, lease time.Duration) error {
	in := append(port(transport, external), argument{"NewInternalPort", strconv.Itoa(int(to.Port()))},
		argument{"NewInternalClient", to.Addr().String()}, argument{"NewEnabled", "1"},
		argument{"NewPortMappingDescription", "trial of a port"}, argument{"NewLeaseDuration", strconv.Itoa(int(lease.Seconds()))})
	_, err := g.call(ctx, "AddPortMapping", in...)
	var refused Refused
	switch {
	case !errors.As(err, &refused):
		return err
	case refused.Code == codeTaken:
		return ErrTaken
	case refused.Code == codeOnly:
		return fmt.Errorf("the gateway grants mappings for ever only; none is asked for: %w", err)
	}
	return err
}

// Remove takes a mapping back (DeletePortMapping). Errors: Refused, those of the network.
func (g Gateway) Remove(ctx context.Context, transport string, external int) error {
	_, err := g.call(ctx, "DeletePortMapping", port(transport, external)...)
	return err
}

// port names a mapping: by any remote host, external port and protocol.
func port(transport string, external int) []argument {
	return []argument{{"NewRemoteHost", ""}, {"NewExternalPort", strconv.Itoa(external)}, {"NewProtocol", strings.ToUpper(transport)}}
}

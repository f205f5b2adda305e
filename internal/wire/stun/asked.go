package stun

import (
	"net"

	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
)

// asked makes an answer leave from the address that was asked, where the socket is bound to every address of the machine: whoever asked,
// and the NAT on the way, drop what comes from another. Its zero value leaves the choice to the kernel, which has none where the socket
// is bound to one.
type asked struct{ six, four bool }

func newAsked(c *net.UDPConn) asked {
	at := c.LocalAddr().(*net.UDPAddr)
	switch {
	case !at.IP.IsUnspecified():
		return asked{}
	case at.IP.To4() == nil: // IPv4 comes this way, too
		return asked{six: ipv6.NewPacketConn(c).SetControlMessage(ipv6.FlagDst, true) == nil}
	default:
		return asked{four: ipv4.NewPacketConn(c).SetControlMessage(ipv4.FlagDst, true) == nil}
	}
}

// answer returns the control message of the answer to a packet with a control message. A socket of IPv6 takes IPv4's for what goes there by
// IPv4.
func (a asked) answer(control []byte) []byte {
	var to net.IP
	switch {
	case a.six:
		var m ipv6.ControlMessage
		if m.Parse(control) == nil {
			to = m.Dst
		}
	case a.four:
		var m ipv4.ControlMessage
		if m.Parse(control) == nil {
			to = m.Dst
		}
	}
	switch {
	case to == nil:
		return nil
	case to.To4() != nil:
		return (&ipv4.ControlMessage{Src: to.To4()}).Marshal()
	default:
		return (&ipv6.ControlMessage{Src: to}).Marshal()
	}
}

package wan

import (
	"fmt"
	"net/netip"
	"strings"
)

// Verdict says what stands between a link's router and the internet.
type Verdict string

// The verdicts.
const (
	NATDirect  Verdict = "direct"  // the router has the public address itself
	NATDouble  Verdict = "double"  // another device at the site, such as a modem, translates in front of the router
	NATCarrier Verdict = "carrier" // the provider translates: many customers share one address (RFC 6598)
	NATUnknown Verdict = "unknown" // no protocol reports the router's WAN address, and nobody typed it
)

// NAT is the verdict on a link, with what it was judged by and what to do.
type NAT struct {
	Verdict   Verdict
	RouterWAN netip.Addr   // as the gateway says, or as typed
	Seen      netip.Addr   // from outside
	Chain     []netip.Addr // devices that translate, as far as they can be seen, from the router outwards
	Words     string
	Remedies  []string
}

// JudgeNAT compares the router's WAN address with the one that is seen from outside. Chain lists the hops outwards: a shared
// address (RFC 6598) among them proves that the provider translates, whatever the router's own address is.
func JudgeNAT(routerWAN, seen netip.Addr, chain []netip.Addr, policy Policy) NAT {
	out := NAT{Verdict: NATUnknown, RouterWAN: routerWAN, Seen: seen}
	var shared netip.Addr
	for _, hop := range chain {
		class := policy.Class(hop)
		if class != ClassPrivate && class != ClassShared && class != ClassLinkLocal {
			break
		}
		out.Chain = append(out.Chain, hop)
		if class == ClassShared && !shared.IsValid() {
			shared = hop
		}
	}
	class := policy.Class(routerWAN)
	switch {
	case class == ClassShared:
		shared = routerWAN
		fallthrough
	case shared.IsValid() && (!routerWAN.IsValid() || routerWAN != seen):
		out.Verdict = NATCarrier
		out.Words = fmt.Sprintf("the provider translates: %s is an address that customers share (RFC 6598)", shared)
		out.Remedies = carrierRemedies
	case (!routerWAN.IsValid() || class == ClassUnspecified) && len(out.Chain) > 1:
		out.Verdict = NATDouble
		out.Words = fmt.Sprintf("behind the router stands another device on the way out: %s",
			strings.Join(beyond(out.Chain, netip.Addr{}), ", then "))
		out.Remedies = doubleRemedies
	case !routerWAN.IsValid() || class == ClassUnspecified:
		out.Words = "no protocol reports the router's WAN address"
		out.Remedies = []string{readAddress, switchOn}
	case routerWAN == seen:
		out.Verdict = NATDirect
		out.Words = fmt.Sprintf("the router itself has %s", seen)
	case class == ClassPrivate || class == ClassLinkLocal:
		out.Verdict = NATDouble
		out.Words = fmt.Sprintf("the router's WAN address is %s, a %s one: another device in front of it translates", routerWAN, class)
		if front := beyond(out.Chain, routerWAN); len(front) > 0 {
			out.Words += " (" + strings.Join(front, ", then ") + ")"
		}
		out.Remedies = doubleRemedies
	case !seen.IsValid():
		out.Words = fmt.Sprintf("the router says %s, and nobody has seen the link from outside", routerWAN)
	default:
		out.Words = fmt.Sprintf("the router says %s, and the link is seen at %s: the router has not noticed its new address, or its "+
			"traffic leaves another way", routerWAN, seen)
		out.Remedies = []string{lookAtRouter, lookForVPN}
	}
	return out
}

// What to do, by verdict.
const (
	bridgeFront  = "Set the front device (the provider's modem) to bridge mode, so that the router gets the public address."
	forwardFront = "Or forward the same ports on the front device too, to the router's WAN address."
	exposeRouter = "Or enter the router as the exposed host in the front device's settings."
	askPublic    = "Ask the provider for a public IPv4 address: no forward works without one."
	useSix       = "Or reach the site over IPv6, if the provider gives it: allow the ports in the router's IPv6 firewall."
	useOther     = "Or use another link of the site."
	readAddress  = "Read the WAN address off the router's status page and type it: inkpost link edit SITE LINK --router-address ADDRESS."
	switchOn     = "Or switch on PCP, NAT-PMP or UPnP IGD in the router: then it is asked."
	lookAtRouter = "Look at the router's status page: does it show the address that is seen from outside?"
	lookForVPN   = "Look for a VPN or a second provider that the agent's traffic leaves by."
)

var (
	doubleRemedies  = []string{bridgeFront, forwardFront, exposeRouter}
	carrierRemedies = []string{askPublic, useSix, useOther}
)

// beyond returns the hops behind a router's own address.
func beyond(chain []netip.Addr, routerWAN netip.Addr) []string {
	var out []string
	for i, hop := range chain {
		if i > 0 && hop != routerWAN { // the first is the router itself, seen from inside
			out = append(out, hop.String())
		}
	}
	return out
}

func (w Weighing) nat(seen netip.Addr) NAT {
	router := w.RouterWAN
	for _, r := range w.Reports {
		if r.Source == SourceGateway && r.Addresses.IPv4.IsValid() && r.Problem == "" && w.Now.Sub(r.At) <= StaleAfter {
			router = r.Addresses.IPv4
			break
		}
	}
	for _, r := range w.Reports { // an agent on the router itself, or a machine without one
		if r.Source == SourceInterface && r.Addresses.IPv4.IsValid() && r.Addresses.IPv4 == seen && !router.IsValid() {
			router = seen
		}
	}
	return JudgeNAT(router, seen, w.Chain, w.Policy)
}

package diagnose

// Hop is a station on the way from outside to a service.
type Hop string

// The hops, in the order in which a connection meets them.
const (
	HopVantage  Hop = "vantage"
	HopHostname Hop = "hostname"
	HopAddress  Hop = "address"
	HopUpstream Hop = "upstream"
	HopForward  Hop = "forward"
	HopDevice   Hop = "device"
	HopService  Hop = "service"
)

// Cause of a fault.
type Cause string

// The causes.
const (
	CauseAddressUnknown Cause = "address-unknown"
	CauseNameStale      Cause = "name-stale"
	CauseResolverBehind Cause = "resolver-behind"
	CausePrimaryRefuses Cause = "primary-refuses"
	CausePrimaryAway    Cause = "primary-away"
	CauseSiteDark       Cause = "site-dark"
	CauseNoRoute        Cause = "no-route"
	CauseInboundBlocked Cause = "inbound-blocked"
	CauseForwardMissing Cause = "forward-missing"
	CauseDeviceAway     Cause = "device-away"
	CauseServiceStopped Cause = "service-stopped"
	CauseWrongProtocol  Cause = "wrong-protocol"
	CauseExposed        Cause = "exposed"
	CauseAgentOverdue   Cause = "agent-overdue"
	CauseDoubleNAT      Cause = "double-nat"
	CauseCarrierNAT     Cause = "carrier-nat"
	CauseDeviceMoved    Cause = "device-moved"
	CauseDeviceFirewall Cause = "device-firewall"
	CauseLinkFailing    Cause = "link-failing"
	CauseSiteResolver   Cause = "site-resolver"
	CauseInDynamicRange Cause = "in-dynamic-range"
	CauseKeyRefused     Cause = "key-refused"
	CauseStranger       Cause = "stranger"
	CauseSomebodyElse   Cause = "somebody-else"
	CauseOneSide        Cause = "one-side-only"
	CauseRouterAnswers  Cause = "router-answers"
	CauseCertificate    Cause = "certificate"
	CauseAddressHeld    Cause = "address-held"
	CauseUnannounced    Cause = "moved-unannounced"
	CauseAddressTaken   Cause = "lan-address-taken"
	CauseDeviceIPv6     Cause = "device-ipv6-lost"
	CausePinholeMissing Cause = "pinhole-missing"
)

// Finding is one problem with one cause: at which hop, on which part of the site, the evidence, and the next step.
// Subject names the part ("link main", "device recorder", "service web"). Also lists other causes that fit the
// evidence less well, the likeliest first.
type Finding struct {
	Cause    Cause    `json:"cause"`
	Hop      Hop      `json:"hop"`
	Subject  string   `json:"subject"`
	Services []string `json:"services,omitempty"`
	Summary  string   `json:"summary"`
	Evidence []string `json:"evidence"`
	Next     string   `json:"next_step"`
	Also     []string `json:"also,omitempty"`
}

// Key is the same for two findings of one site that are the same problem.
func (f Finding) Key() string { return string(f.Cause) + " " + f.Subject }

// Serious reports whether customers are cut off, or a port is open that must not be; the others can wait for the next visit.
func (f Finding) Serious() bool {
	switch f.Cause {
	case CauseAddressHeld:
		return len(f.Services) > 0
	case CauseAgentOverdue, CauseResolverBehind, CauseSiteResolver, CauseKeyRefused, CauseInDynamicRange, CauseRouterAnswers,
		CauseCertificate:
		return false
	}
	return true
}

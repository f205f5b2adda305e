package causes

// shutOut is what a router predicts that lets nothing in over IPv6.
var shutOut = Predictions{Way: of(ByPinhole), Outside: of(Silent, ProhibitedBySite, Refused), Reach: of(PassedOn, RefusedRouter,
	RefusedSite, StoppedRouter, StoppedSite), Inside: of(InOpen), Device: of(There), Alive: of(Heard),
	Others: of(Work), Held: of(No)}

// upstreamCauses stand in front of the router.
var upstreamCauses = []Cause{
	{Slug: "carrier-nat", Hop: HopUpstream, Actor: TheProvider, Scope: ScopeProvider, Weight: 4,
		So: "Link {link} is behind the provider's NAT: nothing can be passed on to it", Next: "{remedies}",
		Predicts: Predictions{Way: of(ByForward), NAT: of(Carrier), WAN: of(Differs), Outside: of(Silent, Refused, HostBySite,
			ProhibitedBySite), Inside: of(InOpen), Device: of(There),
			Reach: of(StoppedRouter, StoppedSite, StoppedModem, RefusedSite, RefusedModem, RefusedRouter, StoppedBefore),
			Alive: of(Heard), Siblings: of(Fail), Others: of(Fail), Asked: of(Lost), Held: of(No)}},
	{Slug: "double-nat", Hop: HopUpstream, Actor: OnSite, Scope: ScopeModem, Weight: 4,
		So: "Another router stands in front of the site's router, and passes nothing on", Next: "{remedies}",
		Predicts: Predictions{Way: of(ByForward), NAT: of(Double), WAN: of(Differs), Outside: of(Silent, Refused, ProhibitedBySite),
			Reach: of(StoppedModem, StoppedSite, RefusedModem, RefusedSite), Inside: of(InOpen), Device: of(There),
			Alive: of(Heard), Siblings: of(Fail), Others: of(Fail), Asked: of(Lost), Held: of(No),
			Loopback: of(LoopSilent)}},
	{Slug: "inbound-blocked", Hop: HopUpstream, Actor: TheProvider, Scope: ScopeProvider, Weight: 1,
		So: "The site is alive at {address}, and {provider} lets nothing in",
		Next: "Ask {provider} whether it blocks incoming connections, and to stop that. Another way in until then: a link of another " +
			"provider, or a VPN from the site outwards.",
		Predicts: Predictions{Outside: of(Silent, ProhibitedByWay), Reach: of(StoppedBefore, StoppedRouter, StoppedModem, StoppedSite),
			Inside: of(InOpen), Device: of(There), Alive: of(Heard), Siblings: of(Fail), Others: of(Fail),
			Asked: of(Lost), Loopback: of(LoopAnswers), Mapping: of(Listed), WAN: of(Same), NAT: of(Direct, Double), Held: of(No),
			Elsewhere: of(ElsewhereFails), Restarted: of(No), Together: of(Yes)}},
	{Slug: "port-blocked", Hop: HopUpstream, Actor: TheProvider, Scope: ScopeService, Weight: 4,
		So: "{provider} does not let {port} through to the site",
		Next: "Use another external port for {service}, or ask {provider} to open {port}. Forwards and services at the site are as they " +
			"should be.",
		Predicts: Predictions{Outside: of(Silent, ProhibitedByWay), Reach: of(StoppedBefore, StoppedRouter, StoppedModem, StoppedSite),
			Port: of(OftenBlocked), Inside: of(InOpen), Device: of(There), Alive: of(Heard), Loopback: of(LoopAnswers),
			Mapping: of(Listed), Asked: of(Lost), WAN: of(Same), Elsewhere: of(ElsewhereFails), Held: of(No), Others: of(Work)}},
}

// lineCauses are about how a line does while everything still answers.
var lineCauses = []Cause{
	{Slug: "line-loss", Hop: HopUpstream, Actor: TheProvider, Scope: ScopeLink, Soon: true,
		So: "Link {link} loses packets: {lost} probes got lost, or had to be sent again",
		Next: "See at the site whether the line is full, or the modem's signal is poor (its status page). If not, report the loss to " +
			"{provider}, with these figures."},
	{Slug: "slow", Hop: HopUpstream, Actor: OnSite, Scope: ScopeLink, Soon: true,
		So: "{what} takes {took} to answer, where {usual} is usual",
		Next: "See what loads {device} or the line: an upload, a backup, many viewers. If neither is loaded, report the line to " +
			"{provider}."},
}

// forwardCauses are of the router's, or the modem's, rules.
var forwardCauses = []Cause{
	{Slug: "forward-missing", Hop: HopForward, Actor: OnSite, Scope: ScopeService, Weight: 20,
		So:   "The router does not pass {port} on to {device}",
		Next: "In the router, enter the forward: {forward}.",
		Predicts: Predictions{Way: of(ByForward), Outside: of(Silent), Reach: of(StoppedRouter, StoppedSite), Inside: of(InOpen),
			Device: of(There), Alive: of(Heard), Loopback: of(LoopSilent), Mapping: of(NotListed), Asked: of(Arrived),
			Elsewhere: of(ElsewhereWorks), NAT: of(Direct, Double), Held: of(No)}},
	{Slug: "modem-forward-missing", Hop: HopUpstream, Actor: OnSite, Scope: ScopeService, Weight: 5,
		So:   "The modem in front of the router does not pass {port} on to the router",
		Next: "In the modem, enter the forward: {transport}, {external}, to the router's WAN address, the same port; or bridge the modem.",
		Predicts: Predictions{Way: of(ByForward), NAT: of(Double), Outside: of(Silent), Reach: of(StoppedModem, StoppedSite),
			Inside: of(InOpen), Device: of(There), Alive: of(Heard), Loopback: of(LoopSilent), Mapping: of(Listed),
			Asked:     of(Lost),
			Elsewhere: of(ElsewhereWorks), Held: of(No)}},
	{Slug: "router-refuses", Hop: HopForward, Actor: OnSite, Scope: ScopeService, Weight: 6,
		So:   "The router refuses {port}: no forward of it leads to {device}",
		Next: "In the router, enter the forward: {forward}. If it is there, see whether it is switched on.",
		Predicts: Predictions{Way: of(ByForward), Outside: of(Refused, ProhibitedBySite), Reach: of(RefusedRouter, RefusedSite),
			Inside: of(InOpen), Device: of(There), Alive: of(Heard), Mapping: of(NotListed), Asked: of(Arrived), NAT: of(Direct,
				Double),
			Loopback: of(LoopSilent), Held: of(No)}},
	{Slug: "modem-refuses", Hop: HopUpstream, Actor: OnSite, Scope: ScopeService, Weight: 2,
		So:   "The modem in front of the router refuses {port}",
		Next: "In the modem, enter the forward: {transport}, {external}, to the router's WAN address, the same port; or bridge the modem.",
		Predicts: Predictions{Way: of(ByForward), NAT: of(Double), Outside: of(Refused, ProhibitedBySite), Reach: of(RefusedModem,
			RefusedSite),
			Inside: of(InOpen), Device: of(There), Alive: of(Heard), Mapping: of(Listed), Asked: of(Lost),
			Loopback: of(LoopSilent),
			Held:     of(No)}},
	{Slug: "forward-astray", Hop: HopForward, Actor: OnSite, Scope: ScopeService, Weight: 4,
		So:   "The forward of {port} leads elsewhere than to {inside} of {device}{sibling}",
		Next: "In the router, correct the forward: {forward}.",
		Predicts: Predictions{Way: of(ByForward), Outside: of(Stranger, Garbled, Refused, Silent, HostBySite, Hung),
			Reach: of(PassedOn, RefusedBehind, AnsweredBehind), Inside: of(InOpen), Device: of(There),
			Mapping: of(ListedElsewhere, ListedOtherPort),
			Alive:   of(Heard), Asked: of(Occupied, Lost), Held: of(No)}},
	{Slug: "forward-wrong-port", Hop: HopForward, Actor: OnSite, Scope: ScopeService, Weight: 4,
		So:   "The forward of {port} leads to another port of {device} than {inside}",
		Next: "In the router, correct the forward: {forward}.",
		Predicts: Predictions{Way: of(ByForward), Outside: of(Refused, Garbled, Stranger), Shown: of(OwnOther),
			Reach: of(PassedOn, RefusedBehind, AnsweredBehind), Inside: of(InOpen), Device: of(There), Mapping: of(ListedOtherPort),
			Alive: of(Heard), Asked: of(Occupied, Lost), Held: of(No)}},
	{Slug: "port-conflict", Hop: HopForward, Actor: OnSite, Scope: ScopeService, Weight: 1,
		So: "Another machine has asked the router for {port}, and gets what is meant for {device}",
		Next: "In the router, delete the mapping that {holder} asked for, enter the forward: {forward}, and switch off asked-for " +
			"mappings (UPnP).",
		Predicts: Predictions{Way: of(ByForward), Outside: of(Stranger, Garbled, Refused, Silent, Hung), Inside: of(InOpen),
			Device: of(There),
			Reach:  of(PassedOn, RefusedBehind, AnsweredBehind), Mapping: of(ListedForAnother), Alive: of(Heard),
			Asked: of(Occupied, Lost),
			Held:  of(No)}},
	{Slug: "router-answers", Hop: HopForward, Actor: OnSite, Scope: ScopeService, Weight: 2,
		So:   "Something else answers at {port} before {device}: the router's own page, its VPN or the provider's access",
		Next: "See in the router whether its own page, VPN or the provider's access uses {port}; move one of the two to another port.",
		Predicts: Predictions{Way: of(ByForward), Outside: of(Garbled, Stranger, Hung), Shown: of(Unknown), Reach: of(AnsweredRouter),
			Inside: of(InOpen, InRefused), Device: of(There), Alive: of(Heard), Mapping: of(NotListed), Held: of(No)}},
	{Slug: "pinhole-missing", Hop: HopForward, Actor: OnSite, Scope: ScopeService, Weight: 12,
		So: "The router does not let {inside} in to {device} over IPv6",
		Next: "In the router's IPv6 firewall, allow {inside} to {v6} ({device}). The card has the fields: inkpost service card {site} " +
			"{service}.",
		Predicts: shutOut.but(Renewed, of(No))},
	{Slug: "pinhole-stale", Hop: HopForward, Actor: OnSite, Scope: ScopeService, Weight: 4,
		So: "The pinhole of {inside} leads to an IPv6 address that {device} no longer has",
		Next: "In the router's IPv6 firewall, change the rule of {inside} to {v6} ({device}), or to the device's interface identifier " +
			"where " +
			"the router can.",
		Predicts: shutOut.but(Renewed, of(Yes))},
}

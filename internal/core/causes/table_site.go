package causes

// goneDark is what a site predicts that nothing is heard of.
var goneDark = Predictions{Outside: of(Silent, HostByWay, NetByWay, ProhibitedByWay, Unroutable),
	Reach: of(StoppedBefore, StoppedSite, StoppedRouter, StoppedModem), Alive: of(Quiet), Siblings: of(Fail),
	Others: of(Fail), Held: of(No), Together: of(Yes), Family: of(OtherFails)}

// siteCauses take the whole site, or many of one provider.
var siteCauses = []Cause{
	{Slug: "site-dark", Hop: HopAddress, Actor: OnSite, Scope: ScopeSite, Weight: 20,
		So:       "Nothing answers at {address}, and nothing is heard from the site: its power or its line is down",
		Next:     "Call the site: is the power on, is the modem's line light on? If both, report the line to {provider}.",
		Predicts: goneDark.but(Provider, of(Few))},
	{Slug: "provider-outage", Hop: HopAddress, Actor: TheProvider, Scope: ScopeProvider, Weight: 4,
		So:       "{address} is dark, together with other sites of {provider}: the provider has an outage",
		Next:     "Report it to {provider}, or wait: nobody at the site can mend it.",
		Predicts: goneDark.but(Provider, of(Many))},
	{Slug: "router-reset", Hop: HopForward, Actor: OnSite, Scope: ScopeRouter, Weight: 5,
		So:   "The site is alive at {address}, and none of its forwards is left: the router was reset, or lost its settings",
		Next: "Load the router's saved settings, or enter the forwards anew. The sheet has them: inkpost service card {site} {service}.",
		Predicts: Predictions{Outside: of(Silent, Refused, ProhibitedBySite), Reach: of(StoppedRouter, StoppedSite, RefusedRouter,
			RefusedSite),
			Way: of(ByForward), Inside: of(InOpen), Device: of(There), Alive: of(Heard), Siblings: of(Fail),
			Others: of(Fail),
			NAT:    of(Direct, Double), WAN: of(Same), Restarted: of(Yes), Loopback: of(LoopSilent), Mapping: of(NotListed),
			Asked: of(Arrived),
			Held:  of(No), Provider: of(Few), Together: of(Yes)}},
}

// addressCauses are about where a link is.
var addressCauses = []Cause{
	{Slug: "no-route", Hop: HopAddress, Actor: TheProvider, Scope: ScopeLink, Weight: 1,
		So:   "The network on the way has no route to {address}, though the site is alive",
		Next: "Report it to {provider}: its network does not route {address}.",
		Predicts: Predictions{Outside: of(HostByWay, NetByWay, Unroutable, Silent), Reach: of(StoppedBefore), Alive: of(Heard),
			Siblings: of(Fail), Others: of(Fail), Held: of(No), Family: of(OtherFails)}},
	{Slug: "moved-unannounced", Hop: HopAddress, Actor: OnSite, Scope: ScopeLink, Weight: 5,
		So: "Somebody else answers at {address}: the site has another address, and nothing has announced it",
		Next: "Find out the site's present address: call someone there, or look at the customer page of {provider}. See why {announcer} " +
			"does not announce it: is it on, and does it reach this server? Nothing is probed at {address} once a stranger is certain.",
		Predicts: Predictions{Outside: of(Refused, Garbled, Stranger, Hung, ProhibitedBySite, Silent), Shown: of(Unknown),
			Alive: of(Quiet), Siblings: of(Fail), Others: of(Fail), Held: of(No), Family: of(OtherFails)}},
	{Slug: "address-held", Hop: HopAddress, Actor: AtTheDesk, Scope: ScopeLink, Weight: 5,
		So:       "Link {link} reports another address, which is not followed",
		Next:     "See what each source says, and why it is not followed: inkpost link show {site} {link}",
		Predicts: Predictions{Held: of(Yes)}},
	{Slug: "address-unknown", Hop: HopAddress, Actor: AtTheDesk, Scope: ScopeLink,
		So: "The public address of link {link} is not known yet", Next: "Start an agent at the site: inkpost agent invite {site} {link}"},
	{Slug: "link-failing", Hop: HopAddress, Actor: OnSite, Scope: ScopeLink,
		So: "Link {link} is down", Next: "Look at the modem and router of link {link}; then report the line to {provider}."},
	{Slug: "updater-overdue", Hop: HopAddress, Actor: OnSite, Scope: ScopeLink, Soon: true,
		So:   "What announces link {link} is overdue; a new address would not be noticed",
		Next: "Look at the machine that runs the agent: is it on, and does it reach this server? Check the agent's log."},
	{Slug: "key-refused", Hop: HopAddress, Actor: OnSite, Scope: ScopeLink, Soon: true,
		So: "Announcements of link {link} are refused",
		Next: "Correct it at the site. A new key: inkpost agent invite {site} {link} for an agent, inkpost agent router-url {site} " +
			"{link} for " +
			"a router."},
	{Slug: "site-resolver", Hop: HopAddress, Actor: OnSite, Scope: ScopeSite, Soon: true,
		So:   "The resolver at the site does not resolve the server's name",
		Next: "Set a working resolver in the router, or on the agent's machine."},
	{Slug: "prefix-moved", Hop: HopAddress, Actor: OnSite, Scope: ScopeLink, Weight: 3,
		So: "The IPv6 prefix of link {link} has changed: the devices have other addresses than their pinholes and names say",
		Next: "Have the devices looked for now (inkpost agent lan {site} --now), then set the pinholes for the new addresses, or for " +
			"the device's interface identifier where the router can.",
		Predicts: Predictions{Way: of(ByPinhole), Outside: of(Silent, HostByWay, HostBySite, NetByWay, NetBySite, ProhibitedBySite,
			Unroutable), Renewed: of(Yes), Inside: of(InOpen), Device: of(There), Siblings: of(Fail), Others: of(Fail),
			Alive: of(Heard)}},
	{Slug: "family-lost", Hop: HopAddress, Actor: TheProvider, Scope: ScopeLink, Weight: 3,
		So:   "The site is reached over IPv4, and no longer over IPv6",
		Next: "See on the router's status page whether it still has an IPv6 prefix from {provider}; restart it once, then report the line.",
		Predicts: Predictions{Way: of(ByPinhole), Outside: of(Silent, HostByWay, NetByWay, ProhibitedByWay, Unroutable),
			Reach: of(StoppedBefore), Family: of(OtherWorks), Others: of(Fail), Siblings: of(Fail), Alive: of(Heard),
			Held: of(No)}},
}

package causes

// nameCauses are about what names answer.
var nameCauses = []Cause{
	{Slug: "name-stale", Hop: HopHostname, Actor: AtTheDesk, Scope: ScopeHostname,
		So:   "{hostname} answers {given} instead of {want}",
		Next: "Look at the service's log for the zone; it publishes the address again at the next announcement."},
	{Slug: "name-missing", Hop: HopHostname, Actor: AtTheDesk, Scope: ScopeHostname,
		So:   "{hostname} has no address in its zone, although {want} is known",
		Next: "Look at the service's log for the zone; it publishes the address again at the next announcement."},
	{Slug: "resolver-behind", Hop: HopHostname, Actor: Nobody, Scope: ScopeHostname, Soon: true,
		So: "{hostname} is right at its own name server, but not everywhere",
		Next: "Ask whoever runs the resolver to forget the name, and use another resolver until then: it keeps answers longer than " +
			"their TTL " +
			"allows. Or the zone's other name servers do not have the change yet."},
	{Slug: "primary-refuses", Hop: HopHostname, Actor: AtTheDesk, Scope: ScopeZone,
		So: "{zone} does not get the new address of {hostname}: its primary refuses the update",
		Next: "Ask whoever runs {primary} to allow our key to update these names, then: inkpost zone push {zone}. Compare the key's " +
			"name and " +
			"secret with the primary's, and the two clocks."},
	{Slug: "primary-away", Hop: HopHostname, Actor: AtTheDesk, Scope: ScopeZone,
		So:   "{zone} does not get the new address of {hostname}: its primary does not answer",
		Next: "See whether {primary} is up and lets us through. Nothing is lost: the newest address goes there when it answers."},
}

// otherCauses are of none of the above.
var otherCauses = []Cause{
	{Slug: "exposed", Hop: HopForward, Actor: OnSite, Scope: ScopeService,
		So:   "{port} must stay closed, yet anyone can open it",
		Next: "Remove the forward of {port} in the router, or switch off its remote management."},
	{Slug: "one-side-only", Hop: HopVantage, Actor: AtTheDesk, Scope: ScopeLink, Weight: 4,
		So: "Reached from {reached}, but not from {missed}",
		Next: "Look whether the router or {devices} blocks some networks (a country list, an address list, attack protection). If not, " +
			"report the way to {provider}: give both ends.",
		Predicts: Predictions{Vantages: of(Some)}},
	{Slug: "unexplained", Hop: HopAddress, Actor: AtTheDesk, Scope: ScopeService,
		So:   "{service} fails, and what is seen fits no single cause",
		Next: "See the evidence for and against each cause: inkpost why {site} --all. More is known with an agent at the site."},
	{Slug: "not-provable", Hop: HopService, Actor: AtTheDesk, Scope: ScopeService, Soon: true,
		So:   "{service} is carried by UDP and owes nobody an answer: its silence proves nothing",
		Next: "Have the agent prove the way in: inkpost agent prove {site}. For WireGuard, add the key of the probe as a peer."},
	{Slug: "inside-only", Hop: HopForward, Actor: Nobody, Scope: ScopeSite, Soon: true,
		So:   "{service} is reached from outside; at the site itself, {address} does not answer: the router does not loop traffic back",
		Next: "Nothing is broken. At the site, use {at}, or have the site's own resolver answer {hostname} with it."},
	{Slug: "vantage-fault", Hop: HopVantage, Actor: AtTheDesk, Scope: ScopeVantage, Soon: true,
		So: "A vantage point is itself at fault: it misses what others reach, or everything at once",
		Next: "See what it says of itself: inkpost vantage list. Its own line, resolver or clock is the likelier cause; its results do " +
			"not count."},
	{Slug: "certificate-unrenewed", Hop: HopVantage, Actor: AtTheDesk, Scope: ScopeVantage, Soon: true,
		So: "The authority does not renew the console's certificate",
		Next: "See what it answers: inkpost doctor. Without another, browsers, agents and vantage points will not come in once it has " +
			"expired; one from elsewhere goes with inkpost serve --tls-cert and --tls-key."},
}

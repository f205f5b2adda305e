package causes

// notThere is what a device predicts that nobody finds.
var notThere = Predictions{Outside: of(Silent, HostBySite, HostByWay), Reach: of(PassedOn), Device: of(Away), Siblings: of(Fail),
	Alive: of(Heard), Held: of(No), Family: of(OtherFails)}

// deviceCauses take a device and all of its services.
var deviceCauses = []Cause{
	{Slug: "device-off", Hop: HopDevice, Actor: OnSite, Scope: ScopeDevice, Weight: 15,
		So: "Device {device} does not answer on any of its ports: it is off, or its cable is out",
		Next: "Ask someone at the site whether {device} is on. If it is, look in the router's list of devices for {mac}: it must have " +
			"{at}.",
		Predicts: notThere.but(Asleep, of(No))},
	{Slug: "device-asleep", Hop: HopDevice, Actor: Nobody, Scope: ScopeDevice, Weight: 8,
		So:       "{device} is asleep or switched off, as usual at this time of the day{hours}",
		Next:     "Wait until it is usually on, or have it stay awake: in its power settings, or by a timer that wakes it.",
		Predicts: notThere.but(Asleep, of(Yes))},
	{Slug: "device-drifted", Hop: HopDevice, Actor: OnSite, Scope: ScopeDevice, Weight: 12,
		So:   "{device} is at {found} now, and the forwards lead to {at}",
		Next: "In the router, reserve {at} for {mac}, then restart {device}; or record {found} and change the forwards.",
		Predicts: Predictions{Shown: of(Unknown), Outside: of(Silent, HostBySite, HostByWay, Refused, Stranger, Garbled, Hung),
			Reach: of(PassedOn, RefusedBehind, AnsweredBehind), Device: of(Drifted, DriftedTaken),
			Way: of(ByForward), Alive: of(Heard), Held: of(No)}},
	{Slug: "address-taken", Hop: HopDevice, Actor: OnSite, Scope: ScopeDevice, Weight: 4,
		So: "Another machine has {at}, the address of {device}: the forwards lead to it",
		Next: "In the router, see which machine {holder} is, and reserve {at} for {mac}; then start both anew. Where {device} was " +
			"replaced, record its new MAC.",
		Predicts: Predictions{Shown: of(Unknown), Outside: of(Refused, Stranger, Garbled, Silent, Hung), Reach: of(PassedOn, RefusedBehind,
			AnsweredBehind),
			Device: of(AwayTaken), Way: of(ByForward), Alive: of(Heard), Held: of(No)}},
	{Slug: "device-firewall", Hop: HopDevice, Actor: OnSite, Scope: ScopeService, Weight: 8,
		So:   "{device} is on, and its own firewall drops {inside}, even from inside",
		Next: "On {device}, allow {inside} in the device's own firewall.",
		Predicts: Predictions{Outside: of(Silent, ProhibitedBySite), Reach: of(PassedOn, RefusedBehind), Inside: of(InSilent, InProhibited),
			Device: of(There), Alive: of(Heard), Held: of(No)}},
	{Slug: "device-lan-only", Hop: HopDevice, Actor: OnSite, Scope: ScopeService, Weight: 6,
		So:   "The firewall of {device} lets {inside} in from its own LAN only",
		Next: "On {device}, allow {inside} from anywhere in the device's own firewall, not from its LAN only.",
		Predicts: Predictions{Outside: of(Silent, ProhibitedBySite, Refused), Reach: of(PassedOn, RefusedBehind), Inside: of(InOpen),
			Device: of(There), Mapping: of(Listed), Alive: of(Heard), Asked: of(Occupied, Lost), Held: of(No), Renewed: of(No)}},
	{Slug: "in-dynamic-range", Hop: HopDevice, Actor: OnSite, Scope: ScopeDevice, Soon: true,
		So:   "The router may give {at}, which is {device}'s, to another device",
		Next: "In the router, reserve an address outside the range that it gives out for {device}, or take {at} out of that range."},
	{Slug: "device-ipv6-lost", Hop: HopHostname, Actor: OnSite, Scope: ScopeHostname,
		So: "{hostname} answers an IPv6 address that {device} no longer has",
		Next: "See whether {device} still has IPv6, and whether the router still gives a prefix to its LAN. The agent has to be on the " +
			"same " +
			"LAN."},
}

// serviceCauses are of one service.
var serviceCauses = []Cause{
	{Slug: "service-stopped", Hop: HopService, Actor: OnSite, Scope: ScopeService, Weight: 20,
		So:   "Nothing listens on {inside} of {device}: the service is not running",
		Next: "On {device} ({at}), start what should listen on {inside}, and make it start at boot.",
		Predicts: Predictions{Outside: of(Refused), Reach: of(RefusedBehind), Inside: of(InRefused), Device: of(There),
			Alive: of(Heard), Held: of(No)}},
	{Slug: "ipv4-only", Hop: HopService, Actor: OnSite, Scope: ScopeService, Weight: 6,
		So:   "{inside} is let in over IPv6, and nothing listens at the IPv6 address of {device}",
		Next: "On {device}, have what listens on {inside} listen on IPv6 too ({v6}).",
		Predicts: Predictions{Way: of(ByPinhole), Outside: of(Refused), Reach: of(RefusedBehind), Inside: of(InOpen), Device: of(There),
			Alive: of(Heard), Held: of(No)}},
	{Slug: "service-hung", Hop: HopService, Actor: OnSite, Scope: ScopeService, Weight: 5,
		So:   "{service} accepts, and does not speak: it hangs, or is overloaded",
		Next: "On {device} ({at}), restart what listens on {inside}, and see its log for why it hung.",
		Predicts: Predictions{Outside: of(Hung, Silent), Reach: of(PassedOn, AnsweredBehind), Inside: of(InHung, InSilent),
			Device: of(There),
			Alive:  of(Heard), Held: of(No)}},
	{Slug: "service-changed", Hop: HopService, Actor: AtTheDesk, Scope: ScopeService, Weight: 8,
		So: "{port} answers, but it is not the {service} that was commissioned: another key or certificate",
		Next: "Ask whether {device} was replaced, reset or given a new certificate. If so, pin what it shows now: inkpost service pin " +
			"{site} {service}. If nobody knows of it, take the forward away first.",
		Predicts: Predictions{Outside: of(Stranger), Shown: of(Unknown), Inside: of(InOther), Device: of(There), Reach: of(AnsweredBehind),
			Alive: of(Heard), Held: of(No)}},
	{Slug: "other-protocol", Hop: HopService, Actor: OnSite, Scope: ScopeService, Weight: 4,
		So:   "Something else answers on {port}: it does not speak {kind}",
		Next: "See what runs on {device} at {inside}, and whether {port} goes to {device} and to no other device.",
		Predicts: Predictions{Outside: of(Garbled), Inside: of(InOther), Device: of(There), Reach: of(AnsweredBehind),
			Alive: of(Heard), Held: of(No)}},
	{Slug: "certificate-expired", Hop: HopService, Actor: OnSite, Scope: ScopeService, Soon: true,
		So:   "The certificate of {service} has expired",
		Next: "Renew it on {device}, and make sure that it renews itself. With a new key, pin what is shown then."},
	{Slug: "certificate-name", Hop: HopService, Actor: OnSite, Scope: ScopeService, Soon: true,
		So: "The certificate of {service} is made out to {names}, not to {hostname}",
		Next: "On {device}, have a certificate made out to {hostname} too; or reach {service} by the name that the certificate has. " +
			"With a new key, pin what is shown then."},
	{Slug: "certificate-expiring", Hop: HopService, Actor: OnSite, Scope: ScopeService, Soon: true,
		So:   "The certificate of {service} expires soon",
		Next: "Renew it on {device}, and make sure that it renews itself. With a new key, pin what is shown then."},
}

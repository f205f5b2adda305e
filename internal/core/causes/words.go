package causes

// signWords names a sign and its values, in words that end "from outside: …".
type signWords struct {
	name   string
	values []string
	// hard: a cause that predicts otherwise is out; a soft sign may mislead now and then.
	hard bool
	by   Check
	// base is how often each value is seen at all, whatever the cause; nil for equally often. The sum does not matter.
	base []float64
	// slip is how often the sign misleads, where it is soft; 0 for the usual.
	slip float64
	// soft are values of a hard sign that exclude nothing all the same.
	soft Set
}

var signTable = [signCount]signWords{
	Outside: {name: "from outside", values: []string{"silence", "refused", "host unreachable, said by the site's own address",
		"host unreachable, said on the way", "network unreachable, said by the site's own address", "network unreachable, said on the way",
		"prohibited, said by the site's own address", "prohibited, said on the way", "unroutable", "opened, then silence",
		"another protocol", "another fingerprint"}, hard: true, base: []float64{10, 5, 2, 1, 0.5, 0.5, 1, 0.5, 0.5, 1, 1, 1.5}},
	Reach: {name: "packets with a hop limit", values: []string{"the router passes the port on", "they end at the router",
		"they end at the modem in front of the router", "they end at the site's own address", "they end before the site",
		"the router refuses", "the modem in front of the router refuses", "the site's own address refuses", "the device refuses",
		"the router itself answers", "a machine behind the router answers"}, hard: true, by: HopLimited},
	Way: {name: "the way that fails", values: []string{"a forward", "a pinhole (IPv6)", "to the router itself"}, hard: true,
		base: []float64{16, 3, 1}},
	Family:    {name: "the other way", values: []string{"works", "fails"}, hard: true},
	Transport: {name: "carried by", values: []string{"TCP", "UDP"}, hard: true, base: []float64{4, 1}},
	Inside: {name: "from inside", values: []string{"open", "refused", "silence", "prohibited", "opened, then silence",
		"answers as another"}, hard: true, by: LookInside},
	Device: {name: "on the LAN", values: []string{"the device is there", "nobody has the device's address",
		"another machine has the device's address", "the device has another address", "the device has another address, and another " +
			"machine has its own"}, hard: true, by: LookInside, base: []float64{10, 3, 1, 2, 0.5}},
	Shown: {name: "the fingerprint", values: []string{"is that of another device of the site", "is nobody's of the site",
		"is that of another service of the device"}, hard: true},
	Loopback: {name: "the public address from inside", values: []string{"answers", "is silent"}, by: LoopLook},
	Mapping: {name: "the router's list of forwards", values: []string{"has the port", "leads the port to another machine", "leads the " +
		"port to another port of " +
		"the device", "leads the port to a machine that asked for it", "does not have the port"}, by: AskGateway},
	Asked: {name: "a mapping asked for as a trial", values: []string{"lets a probe in", "is granted, and lets nothing in",
		"is refused: the port is taken"}, hard: true, by: TryMapping},
	Elsewhere: {name: "the same port at other sites of the provider", values: []string{"fails", "works"}, by: CompareSites,
		base: []float64{1, 9}, slip: 0.05},
	Renewed: {name: "the device's IPv6 address", values: []string{"is a new one", "is as before"}, by: LookInside, base: []float64{1, 9}},
	Port: {name: "the port", values: []string{"is one that providers block", "is not known to be blocked"}, base: []float64{3, 97},
		slip: 0.5},
	Siblings: {name: "other services of the device", values: []string{"work", "fail"}, hard: true, base: []float64{2, 1}},
	Asleep: {name: "at this time of the day the device", values: []string{"is usually away", "is usually there"}, hard: true,
		base: []float64{1, 9}},
	Others: {name: "other devices on the link", values: []string{"can be reached", "fail"}, hard: true,
		base: []float64{5, 2}},
	Alive: {name: "the site", values: []string{"was heard since", "has not been heard since"}, hard: true,
		by: StartAgent, base: []float64{6, 1}, soft: of(Quiet)},
	NAT: {name: "in front of the router", values: []string{"nothing", "another NAT", "the provider's NAT"}, hard: true,
		by: StartAgent, base: []float64{15, 4, 1}},
	WAN: {name: "the router's own WAN address", values: []string{"is the one probed", "is another"}, hard: true, by: AskGateway,
		base: []float64{4, 1}},
	Restarted: {name: "the router", values: []string{"has started anew since", "has been up all the while"}, by: AskGateway,
		base: []float64{1, 9}},
	Held: {name: "a new address of the link", values: []string{"is not followed", "is not reported"}, hard: true, base: []float64{1,
		49}},
	Provider: {name: "of the provider's sites", values: []string{"many went dark together", "this one only"}, by: CompareSites,
		base: []float64{1, 19}},
	Together: {name: "the services", values: []string{"failed at one time", "failed one after another"}},
	Vantages: {name: "vantage points", values: []string{"all see it", "some do not see it"}, hard: true, by: LookElsewhere,
		base: []float64{19, 1}},
}

// String names the sign.
func (s Sign) String() string { return signTable[s].name }

// Words says a value of the sign; "" for one that it does not have.
func (s Sign) Words(v Value) string {
	if v == Unseen || int(v) > len(signTable[s].values) {
		return ""
	}
	return signTable[s].values[v-1]
}

// Values counts the values of the sign.
func (s Sign) Values() int { return len(signTable[s].values) }

// Hard reports whether a cause that predicts another value is out.
func (s Sign) Hard() bool { return signTable[s].hard }

// Excludes reports whether a value excludes a cause that predicts another.
func (s Sign) Excludes(v Value) bool { return s.Hard() && !signTable[s].soft.Has(v) }

// Check returns what brings the sign about; "" if it comes by itself.
func (s Sign) Check() Check { return signTable[s].by }

// Signs lists all signs.
func Signs() []Sign {
	out := make([]Sign, signCount)
	for i := range out {
		out[i] = Sign(i)
	}
	return out
}

// misleads is how often a soft sign says what the cause does not predict.
func (s Sign) misleads() float64 {
	if own := signTable[s].slip; own > 0 {
		return own
	}
	return slip
}

// chance is how often a value of the sign is seen, among those of a set.
func (s Sign) chance(v Value, among Set) float64 {
	base := signTable[s].base
	sum := 0.0
	for x := 1; x <= s.Values(); x++ {
		if among.Has(Value(x)) {
			sum += weight(base, x)
		}
	}
	if !among.Has(v) || sum == 0 {
		return 0
	}
	return weight(base, int(v)) / sum
}

func weight(base []float64, v int) float64 {
	if base == nil {
		return 1
	}
	return base[v-1]
}

// all is the set of all values of the sign.
func (s Sign) all() Set { return Set(1<<(s.Values()+1) - 2) }

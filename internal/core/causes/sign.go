// Package causes holds the causes of faults as a table: what each predicts of the signs that can be seen, how common it is, at which hop it
// is and who can act. Ranking compares what was seen with the predictions; it knows nothing else of networks.
package causes

import "math/bits"

// Sign is one thing that can be seen of a failure. Several values of it exclude each other.
type Sign uint8

// The signs. Those up to Port are of one service, Siblings and Asleep of its device, the others of its link.
const (
	Outside   Sign = iota // what came back outside, and who said it
	Reach                 // how far packets with a hop limit got
	Way                   // which way fails: through a forward, or to the device's own IPv6 address
	Family                // how the other of two ways does
	Inside                // what the port says to an agent at the site
	Device                // who has the device's recorded LAN address, and where the device is
	Shown                 // whose fingerprint a stranger shows
	Loopback              // what the public address and port say from inside, where the router loops back
	Asked                 // what became of a mapping that was asked for, to prove the way in
	Mapping               // what the gateway's list says of the port
	Elsewhere             // the same port at other sites of the provider
	Renewed               // whether the device's IPv6 address is another than lately
	Transport             // what carries the service
	Port                  // whether providers are known to block the port
	Siblings              // the other services of the device
	Asleep                // whether the device is usually away at this time of the day
	Others                // the services of other devices on the link
	Alive                 // whether the site was heard since the failure began
	NAT                   // what stands in front of the router
	WAN                   // whether the router has the address that is probed
	Restarted             // whether the router started anew since it last worked
	Held                  // whether a new address of the link is not followed
	Provider              // whether many sites of the provider went dark with this one
	Together              // whether the link's services failed at one time
	Vantages              // whether all vantage points see it
	signCount
)

// Value of a sign. Zero is that it is not known.
type Value uint8

// Unseen is the value of a sign of which nothing is known.
const Unseen Value = 0

// Values of Outside. BySite: the message came from the site's own public address or prefix; ByWay: from an address on the way.
const (
	Silent Value = iota + 1
	Refused
	HostBySite
	HostByWay
	NetBySite
	NetByWay
	ProhibitedBySite
	ProhibitedByWay
	Unroutable // nobody knows who said it
	Hung       // opened, then nothing was said
	Garbled
	Stranger
)

// Values of Reach. Router is the NAT that has the LAN; Modem one in front of it; Site is one of the two.
const (
	PassedOn Value = iota + 1
	StoppedRouter
	StoppedModem
	StoppedSite
	StoppedBefore
	RefusedRouter
	RefusedModem
	RefusedSite
	RefusedBehind
	AnsweredRouter
	AnsweredBehind
)

// Values of Way, Family and Transport.
const (
	ByForward Value = iota + 1
	ByPinhole
	OnRouter // the router itself serves it
)

// Values of Family.
const (
	OtherWorks Value = iota + 1
	OtherFails
)

// Values of Transport.
const (
	OverTCP Value = iota + 1
	OverUDP
)

// Values of Inside.
const (
	InOpen Value = iota + 1
	InRefused
	InSilent
	InProhibited
	InHung
	InOther
)

// Values of Device.
const (
	There Value = iota + 1
	Away
	AwayTaken // another machine has its address
	Drifted
	DriftedTaken
)

// Values of Shown.
const (
	Sibling Value = iota + 1 // one that is pinned for another device of the site
	Unknown
	OwnOther // one that is pinned for another service of the device
)

// Values of Loopback.
const (
	LoopAnswers Value = iota + 1
	LoopSilent
)

// Values of Mapping.
const (
	Listed           Value = iota + 1
	ListedElsewhere        // to another machine
	ListedOtherPort        // to another port of the device
	ListedForAnother       // by a machine that asked the gateway for it
	NotListed
)

// Values of Asked.
const (
	Arrived Value = iota + 1
	Lost
	Occupied // the gateway has a mapping of the port already
)

// Values of Elsewhere.
const (
	ElsewhereFails Value = iota + 1
	ElsewhereWorks
)

// Yes and No are the values of Renewed, Asleep, Restarted, Held and Together.
const (
	Yes Value = iota + 1
	No
)

// Values of Port.
const (
	OftenBlocked Value = iota + 1
	Ordinary
)

// Values of Siblings and Others. Where there are none, they are not seen.
const (
	Work Value = iota + 1
	Fail
)

// Values of Alive. Where nobody announces the link's address, it is not seen.
const (
	Heard Value = iota + 1
	Quiet
)

// Values of NAT.
const (
	Direct Value = iota + 1
	Double
	Carrier
)

// Values of WAN.
const (
	Same Value = iota + 1
	Differs
)

// Values of Provider.
const (
	Many Value = iota + 1
	Few
)

// Values of Vantages.
const (
	All Value = iota + 1
	Some
)

// Set of values of one sign. The empty set is a prediction that says nothing.
type Set uint16

// of returns a set.
func of(list ...Value) (s Set) {
	for _, v := range list {
		s |= 1 << v
	}
	return s
}

// Has reports whether v is in s.
func (s Set) Has(v Value) bool { return s&(1<<v) != 0 }

// Len counts the values of s.
func (s Set) Len() int { return bits.OnesCount16(uint16(s)) }

// Values lists the values of s.
func (s Set) Values() (out []Value) {
	for v := Value(1); v < 16; v++ {
		if s.Has(v) {
			out = append(out, v)
		}
	}
	return out
}

// Seen is what is known of a failure: a value of each sign, or Unseen.
type Seen [signCount]Value

// Known lists the signs of which something is known.
func (s Seen) Known() (out []Sign) {
	for i := range s {
		if s[i] != Unseen {
			out = append(out, Sign(i))
		}
	}
	return out
}

// level is what a sign is of.
type level uint8

const (
	ofService level = iota
	ofDevice
	ofLink
)

func (s Sign) level() level {
	switch {
	case s < Siblings:
		return ofService
	case s < Others:
		return ofDevice
	}
	return ofLink
}

// behind reports whether a sign shows what is behind the router: where two causes are at work, the one further in decides it.
func (s Sign) behind() bool {
	switch s {
	case Inside, Device, Asleep, Siblings, Renewed:
		return true
	}
	return false
}

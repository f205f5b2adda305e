package diagnose

import (
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/wan"
)

// OfName is the verdict on a hostname: proven where the servers answer what they should, broken where they do not.
func OfName(s names.State) Verdict {
	switch s {
	case names.StatePointed:
		return Proven
	case names.StateSettling:
		return Unsettled
	case names.StateIdle:
		return Unproven
	}
	return Broken
}

// OfService is the verdict on a service as a whole. A service that is seen from some vantage points only is broken: it is not as its
// owner wants it.
func OfService(expected probe.Expected, s probe.State) Verdict {
	switch {
	case probe.AsExpected(expected, s):
		return Proven
	case s == probe.StateUnknown:
		return Unsettled
	}
	return Broken
}

// OfOutcome is the verdict of one outcome: unproven where it says nothing of the service.
func OfOutcome(r probe.Rule, o probe.Outcome) Verdict {
	switch r.Meaning(o) {
	case probe.AsWanted:
		return Proven
	case probe.NotWanted:
		return Broken
	}
	return Unproven
}

// OfAlias is the verdict on an alias: unproven until it was asked, unsettled where it differs from its hostname.
func OfAlias(asked, same bool) Verdict {
	switch {
	case !asked:
		return Unproven
	case same:
		return Proven
	}
	return Unsettled
}

// OfNAT is the verdict on what stands in front of a link's router. A second NAT can be worked with, a carrier's cannot.
func OfNAT(v wan.Verdict) Verdict {
	switch v {
	case wan.NATDirect:
		return Proven
	case wan.NATDouble:
		return Unsettled
	case wan.NATCarrier:
		return Broken
	}
	return Unproven
}

// OfDevice is the verdict on a device as an agent last saw it, and the words for it. Found is the LAN address that it has instead of
// the one on record, or empty.
func OfDevice(present, unsure bool, found string) (Verdict, string) {
	switch {
	case unsure && found == "":
		return Unsettled, "not known yet: it was there a moment ago"
	case found != "":
		return Broken, "at " + found + ", not where the record has it"
	case present:
		return Proven, "there"
	}
	return Broken, "does not answer"
}

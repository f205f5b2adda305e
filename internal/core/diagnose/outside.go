package diagnose

import (
	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/probe"
)

// outside says what came back, and who said it.
func outside(s ServiceEvidence, l LinkEvidence) causes.Value {
	switch s.Outcome {
	case probe.Silent:
		if said := unreachable(s, l); said != causes.Unseen {
			return said
		}
		return causes.Silent
	case probe.Refused:
		return causes.Refused
	case probe.Garbled:
		if s.Hung {
			return causes.Hung
		}
		return causes.Garbled
	case probe.Stranger:
		return causes.Stranger
	case probe.Unroutable:
	default:
		return causes.Unseen
	}
	if said := notice(s, l, s.ICMP); said != causes.Unseen {
		return said
	}
	return causes.Unroutable
}

// notice says what an ICMP message tells, and whether the site said it.
func notice(s ServiceEvidence, l LinkEvidence, m probe.ICMP) causes.Value {
	said := map[probe.Notice][2]causes.Value{probe.HostUnreachable: {causes.HostByWay, causes.HostBySite},
		probe.NetUnreachable: {causes.NetByWay, causes.NetBySite}, probe.Prohibited: {causes.ProhibitedByWay, causes.ProhibitedBySite}}
	pair, ok := said[m.Notice()]
	switch {
	case !ok || !m.Came():
		return causes.Unseen
	case probe.OfSite(m.From, s.target()) || probe.OfSite(m.From, l.IPv6):
		return pair[1]
	}
	return pair[0]
}

// unreachable says what was said of a port that is silent now: routers limit how often they say something. It came with an earlier attempt
// of the same failure, or with a packet of limited hops.
func unreachable(s ServiceEvidence, l LinkEvidence) causes.Value {
	if said := notice(s, l, s.ICMP); said != causes.Unseen {
		return said
	}
	if s.Series == nil || s.Series.At.Before(s.Turned) {
		return causes.Unseen
	}
	for _, a := range s.Series.Answers {
		if said := notice(s, l, a.ICMP); said != causes.Unseen {
			return said
		}
	}
	return causes.Unseen
}

// saidOnTheWay says whether somebody on the way has said, of any failing service, that there is no way to the address: that is so for all.
func saidOnTheWay(l LinkEvidence, failing []ServiceEvidence) causes.Value {
	for _, s := range failing {
		if v := outside(s, l); v == causes.NetByWay || v == causes.HostByWay {
			return v
		}
	}
	return causes.Unseen
}

// onceOnTheWay counts what was said on the way to an address once, however many ports it was said of: it is one fact.
func onceOnTheWay(members []causes.Member) {
	said := false
	for i := range members {
		switch v := &members[i].Seen[causes.Outside]; {
		case *v != causes.NetByWay && *v != causes.HostByWay:
		case said:
			*v = causes.Unseen
		default:
			said = true
		}
	}
}

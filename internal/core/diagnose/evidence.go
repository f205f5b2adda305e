// Package diagnose computes from the evidence of one site what is wrong, at which hop, and what to do next. Many
// symptoms with one cause become one finding.
package diagnose

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
)

// Evidence is everything known of one site at one moment.
type Evidence struct {
	Now       time.Time
	Began     time.Time // when this server did
	Site      site.Site
	Links     []LinkEvidence
	Hostnames []HostnameEvidence
	Devices   []site.Device
	Services  []ServiceEvidence
	Seen      map[string]DeviceReport // by device: what an agent saw of it from inside
	Lossy     bool                    // probes get lost at most links: that is our own line
}

// LinkEvidence is a link, whether its agent should have been heard from by now, and what is known from the site's side.
type LinkEvidence struct {
	site.Link
	Overdue   bool
	NAT       wan.NAT
	Rhythm    time.Duration // how often a router without an agent announces; 0 if that is not known
	Resolver  string        // what is wrong with name resolution at the site
	Refused   []RefusedEvidence
	Held      string        // why a new address is not followed yet; "" if none is held back
	Reported  time.Time     // when an agent last told what its sources say
	Announced bool          // the link's address is announced at regular intervals
	Every     time.Duration // how long those are; 0 if that is not known
	// Gateway is the WAN address that the router itself has, by its own word; zero if that is not known.
	Gateway netip.Addr
	Word    site.RouterWord // what the router says of itself and of the ports
	// DarkWith counts the other sites of the provider that went dark within ten minutes, ProviderSites those that it has.
	DarkWith, ProviderSites int
}

// beginning reports whether an agent has just begun: it was heard, and has not had the time to say where the link is.
func (l LinkEvidence) beginning(now time.Time) bool {
	return l.Agent && l.Reported.IsZero() && len(l.Refused) == 0 && !l.Heard.IsZero() && now.Sub(l.Heard) < time.Minute
}

// HostnameEvidence is a hostname with what its zone should give and gives.
type HostnameEvidence struct {
	site.Hostname
	Want, Given netip.Addr
	State       names.State
	Push        PushEvidence
	LostIPv6    bool     // the device that it names no longer has the IPv6 address that it answers
	Behind      []string // resolvers that give another address although their caches have run out, and what they give
}

// PushEvidence is how pushing a hostname to its remote zone's primary goes. Problem is empty if it goes well.
type PushEvidence struct {
	Problem PushProblem
	Primary string // address of the primary
	Detail  string // what it answered, or how it could not be reached
	Tries   int
	Since   time.Time // when the first of those tries was made
}

// PushProblem is how a push to a primary failed.
type PushProblem string

// How a push fails: the primary answered no, or there was no answer.
const (
	PushRefused     PushProblem = "refused"
	PushUnreachable PushProblem = "unreachable"
)

// ServiceEvidence is a service with its judged state and the newest outcome behind it. OnLink is the label of the link
// it is probed at, Address the address it was probed at last; InRow counts results of the same meaning.
type ServiceEvidence struct {
	site.Service
	OnLink  string
	Address netip.Addr
	State   probe.State
	Outcome probe.Outcome
	InRow   int
	Probed  time.Time
	Turned  time.Time  // since when the outcome has been what it is
	Message string     // what was heard, in words
	ICMP    probe.ICMP // that ended the newest attempt
	Hung    bool       // it accepted, and said nothing
	Trial   site.Trial // of a mapping that was asked for
	Trying  bool       // a trial is under way
	Awaited bool       // it was never seen from outside to be as expected, and nobody says that it is in use
	// WorksElsewhere and SilentElsewhere count the provider's other links at which the same external port works, and at which it alone is
	// silent.
	WorksElsewhere, SilentElsewhere int
	Series                          *probe.Series   // how far packets got since the failure began; nil if that was not measured
	Results                         []VantageResult // of each vantage point
	// Fingerprint is what it last showed of itself, Shut why it is not probed for now, Expires the end of its certificate.
	Fingerprint string
	Quarantine  string
	Expires     time.Time
	// CertificateFor are the names that its certificate is made out to, and Misnamed says that the hostname is none of them.
	CertificateFor []string
	Misnamed       bool
	Lately         probe.Lately // how our own newest probes went
	Ways           []Way        // what was found over each of two ways
	// Settling says that the newest result may be about an address that is no longer the site's.
	Settling bool
}

// Way is one of the ways over which a service is reached, and what came back.
type Way struct {
	Reach   site.Reach
	Target  string
	Outcome probe.Outcome
}

// VantageResult is what one vantage point last saw of a service. Left says why it does not count.
type VantageResult struct {
	Vantage string
	Outcome probe.Outcome
	LeftOut string
}

// counting returns the views that count.
func (s ServiceEvidence) counting() (out []VantageResult) {
	for _, v := range s.Results {
		if v.LeftOut == "" {
			out = append(out, v)
		}
	}
	return out
}

func (s ServiceEvidence) failing() bool {
	return s.State != probe.StateUnknown && !probe.AsExpected(s.Expected, s.State)
}

func (s ServiceEvidence) proven() bool {
	return s.Expected == probe.ExpectReachable && s.State == probe.StateReachable
}

// AllWell reports whether every service is known to be as expected.
func (e Evidence) AllWell() bool {
	return !slices.ContainsFunc(e.Services, func(s ServiceEvidence) bool { return !probe.AsExpected(s.Expected, s.State) })
}

func (e Evidence) link(label string) (LinkEvidence, bool) {
	for _, l := range e.Links {
		if l.Label == label {
			return l, true
		}
	}
	return LinkEvidence{}, false
}

func (e Evidence) device(name string) (site.Device, bool) {
	for _, d := range e.Devices {
		if d.Name == name {
			return d, true
		}
	}
	return site.Device{}, false
}

// target is the address that the newest attempt was made at.
func (s ServiceEvidence) target() netip.Addr {
	for _, w := range s.Ways {
		if !w.Outcome.Good() && w.Outcome != probe.Skipped {
			if at, err := netip.ParseAddrPort(w.Target); err == nil {
				return at.Addr()
			}
		}
	}
	return s.Address
}

// InsideFor is how long what an agent saw of a device counts.
const InsideFor = 5 * time.Minute

// DeviceReport is what an agent saw of a device from inside the site. Ports holds, by service, "open", "refused", "silent", "prohibited",
// "hung", "other" or "unknown"; Found is the address at which the device's MAC is, where that is another than on record.
type DeviceReport struct {
	At      time.Time
	Present bool
	Unsure  bool // it was there a moment ago, and has not answered since
	Found   string
	Ports   map[string]string
	Spoke   map[string]bool   // by service: its own protocol was spoken, and what it shows compared with what is pinned
	Loop    map[string]string // by service: what its public address and port said from inside: "answers", "refused" or "silent"
	Hours   Hours
	MAC     string    // that answers at the recorded address; "" if nobody does
	Missed  int       // looks in a row at which it was not there
	Renewed time.Time // when its IPv6 address was seen to be another; zero if it was not
}

// RefusedEvidence reports announcements that were refused lately.
type RefusedEvidence struct {
	Reason, From string
	Count        int
	Last         time.Time
}

// Probed says when a service was last probed; the zero time where it is not known.
func (e Evidence) Probed(service string) time.Time {
	for _, s := range e.Services {
		if s.Name == service {
			return s.Probed
		}
	}
	return time.Time{}
}

// inside returns what an agent saw of a device lately. What is from the future is not believed.
func (e Evidence) inside(device string) (DeviceReport, bool) {
	s, ok := e.Seen[device]
	return s, ok && e.Now.Sub(s.At) <= InsideFor && s.At.Sub(e.Now) <= clockSlip
}

// clockSlip is how far ahead a time may be.
const clockSlip = 5 * time.Second

// spoken returns a length of time in the unit a person would say.
func spoken(d time.Duration) string {
	for _, unit := range []struct {
		size time.Duration
		word string
	}{{24 * time.Hour, "day"}, {time.Hour, "hour"}, {time.Minute, "minute"}, {time.Second, "second"}} {
		if n := int(d / unit.size); n > 0 {
			if n == 1 {
				return "1 " + unit.word
			}
			return fmt.Sprintf("%d %ss", n, unit.word)
		}
	}
	return "a moment"
}

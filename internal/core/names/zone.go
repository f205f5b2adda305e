package names

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"strings"
)

// Server is one authoritative server of a zone: its name, and its addresses where the name stands inside the zone.
type Server struct {
	Name      Name
	Addresses []netip.Addr
}

// MarshalText writes a server as NAME, or NAME=ADDRESS with commas between several addresses. It returns no error.
func (s Server) MarshalText() ([]byte, error) {
	text := string(s.Name)
	for i, a := range s.Addresses {
		text += map[bool]string{true: "=", false: ","}[i == 0] + a.String()
	}
	return []byte(text), nil
}

// UnmarshalJSON reads what MarshalText writes, and the object that was stored before: {"name", "addresses"}. Errors: those of ParseServer
// and of package json.
func (s *Server) UnmarshalJSON(doc []byte) (err error) {
	var text string
	if json.Unmarshal(doc, &text) == nil {
		*s, err = ParseServer(text)
		return err
	}
	var object struct {
		Name      Name         `json:"name"`
		Addresses []netip.Addr `json:"addresses"`
	}
	err = json.Unmarshal(doc, &object)
	*s = Server(object)
	return err
}

// ParseServer reads a server that is written NAME or NAME=ADDRESS,ADDRESS. Errors: ErrName, that of an address.
func ParseServer(text string) (Server, error) {
	first, rest, addressed := strings.Cut(text, "=")
	name, err := Parse(strings.TrimSpace(first))
	out := Server{Name: name}
	if err != nil || !addressed {
		return out, err
	}
	for _, word := range strings.Split(rest, ",") {
		a, err := netip.ParseAddr(strings.TrimSpace(word))
		if err != nil || a.Zone() != "" {
			return out, fmt.Errorf("%q is not an IP address; give one such as 192.0.2.53 or 2001:db8::53", word)
		}
		out.Addresses = append(out.Addresses, a.Unmap())
	}
	return out, nil
}

// ZoneKind says who serves a zone.
type ZoneKind string

// The kinds of zones: served by Ink Post itself, or pushed to somebody's primary server by DNS UPDATE (RFC 2136).
const (
	Hosted ZoneKind = "hosted"
	Remote ZoneKind = "remote"
)

// Transports of a push.
const (
	OverUDP = "udp"
	OverTCP = "tcp"
)

// Bounds of the interval in which a remote zone's names are asserted again, in seconds.
const (
	MinReassert = 60
	MaxReassert = 30 * 86400
)

// Zone is a DNS zone that hostnames live in. Durations are in seconds, as in the SOA record (RFC 1035 section 3.3.13);
// Negative is how long a resolver may keep "no such name" (RFC 2308 section 4).
type Zone struct {
	ID       int64    `json:"id"`
	Apex     Name     `json:"apex"`
	Contact  Name     `json:"contact"`
	Serial   uint32   `json:"serial"`
	Refresh  uint32   `json:"refresh_seconds"`
	Retry    uint32   `json:"retry_seconds"`
	Expire   uint32   `json:"expire_seconds"`
	Negative uint32   `json:"negative_seconds"`
	TTL      uint32   `json:"ttl_seconds"`
	Servers  []Server `json:"servers"`
	// MName is the SOA record's first field, if that is not the first of the servers: a primary that nobody asks.
	MName Name `json:"mname,omitempty"`
	// Who may have the whole zone (RFC 5936): hosts in these prefixes, and holders of this TSIG key.
	TransferTo  []netip.Prefix `json:"transfer_to,omitempty"`
	TransferKey string         `json:"transfer_key,omitempty"`
	// Secondaries to tell of changes (RFC 1996).
	Notify []netip.AddrPort `json:"notify,omitempty"`
	// Authoritative servers beside our own or the primary that have to answer the same.
	AlsoAsk []netip.AddrPort `json:"also_ask,omitempty"`
	// Template makes the first name of a site, such as {code}.isles.saltmarsh.example.
	Template string `json:"template,omitempty"`

	Kind ZoneKind `json:"kind"`
	// Of a remote zone only: its primary server, how it is reached, the TSIG key that it knows us by, how often its names are
	// asserted again, and whether pushing has begun.
	Primary    netip.AddrPort `json:"primary,omitzero"`
	Transport  string         `json:"transport,omitempty"`
	PrimaryKey string         `json:"primary_key,omitempty"`
	Reassert   int            `json:"reassert_seconds,omitempty"`
	Pushing    bool           `json:"pushing,omitempty"`
	// Revision goes up with every edit of the zone itself, not with its serial.
	Revision int64 `json:"revision"`
}

// Tag stands for the zone as it is: another revision of it, and another zone, have other tags.
func (z Zone) Tag() string { return fmt.Sprintf("%d-%d", z.ID, z.Revision) }

// Bounds of a TTL in seconds. RFC 2181 section 8 allows up to 2^31-1; a day is the most that suits an address that moves.
const (
	MinTTL = 1
	MaxTTL = 86400
)

// CheckTTL returns an error where ttl, in seconds, is outside MinTTL..MaxTTL.
func CheckTTL(ttl int) error {
	if ttl < MinTTL || ttl > MaxTTL {
		return fmt.Errorf("TTL %d is out of range; %d to %d seconds are allowed", ttl, MinTTL, MaxTTL)
	}
	return nil
}

// MaxRecordTTL is the longest TTL that DNS knows, in seconds (RFC 2181 section 8). A record of its own may have that; 0 is legal too:
// such an answer is not kept by anybody.
const MaxRecordTTL = 1<<31 - 1

// CheckRecordTTL returns an error where the TTL of a record of its own, in seconds, is outside 0..MaxRecordTTL.
func CheckRecordTTL(ttl int) error {
	if ttl < 0 || ttl > MaxRecordTTL {
		return fmt.Errorf("TTL %d is out of range; 0 to %d seconds are allowed (RFC 2181 section 8)", ttl, MaxRecordTTL)
	}
	return nil
}

// TTLOf reads the TTL of a received record: with its highest bit set it counts as 0 (RFC 2181 section 8).
func TTLOf(ttl uint32) int {
	if ttl > MaxRecordTTL {
		return 0
	}
	return int(ttl)
}

// WithDefaults fills the fields left zero: timers for a zone whose secondaries are reported changes, TTL 30 s.
func (z Zone) WithDefaults() Zone {
	set := func(field *uint32, value uint32) {
		if *field == 0 {
			*field = value
		}
	}
	if z.Kind == "" {
		z.Kind = Hosted
	}
	if z.Kind == Remote {
		if z.Transport == "" {
			z.Transport = OverUDP
		}
		if z.Reassert == 0 {
			z.Reassert = 86400
		}
	}
	set(&z.Serial, 1)
	set(&z.Refresh, 3600)
	set(&z.Retry, 300)
	set(&z.Expire, 1209600)
	set(&z.Negative, 30)
	set(&z.TTL, 30)
	if z.Contact == "" {
		z.Contact = "hostmaster." + z.Apex
	}
	return z
}

// Check returns what is wrong with the zone's servers: there must be one at least, and one whose name is inside the zone must carry an
// address, or nobody could find it (RFC 1034 section 4.2.1). The error says what is missing, or does not belong there.
func (z Zone) Check() error {
	if z.Kind == Remote {
		return z.checkRemote()
	}
	if z.Primary.IsValid() || z.PrimaryKey != "" {
		return fmt.Errorf("zone %s is hosted here and has no other primary; a primary belongs to a remote zone", z.Apex)
	}
	if z.Transport != "" || z.Reassert != 0 { // of no use here, and yet on record
		if err := z.checkPushes(); err != nil {
			return err
		}
	}
	if len(z.Servers) == 0 {
		return fmt.Errorf("zone %s has no name server; name one at least, such as ns1.%s=198.51.100.1", z.Apex, z.Apex)
	}
	for _, s := range z.Servers {
		if s.Name.Within(z.Apex) && len(s.Addresses) == 0 {
			return fmt.Errorf("name server %s stands inside zone %s and has no address; give it as %s=ADDRESS", s.Name, z.Apex, s.Name)
		}
	}
	return CheckTTL(int(z.TTL))
}

// checkPushes checks how names are pushed.
func (z Zone) checkPushes() error {
	switch {
	case z.Transport != "" && z.Transport != OverUDP && z.Transport != OverTCP, z.Transport == "" && z.Kind == Remote:
		return fmt.Errorf("transport %q is unknown; it is %s or %s", z.Transport, OverUDP, OverTCP)
	case (z.Reassert != 0 || z.Kind == Remote) && (z.Reassert < MinReassert || z.Reassert > MaxReassert):
		return fmt.Errorf("names cannot be pushed again every %d seconds; %d to %d are allowed", z.Reassert, MinReassert, MaxReassert)
	}
	return nil
}

func (z Zone) checkRemote() error {
	switch {
	case !z.Primary.IsValid() || z.Primary.Port() == 0:
		return fmt.Errorf("zone %s is remote and needs the address of its primary, such as 198.51.100.53:53", z.Apex)
	case z.checkPushes() != nil:
		return z.checkPushes()
	case len(z.TransferTo) > 0 || z.TransferKey != "" || len(z.Notify) > 0 || len(z.Servers) > 0:
		return fmt.Errorf("zone %s is remote: its primary has its servers and transfers", z.Apex)
	}
	return CheckTTL(int(z.TTL))
}

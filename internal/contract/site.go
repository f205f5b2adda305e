// Package contract holds the documents that the API and its clients exchange. It computes nothing.
package contract

import (
	"encoding/json"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

// Problem is an error (RFC 9457). Errors names each field that has to change.
type Problem struct {
	Type   string      `json:"type"`
	Title  string      `json:"title"`
	Status int         `json:"status"`
	Detail string      `json:"detail"`
	Errors []site.Flaw `json:"errors,omitempty"`
	// Meanwhile says, of an edit of an older revision, who made which revision since; Current is the tag of the newest.
	Meanwhile []Edit `json:"meanwhile,omitempty"`
	Current   string `json:"current,omitempty"`
}

// Edit is one revision of a resource: who made it, when, and what changed with it.
type Edit struct {
	Revision int64         `json:"revision"`
	Person   string        `json:"person"`
	At       time.Time     `json:"at"`
	Changes  []FieldChange `json:"changes"`
}

// FieldChange is one field before and after an edit, as JSON.
type FieldChange struct {
	Field  string          `json:"field"`
	Before json.RawMessage `json:"before,omitempty"`
	After  json.RawMessage `json:"after,omitempty"`
}

// SiteInput is what a person gives of a site. In an edit, fields that are left out stay as they are; so in all inputs.
type SiteInput struct {
	Code string   `json:"code"`
	Name string   `json:"name"`
	Note string   `json:"note"`
	Tags []string `json:"tags,omitempty"`
	// Router is its make, and where it stands.
	Router string `json:"router"`
}

// LinkInput is what a person gives of a link. Addresses belong to static links only.
type LinkInput struct {
	Label    string `json:"label"`
	Provider string `json:"provider"`
	Mode     string `json:"mode"`
	Position int    `json:"position"`
	IPv4     string `json:"ipv4"`
	IPv6     string `json:"ipv6"`
	// ChangeAt is when the provider is expected to change the address; TTLs are lowered ahead of it. Zero: nothing is planned.
	ChangeAt time.Time `json:"change_at"`
	// RouterWAN is the router's WAN address where no protocol tells it. Sources are the ways of learning the link's address, the
	// most trusted first; none stands for the usual ones.
	RouterWAN string `json:"router_address"`
	// Dynamic is the range of LAN addresses that the router gives out, as FROM-TO.
	Dynamic string   `json:"dynamic_range"`
	Sources []string `json:"sources"`
	// Contract is the number that the provider knows the line by.
	Contract string `json:"contract"`
	// MayMap lets the agent ask the router for a mapping for a moment, to see where what is sent to a failing port gets lost.
	MayMap bool `json:"may_map"`
}

// HostnameInput is what a person gives of a hostname. An empty Link follows the site's preferred link; TTL 0 takes the
// zone's.
type HostnameInput struct {
	Name string `json:"name"`
	Site string `json:"site"`
	Link string `json:"link"`
	TTL  int    `json:"ttl_seconds"`
	// Extras are labels below the name with the same addresses, such as www, mail or * for all others. Mail is the host
	// that takes its mail, the name itself or another.
	Extras []string `json:"extras"`
	Mail   string   `json:"mail"`
	// Device, where it is named, has its own IPv6 address as the hostname's AAAA, which follows the provider's prefix.
	Device string `json:"device"`
}

// AliasInput is what a person gives of an alias; TTL 0 takes the zone's.
type AliasInput struct {
	Name     string `json:"name"`
	Hostname string `json:"hostname"`
	TTL      int    `json:"ttl_seconds"`
}

// Alias is an alias as it was last asked for, beside its hostname.
type Alias struct {
	site.Alias
	Given         string           `json:"given,omitempty"`
	HostnameGiven string           `json:"hostname_given,omitempty"`
	Same          bool             `json:"same"`
	Verdict       diagnose.Verdict `json:"verdict"`
	// Resolvers says what each resolver elsewhere answered for the alias.
	Resolvers []ServerAnswer `json:"resolvers,omitempty"`
}

// DeviceInput is what a person gives of a device.
type DeviceInput struct {
	Name     string `json:"name"`
	MAC      string `json:"mac"`
	Address  string `json:"lan_address"`
	Reserved bool   `json:"reserved"`
	Router   bool   `json:"router"`
}

// ServiceInput is what a person gives of a service. External is a port or a range; Internal is the first port on the device, the same as
// outside if empty.
type ServiceInput struct {
	Name      string `json:"name"`
	Device    string `json:"device"`
	Link      string `json:"link"`
	Kind      string `json:"kind"`
	Transport string `json:"transport"`
	External  string `json:"external"`
	Internal  string `json:"internal"`
	Expected  string `json:"expected"`
	// Reach is how it is reached: forward, pinhole or both.
	Reach    string `json:"reach"`
	Interval int    `json:"interval_seconds"`
	// InUse says that it worked before it was put on record: that it does not answer is a fault, not something to be commissioned.
	InUse bool `json:"in_use"`
	// Options say what a probe asks and expects beyond the kind. OpenUntil is when a door opened for a while has to be closed.
	Options   probe.Options `json:"options"`
	OpenUntil time.Time     `json:"open_until"`
}

// Link is a link as it stands now.
type Link struct {
	site.Link
	Overdue bool        `json:"overdue"`
	Report  *LinkReport `json:"report,omitempty"`
	Dynamic string      `json:"dynamic_range,omitempty"` // FROM-TO
	// Pattern is the rhythm at which its address changes, where one was learned.
	Pattern *ChangePattern `json:"change_pattern,omitempty"`
}

// ChangePattern is the rhythm at which a link's address changes, in words, and when it is expected to change next. Sure is how likely
// that is, from 0 to 1; nine of ten changes were off by less than the spread.
type ChangePattern struct {
	Words         string    `json:"words"`
	Next          time.Time `json:"next"`
	Sure          float64   `json:"sure"`
	SpreadSeconds float64   `json:"spread_seconds"`
}

// Hostname is a hostname as it stands now: its state, what it should answer, and what the zone's server last answered.
type Hostname struct {
	site.Hostname
	// Shown is the name as a person reads it, if that is not its ASCII form.
	Shown string `json:"shown,omitempty"`
	// HoldAt is the address at which it is kept while its link moves.
	HoldAt  string           `json:"hold_at,omitempty"`
	State   names.State      `json:"state"`
	Verdict diagnose.Verdict `json:"verdict"`
	IPv4    netip.Addr       `json:"ipv4,omitzero"`
	IPv6    netip.Addr       `json:"ipv6,omitzero"`
	Given   string           `json:"given,omitempty"`
	// Held says why the zone's primary does not have it, where the state is held.
	Held string `json:"held,omitempty"`
	// Resolvers says what each resolver elsewhere last answered.
	Resolvers []ServerAnswer `json:"resolvers,omitempty"`
}

// ServerAnswer is what one server answered for a hostname.
type ServerAnswer struct {
	Server string `json:"server"`
	// Authoritative servers answer from the zone; the others are resolvers with a cache.
	Authoritative bool   `json:"authoritative,omitempty"`
	Given         string `json:"given"`
	Differs       bool   `json:"differs"`
}

// Service is a service as it stands now.
type Service struct {
	site.Service
	Options    probe.Options    `json:"options,omitzero"`
	External   string           `json:"external"` // port, or range of ports
	Internal   string           `json:"internal"` // the first port on the device
	State      probe.State      `json:"state"`
	Verdict    diagnose.Verdict `json:"verdict"`
	StateWords string           `json:"state_words"` // for people: "closed, as wanted" for what has to stay closed and is
	AsExpected bool             `json:"as_expected"`
	Since      time.Time        `json:"since,omitzero"`
	Outcome    probe.Outcome    `json:"outcome,omitempty"`
	Probed     time.Time        `json:"probed,omitzero"`
	Address    netip.Addr       `json:"address,omitzero"`
	LatencyUS  int64            `json:"latency_us"`
	Message    string           `json:"message,omitempty"`
	// NotProvable says that silence is all there is, and proves nothing; ExpectedNow is what the port should be at present.
	NotProvable bool            `json:"not_provable,omitempty"`
	ExpectedNow probe.Expected  `json:"expected_now"`
	Vantages    []VantageResult `json:"vantages,omitempty"`
	Seen        string          `json:"fingerprint_seen,omitempty"`
	Certificate *Certificate    `json:"certificate,omitempty"`
	Weakness    string          `json:"weakness,omitempty"`
	Named       *NameResult     `json:"by_name,omitempty"`
	// Ways are what the newest round of this server found over each way, where there are two, or where it is a pinhole.
	Ways []ServiceWay `json:"ways,omitempty"`
	// PeerKey is the public key that a WireGuard server has to know as a peer's for its service to be provable.
	PeerKey string `json:"probe_peer_key,omitempty"`
	// PeerKeys are those of the other vantage points, by name.
	PeerKeys map[string]string `json:"vantage_peer_keys,omitempty"`
}

// ServiceWay is one of the ways over which a service is reached: "forward" or "pinhole", where that leads, and what came back.
type ServiceWay struct {
	Way     site.Reach    `json:"way"`
	Target  string        `json:"target,omitempty"`
	Outcome probe.Outcome `json:"outcome"`
	Message string        `json:"message,omitempty"`
}

// SiteQuery asks for some sites. Search is words that all have to be found in what is on record of a site; Sort is "need", which is what is
// left out stands for, "code", "name" or "address". Limit 0 lists all.
type SiteQuery struct {
	Search, Tag, Sort string
	Need              Need
	Limit, Offset     int
}

// HostnameQuery asks for some hostnames: of a site, of a zone, with words that all have to be found in the name, its addresses or its
// site's code. Limit 0 lists all.
type HostnameQuery struct {
	Site, Zone, Search string
	Limit, Offset      int
}

// TotalHeader is the header that says how many things a list has in all, of which the reply has some.
const TotalHeader = "Inkpost-Total"

// SiteSummary is a site in a list.
type SiteSummary struct {
	site.Site
	Need            Need             `json:"need"`
	Verdict         diagnose.Verdict `json:"verdict"` // proven where it needs nobody
	Link            string           `json:"link"`    // the preferred one that works
	Address         string           `json:"address"`
	Hostname        string           `json:"hostname"`
	ServiceCount    int              `json:"service_count"`
	AsExpectedCount int              `json:"as_expected_count"`
	FaultCount      int              `json:"fault_count"`
	AwaitedCount    int              `json:"awaited_count,omitempty"` // services that are not in use yet: they are in no other count
}

// Need says how much a site needs somebody.
type Need string

// The needs, the greatest first.
const (
	NeedNow     Need = "now"     // an open fault cuts somebody off, or leaves a door open
	NeedSoon    Need = "soon"    // an open fault that can wait
	NeedNothing Need = "nothing" // all is as it should be
	NeedUnknown Need = "unknown" // nothing was proven yet
)

// Site is everything on a site's record, as it stands now.
type Site struct {
	SiteSummary
	Links     []Link          `json:"links"`
	Hostnames []Hostname      `json:"hostnames"`
	Devices   []site.Device   `json:"devices"`
	Services  []Service       `json:"services"`
	Faults    []Fault         `json:"faults"`
	Paths     []diagnose.Path `json:"paths"`
}

// States of a push, beside the problems that diagnose names: refused and unreachable.
const (
	PushTaken   = "taken"
	PushWaiting = "waiting"
)

// History of a service over a stretch of time.
type History struct {
	Service string        `json:"service"`
	From    time.Time     `json:"from"`
	Until   time.Time     `json:"until"`
	GapMS   int64         `json:"gap_ms"` // a longer pause between spans is time in which nobody looked
	Spans   []HistorySpan `json:"spans"`
}

// HistorySpan is a run of equal outcomes, and what they mean for the service's owner by what was expected when it ended.
type HistorySpan struct {
	ledger.Span
	Verdict diagnose.Verdict `json:"verdict"`
}

// TracedAttempt is one attempt of a probe, and what its outcome means for the service's owner.
type TracedAttempt struct {
	Attempt
	Verdict diagnose.Verdict `json:"verdict"`
}

// Attempt is the story of one attempt at one port, Step one step of it.
type (
	Attempt = probe.Attempt
	Step    = probe.Step
)

// ProbeTrace is one probe, step by step.
type ProbeTrace struct {
	Site     string          `json:"site"`
	Service  string          `json:"service"`
	Vantage  string          `json:"vantage"`
	Hostname string          `json:"hostname,omitempty"`
	At       time.Time       `json:"at"`
	Outcome  probe.Outcome   `json:"outcome"`
	State    probe.State     `json:"state"`
	Words    string          `json:"state_words"` // for people
	Attempts []TracedAttempt `json:"attempts"`
	// Fingerprint is what was seen, Pinned what the service is recognised by.
	Fingerprint string       `json:"fingerprint,omitempty"`
	Pinned      string       `json:"pinned,omitempty"`
	Certificate *Certificate `json:"certificate,omitempty"`
	Weakness    string       `json:"weakness,omitempty"`
	Named       *NameResult  `json:"by_name,omitempty"`
	// NotProvable says that silence proves nothing here: a service that works may leave a probe without an answer.
	NotProvable bool `json:"not_provable,omitempty"`
}

// FaultGroup is open faults with one cause at several sites. Faults are the first of them; GET /faults?open=true&cause= lists all.
type FaultGroup struct {
	Cause   causes.Slug `json:"cause"`
	Summary string      `json:"summary"` // in general words
	Serious bool        `json:"serious"`
	Count   int         `json:"count"`
	Sites   int         `json:"sites"`
	Faults  []Fault     `json:"faults"`
}

// Overview answers "what needs me now?".
type Overview struct {
	// Standby says, on a server that does not write, which one does.
	Standby string `json:"standby,omitempty"`
	// Trouble says what of this could not be had, and why.
	Trouble string `json:"trouble,omitempty"`
	// Faults are open ones that stand alone; FaultCount is how many are open in all.
	Faults     []Fault `json:"faults"`
	FaultCount int     `json:"fault_count"`
	// Groups are open faults with one cause at several sites each.
	Groups []FaultGroup `json:"fault_groups"`
	// Sites are those that need somebody most; SiteCount is how many there are.
	Sites     []SiteSummary `json:"sites"`
	SiteCount int           `json:"site_count"`
	Moves     []Move        `json:"moves"`
	// ToCommission is what is not in use yet, the first of it; AwaitedCount is how much that is in all.
	ToCommission []ToCommission `json:"to_commission"`
	AwaitedCount int            `json:"awaited_count"`
}

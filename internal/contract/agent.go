package contract

import (
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/wan"
)

// AgentProtocol is the newest version of what agents and servers say to each other. Both speak the lower of their two: 1 announces an
// address, 2 reports all sources, watches the LAN and carries out tasks.
const AgentProtocol = 2

// ClockTolerance is how far an agent's clock may be off.
const ClockTolerance = 5 * time.Minute

// SourceReport is what one source of an agent said. AgeMS is how long ago.
type SourceReport struct {
	Source  string `json:"source"`
	Via     string `json:"via,omitempty"`
	IPv4    string `json:"ipv4,omitempty"`
	IPv6    string `json:"ipv6,omitempty"`
	AgeMS   int64  `json:"age_ms"`
	Problem string `json:"problem,omitempty"`
}

// AgentSelf is what an agent says of itself and its link with an announcement.
type AgentSelf struct {
	Protocol int       `json:"protocol,omitempty"`
	Version  string    `json:"version,omitempty"`
	Platform string    `json:"platform,omitempty"`
	Sent     time.Time `json:"sent,omitzero"`
	// UpSeconds is how long its machine has been up, or else the agent.
	UpSeconds float64 `json:"up_seconds,omitempty"`
	// Reports holds what every source said; Chain the devices on the way out.
	Reports []SourceReport `json:"reports,omitempty"`
	Chain   []string       `json:"chain,omitempty"`
	// Resolver says what is wrong with name resolution at the site, Cannot what the agent is not able to do there.
	Resolver string   `json:"resolver,omitempty"`
	Cannot   []string `json:"cannot,omitempty"`
	// Down names links of the same site on which the same agent gets nothing through.
	Down []string `json:"down,omitempty"`
}

// LinkSource is what one source last said of a link.
type LinkSource struct {
	Source    wan.Source `json:"source"`
	Via       string     `json:"via,omitempty"`
	Addresses string     `json:"addresses"`
	At        time.Time  `json:"at,omitzero"`
	Problem   string     `json:"problem,omitempty"`
	Dissent   string     `json:"dissent,omitempty"`
}

// LinkReport is what is known of a link from its site's side.
type LinkReport struct {
	NAT      wan.Verdict      `json:"nat"`
	Verdict  diagnose.Verdict `json:"verdict"`
	Words    string           `json:"words,omitempty"`
	Remedies []string         `json:"remedies,omitempty"`
	Chain    []string         `json:"chain,omitempty"`
	Router   string           `json:"router_address,omitempty"`
	Reason   string           `json:"reason,omitempty"`
	Held     string           `json:"held,omitempty"`
	Sources  []LinkSource     `json:"sources,omitempty"`
	Agent    string           `json:"agent,omitempty"`
	Protocol int              `json:"protocol,omitempty"`
	Resolver string           `json:"resolver,omitempty"`
	Cannot   []string         `json:"cannot,omitempty"`
	Reported time.Time        `json:"reported,omitzero"`
	// Gateway is what the router said when it was asked last, and GatewayWords the same in words, a line each.
	Gateway      *GatewayWord `json:"gateway,omitempty"`
	GatewayWords []string     `json:"gateway_words,omitempty"`
	// Refused reports announcements that were refused lately.
	Refused []Refusal `json:"refused,omitempty"`
	// Rhythm is how often a router without an agent announces, in seconds; 0 if that is not known.
	Rhythm float64 `json:"rhythm_seconds,omitempty"`
	// OwnIPv4 and OwnIPv6 are what the agent's reports brought: those are its to withdraw.
	OwnIPv4 netip.Addr `json:"own_ipv4,omitzero"`
	OwnIPv6 netip.Addr `json:"own_ipv6,omitzero"`
}

// Refusal reports announcements that were refused.
type Refusal struct {
	Reason string `json:"reason"`
	From   string `json:"from,omitempty"`
	Count  int    `json:"count"`
	// Stranger says that whoever it was has shown nothing of the site's: anybody on the internet can cause that.
	Stranger bool      `json:"stranger,omitempty"`
	First    time.Time `json:"first"`
	Last     time.Time `json:"last"`
}

// AgentTasks are what an agent is to do at its site. Version stands for Watch: it changes with it.
type AgentTasks struct {
	Version string          `json:"version"`
	Watch   []WatchedDevice `json:"watch"`
	Every   float64         `json:"watch_seconds"`
	Scan    int64           `json:"scan,omitempty"` // a look at the LAN that somebody waits for
	Proofs  []ProofTask     `json:"proofs,omitempty"`
	// Check asks for a check of the address now: something fails there.
	Check bool `json:"check,omitempty"`
}

// WatchedDevice is a device on the site's record, with the ports of its services.
type WatchedDevice struct {
	Device  string        `json:"device"`
	MAC     string        `json:"mac,omitempty"`
	Address string        `json:"lan_address"`
	Ports   []WatchedPort `json:"ports,omitempty"`
	// WantIPv6 asks for the device's IPv6 address; IPv6 is the one that it is known by.
	WantIPv6 bool   `json:"want_ipv6,omitempty"`
	IPv6     string `json:"ipv6,omitempty"`
}

// WatchedPort is an internal port of a service, and what is to be spoken there. Pinned is the fingerprint that it has to show; "" takes
// any. Public is the "address:port" at which it is reached from outside: from inside, a router that loops traffic back answers there too.
type WatchedPort struct {
	Service   string        `json:"service"`
	Transport string        `json:"transport"`
	Port      int           `json:"port"`
	Kind      probe.Kind    `json:"kind,omitempty"`
	Options   probe.Options `json:"options,omitzero"`
	Hostname  string        `json:"hostname,omitempty"`
	Pinned    string        `json:"pinned,omitempty"`
	Public    string        `json:"public,omitempty"`
}

// DeviceReport is what an agent saw of one device.
type DeviceReport struct {
	Device  string `json:"device"`
	Present bool   `json:"present"`
	// Unsure says that it was there a moment ago, and has not answered since: the system has not asked for it again yet.
	Unsure bool `json:"unsure,omitempty"`
	// Found is the LAN address at which the device's MAC is now, where that is another than on record; IPv6 its global address.
	Found string     `json:"found,omitempty"`
	IPv6  string     `json:"ipv6,omitempty"`
	MAC   string     `json:"mac,omitempty"`
	Ports []PortSeen `json:"ports,omitempty"`
	At    time.Time  `json:"at,omitzero"`
	// Verdict and Words say where the device was; the server gives them.
	Verdict diagnose.Verdict `json:"verdict,omitempty"`
	Words   string           `json:"words,omitempty"`
	// Hours counts at which hours of the day the device was there; the server does that.
	Hours diagnose.Hours `json:"hours,omitzero"`
	// Without counts the looks in a row at which the device was there without the IPv6 address that is wanted; the server does that.
	Without int `json:"without_ipv6,omitempty"`
}

// PortSeen is how an internal port was from inside.
type PortSeen struct {
	Service string `json:"service"`
	// State is open, refused, silent, prohibited, hung (it accepts and says nothing), other (it answers as another), or unknown where it
	// could not be tried or its protocol cannot tell.
	State  string `json:"state"`
	Detail string `json:"detail,omitempty"`
	// Spoke says that the service's own protocol was spoken, and Fingerprint what it showed.
	Spoke       bool   `json:"spoke,omitempty"`
	Fingerprint string `json:"fingerprint,omitempty"`
	// Loop is what the public address and port said from inside: answers, refused or silent; "" if that was not tried.
	Loop string `json:"loop,omitempty"`
}

// LANReport is one look at a site's LAN. Gateway is what the router of the agent's link says, where it was asked.
type LANReport struct {
	Scan    int64          `json:"scan,omitempty"`
	Devices []DeviceReport `json:"devices"`
	Problem string         `json:"problem,omitempty"`
	Gateway *GatewayWord   `json:"gateway,omitempty"`
}

// GatewayWord is what a router says of itself, beside its WAN address, and of the ports of its link's services. UpSeconds is how long ago
// it began anew, LineUpSeconds how long its line has been up; 0 where it does not say.
type GatewayWord struct {
	UpSeconds     float64      `json:"up_seconds,omitempty"`
	LineUpSeconds float64      `json:"line_up_seconds,omitempty"`
	Line          string       `json:"line,omitempty"` // Connected, Disconnected and the like
	Trouble       string       `json:"trouble,omitempty"`
	Ports         []ListedPort `json:"ports,omitempty"`
	At            time.Time    `json:"at,omitzero"` // the server gives it
}

// ListedPort is what a router lists for a service's external port: it goes To an "address:port" of the LAN; "" where it lists nothing.
type ListedPort struct {
	Service      string  `json:"service"`
	To           string  `json:"to,omitempty"`
	Description  string  `json:"description,omitempty"`
	LeaseSeconds float64 `json:"lease_seconds,omitempty"` // 0: for ever
}

// ProofTask has an agent listen on a port for a while: what a vantage point sends to the external port has to arrive there.
type ProofTask struct {
	ID        int64   `json:"id"`
	Transport string  `json:"transport"`
	Port      int     `json:"port"`
	Nonce     string  `json:"nonce"`
	Seconds   float64 `json:"seconds"`
	// Borrow is an external port: the router is asked to pass it on for as long as the proof takes. Port is not used then.
	Borrow int `json:"borrow,omitempty"`
}

// ProofNews is what an agent says of a proof: that it is listening, that the nonce has arrived, that it failed and why, or that the port to
// borrow is taken.
type ProofNews struct {
	State   string `json:"state"`
	From    string `json:"from,omitempty"`
	Problem string `json:"problem,omitempty"`
	// Address is the LAN address of the agent's machine, which the forward has to lead to.
	Address string `json:"lan_address,omitempty"`
}

// ProofInput asks for a path proof. Port is the agent machine's; 0 takes the external one.
type ProofInput struct {
	Link      string `json:"link"`
	Transport string `json:"transport"`
	External  int    `json:"external"`
	Port      int    `json:"port"`
}

// Proof reports whether the router passes a port on to the agent's machine.
type Proof struct {
	Link      string    `json:"link"`
	Transport string    `json:"transport"`
	External  int       `json:"external"`
	Port      int       `json:"port"`
	Address   string    `json:"address"`
	Proven    bool      `json:"proven"`
	Words     string    `json:"words"`
	Next      string    `json:"next_step,omitempty"`
	TookMS    int64     `json:"took_ms"`
	At        time.Time `json:"at"`
}

// NextKey is the key that takes the place of an agent's.
type NextKey struct {
	Key string `json:"key"`
}

package contract

import (
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/core/wan"
)

// SignIn asks for a session.
type SignIn struct {
	Name     string `json:"name"`
	Password string `json:"password"`
	Code     string `json:"code,omitempty"` // of an authenticator, or a recovery code, where they have one
}

// Session is a signed-in browser. CSRF goes into the X-Inkpost-Intent header of every request that changes something.
// ChoosePassword says that nothing else is allowed before the one-time password is replaced.
type Session struct {
	Name           string `json:"name"`
	CSRF           string `json:"csrf"`
	ChoosePassword bool   `json:"choose_password"`
	// SetUpSecond says that nothing else is allowed before a second factor is set up.
	SetUpSecond bool      `json:"set_up_second_factor,omitempty"`
	Lab         bool      `json:"lab"`
	Role        team.Role `json:"role"`
	Tags        []string  `json:"tags"` // of the sites that are seen; all where there are none
}

// NewPassword replaces one's own password, and ends all other sessions. Old is the one that it replaces; not asked for after a sign-in with
// a one-time password. EndKeys makes one's keys useless as well.
type NewPassword struct {
	Old      string `json:"old,omitempty"`
	Password string `json:"password"`
	EndKeys  bool   `json:"end_keys,omitempty"`
}

// KeyInput asks for a key. Expires is until when a key of one's own is good, for a year when it is left out. MayAnnounce are the
// prefixes in which a
// router's key may announce addresses that are not its connection's own.
type KeyInput struct {
	Label       string         `json:"label"`
	May         string         `json:"may,omitempty"` // of a key of one's own: read, probe or edit; edit if left out
	Expires     time.Time      `json:"expires,omitzero"`
	MayAnnounce []netip.Prefix `json:"may_announce,omitempty"`
}

// Allowance sets the prefixes in which a key may announce addresses that are not its connection's own.
type Allowance struct {
	MayAnnounce []netip.Prefix `json:"may_announce"`
}

// InvitationInput asks for a one-time code. MayAnnounce goes to the key that the agent gets.
type InvitationInput struct {
	MayAnnounce []netip.Prefix `json:"may_announce,omitempty"`
}

// Key is an access key. Secret is there once only: in the reply that made the key.
type Key struct {
	ID      int64     `json:"id"`
	Scope   string    `json:"scope"`
	May     string    `json:"may"` // read, probe, edit or announce
	Label   string    `json:"label"`
	Holder  string    `json:"holder"`
	Created time.Time `json:"created"`
	Revoked time.Time `json:"revoked,omitzero"`
	Expires time.Time `json:"expires,omitzero"`
	Used    time.Time `json:"used,omitzero"` // last, to the minute
	// MayAnnounce are the prefixes in which it may announce addresses that are not its connection's own.
	MayAnnounce []netip.Prefix `json:"may_announce,omitempty"`
	Secret      string         `json:"secret,omitempty"`
	// Server is where this server is reached from a site; "" if nobody has said.
	Server string `json:"server,omitempty"`
}

// Invitation is a one-time code with which an agent enrols.
type Invitation struct {
	Site    string    `json:"site"`
	Link    string    `json:"link"`
	Code    string    `json:"code"`
	Expires time.Time `json:"expires"`
	// Server is where this server is reached from a site; "" if nobody has said.
	Server string `json:"server,omitempty"`
}

// Enrolment is an agent's first word to the server.
type Enrolment struct {
	Code  string `json:"code"`
	Label string `json:"label"`
	// Claim is a secret of 32 to 200 characters that the agent made before it first asked. Whoever asks again with the same code and claim
	// gets the same answer, as the first one may have been lost. Without it a code is good for one answer.
	Claim string `json:"claim,omitempty"`
}

// Enrolled is the server's reply: the agent's key and what it is to do.
type Enrolled struct {
	Key          string  `json:"key"`
	Site         string  `json:"site"`
	Link         string  `json:"link"`
	CheckSeconds float64 `json:"check_seconds"`
}

// Observed is the sender's address as the server saw it.
type Observed struct {
	Address      string  `json:"address"`
	CheckSeconds float64 `json:"check_seconds"`
	// Protocol is the newest that the server speaks; 0 stands for 1. STUN is the port of its STUN responder, 0 for none. Sources
	// are those that are set for the link. Clock is the server's.
	Protocol int       `json:"protocol,omitempty"`
	STUN     int       `json:"stun_port,omitempty"`
	Sources  []string  `json:"sources,omitempty"`
	Clock    time.Time `json:"clock,omitzero"`
	// NewKey asks the agent to take another key.
	NewKey bool `json:"new_key,omitempty"`
}

// Announcement says what a link's address is now. An address left out is taken from the socket where the source is
// observed. NoticedMS is how long before sending the sender noticed.
type Announcement struct {
	Source    string `json:"source"`
	IPv4      string `json:"ipv4,omitempty"`
	IPv6      string `json:"ipv6,omitempty"`
	NoticedMS int64  `json:"noticed_ms"`
	AgentSelf
}

// Receipt says what an announcement did. What changed is durable and answered by the hosted zone when it is sent.
type Receipt struct {
	Changed   bool     `json:"changed"`
	Old       string   `json:"old"`
	New       string   `json:"new"`
	MoveID    int64    `json:"move_id,omitempty"`
	Hostnames []string `json:"hostnames,omitempty"`
	// Held says why an address is not taken yet; NAT what stands in front of the router.
	Held string      `json:"held,omitempty"`
	NAT  wan.Verdict `json:"nat,omitempty"`
}

// FetchReply is what a router that announces by fetching a URL gets, where it asks for JSON. Word is moved, same, refused or later;
// Held are the hostnames that stay where they are.
type FetchReply struct {
	Word      string   `json:"word"`
	Address   string   `json:"address,omitempty"`
	Hostnames []string `json:"hostnames,omitempty"`
	Held      []string `json:"held,omitempty"`
	Detail    string   `json:"detail,omitempty"`
}

// Event is one thing that happened, as a CloudEvents 1.0 document.
type Event struct {
	SpecVersion string    `json:"specversion"`
	ID          string    `json:"id"`
	Source      string    `json:"source"`
	Type        string    `json:"type"`
	Subject     string    `json:"subject"`
	Time        time.Time `json:"time"`
	Data        EventData `json:"data"`
}

// EventData is the content of an event, in words and in what a program needs to find out more.
type EventData struct {
	Site  string `json:"site"`
	Part  string `json:"part,omitempty"`
	Words string `json:"words"`
}

// Types of events.
const (
	EventLANSeen        = "inkpost.lan.seen"
	EventLinkReport     = "inkpost.link.reported"
	EventMoveRecorded   = "inkpost.move.recorded"
	EventMoveProgressed = "inkpost.move.progressed"
	EventServiceOutcome = "inkpost.service.outcome"
	EventServiceState   = "inkpost.service.state"
	EventFaultOpened    = "inkpost.fault.opened"
	EventFaultClosed    = "inkpost.fault.closed"
	EventFaultChanged   = "inkpost.fault.changed"
	EventHostnameState  = "inkpost.hostname.state"
	EventRecordEdited   = "inkpost.record.edited"
	EventVantage        = "inkpost.vantage.changed"
	EventCommissioning  = "inkpost.commissioning.progressed"
)

// Ready reports whether the service can do all of its work.
type Ready struct {
	Ready    bool   `json:"ready"`
	Database string `json:"database"`
	// Role is writer, standby, or starting while the database was never there. Writer names the server that writes, since when.
	Role   string    `json:"role,omitempty"`
	Writer string    `json:"writer,omitempty"`
	Since  time.Time `json:"since,omitzero"`
	// Names says from where names are answered.
	Names string `json:"names,omitempty"`
}

// Roles of a server.
const (
	RoleWriter   = "writer"
	RoleStandby  = "standby"
	RoleStarting = "starting"
)

package contract

import (
	"time"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

// VantageInput is what a person gives of a vantage point.
type VantageInput struct {
	Name string `json:"name"`
	Note string `json:"note"`
}

// VantageSelf is what a vantage point says of itself. Ailing says what is wrong with it: its outcomes do not count then.
type VantageSelf struct {
	Version  string   `json:"version,omitempty"`
	Platform string   `json:"platform,omitempty"`
	Networks []string `json:"networks,omitempty"` // addresses that it has, with the length of their prefix
	Observed string   `json:"observed,omitempty"` // that the server sees it at
	Ailing   string   `json:"ailing,omitempty"`
	Waiting  int      `json:"waiting,omitempty"` // outcomes that it kept while the server was away
}

// Vantage is a vantage point as it stands now.
type Vantage struct {
	ID       int64            `json:"id"`
	Name     string           `json:"name"`
	Note     string           `json:"note,omitempty"`
	Own      bool             `json:"own"` // the server's
	Enrolled time.Time        `json:"enrolled,omitzero"`
	Heard    time.Time        `json:"heard,omitzero"`
	State    string           `json:"state"`
	Verdict  diagnose.Verdict `json:"verdict"`
	// Problem says why what it sees does not count, where its state is ailing.
	Problem string `json:"problem,omitempty"`
	// Cause is that problem's, as the list of causes has it.
	Cause    string `json:"cause,omitempty"`
	Services int    `json:"services"` // of which it has a view that counts
	VantageSelf
}

// States of a vantage point.
const (
	VantageWorking = "working"
	VantageAiling  = "ailing"
	VantageAway    = "away"
	VantageInvited = "invited"
)

// VantageInvitation is a one-time code with which a vantage point enrols.
type VantageInvitation struct {
	Vantage string    `json:"vantage"`
	Code    string    `json:"code"`
	Expires time.Time `json:"expires"`
	// Server is where this server is reached from elsewhere; "" if nobody has said.
	Server string `json:"server,omitempty"`
}

// VantageEnrolled is the server's reply: the vantage point's key.
type VantageEnrolled struct {
	Key     string `json:"key"`
	Vantage string `json:"vantage"`
}

// Assignment is one service that a vantage point probes: what it needs for that, and nothing else of the record.
type Assignment struct {
	ID         int64           `json:"id"`
	Revision   int64           `json:"revision"` // of the service; outcomes carry it back
	Target     string          `json:"target"`   // address; "" while none is known
	Ports      [2]int          `json:"ports"`
	Also       string          `json:"also,omitempty"` // "address:port" of the same ports over the other family
	Kind       probe.Kind      `json:"kind"`
	Transport  probe.Transport `json:"transport"`
	Options    probe.Options   `json:"options,omitzero"`
	ProbeKey   string          `json:"probe_key,omitempty"`
	Hostname   string          `json:"hostname,omitempty"`
	Own        []string        `json:"own,omitempty"` // "name:port" that a redirect may lead to
	Pinned     string          `json:"pinned,omitempty"`
	Expected   probe.Expected  `json:"expected"`
	Interval   float64         `json:"interval_seconds"`
	Quarantine string          `json:"quarantine,omitempty"` // why it must not be probed for now
}

// AssignmentNews is one message on a vantage point's stream. The first after a beginning holds everything, later ones what has
// changed since. Cursor is where to resume.
type AssignmentNews struct {
	Cursor   uint64       `json:"cursor"`
	Whole    bool         `json:"whole,omitempty"`
	Put      []Assignment `json:"put,omitempty"`
	Drop     []int64      `json:"drop,omitempty"`
	Now      []int64      `json:"now,omitempty"`   // services to probe at once: somebody else saw them fail
	Tasks    []ProbeTask  `json:"tasks,omitempty"` // probes that somebody waits for
	Deadline float64      `json:"deadline_seconds,omitempty"`
	Clock    time.Time    `json:"clock,omitzero"`
}

// ProbeTask asks for one probe with its trace: of a service that is assigned, or of what Look says, where no target stands for the host
// at which the vantage point reaches the server.
type ProbeTask struct {
	ID      int64       `json:"id"`
	Service int64       `json:"service"`
	Look    *Assignment `json:"look,omitempty"`
}

// OutcomeReport is one round of a service from a vantage point. A round that must not count has the outcome skipped and says
// why.
type OutcomeReport struct {
	Service     int64         `json:"service"`
	Revision    int64         `json:"revision"`
	At          time.Time     `json:"at"`
	Target      string        `json:"target"`
	Also        string        `json:"also,omitempty"`
	Outcome     probe.Outcome `json:"outcome"`
	LatencyUS   int64         `json:"latency_us,omitempty"`
	Message     string        `json:"message,omitempty"`
	Fingerprint string        `json:"fingerprint,omitempty"`
	// ICMP is the message that ended the attempt, and Series how far packets with a hop limit got.
	ICMP   *probe.ICMP   `json:"icmp,omitempty"`
	Series *probe.Series `json:"series,omitempty"`
	// Hung says that the service accepted, and said nothing.
	Hung     bool      `json:"hung,omitempty"`
	Task     int64     `json:"task,omitempty"` // the task that it answers
	Attempts []Attempt `json:"attempts,omitempty"`
}

// OutcomeBatch is what a vantage point returns.
type OutcomeBatch struct {
	VantageSelf
	Sent     time.Time       `json:"sent"`
	Outcomes []OutcomeReport `json:"outcomes,omitempty"`
}

// BatchTaken says how many outcomes of a batch were taken in; the others were about what is no longer so.
type BatchTaken struct {
	Taken int       `json:"taken"`
	Clock time.Time `json:"clock"`
}

// VantageResult is what one vantage point last saw of a service.
type VantageResult struct {
	Vantage   string        `json:"vantage"`
	Outcome   probe.Outcome `json:"outcome"`
	InRow     int           `json:"in_row"`
	At        time.Time     `json:"at"`
	LatencyUS int64         `json:"latency_us,omitempty"`
	Message   string        `json:"message,omitempty"`
	// Left says why it does not count.
	LeftOut string `json:"does_not_count,omitempty"`
}

// NameResult is how a service was reached the whole way, by its hostname.
type NameResult struct {
	Hostname string        `json:"hostname"`
	Resolver string        `json:"resolver"`
	Given    string        `json:"given"`
	Outcome  probe.Outcome `json:"outcome"`
	Message  string        `json:"message"`
	At       time.Time     `json:"at"`
}

// Certificate is the certificate that a service showed.
type Certificate struct {
	Names   []string  `json:"names,omitempty"`
	Expires time.Time `json:"expires"`
	Problem string    `json:"problem,omitempty"`
}

// Pin asks for a fingerprint to be pinned: the one that was last seen where Fingerprint is empty.
type Pin struct {
	Fingerprint string `json:"fingerprint"`
}

// Availability is how a service was over a window, or a day, of which Window is the date.
type Availability = ledger.Availability

// ServiceAvailability is how a service was over each window.
type ServiceAvailability struct {
	Site     string                `json:"site"`
	Service  string                `json:"service"`
	Expected probe.Expected        `json:"expected"`
	Windows  []ledger.Availability `json:"windows"`
}

// ReviewInput asks for an exposure review of a site. Consent says, in words, who has agreed to it.
type ReviewInput struct {
	Consent string `json:"consent"`
}

// ReviewNews is one line of a review under way: how many ports are done, and at the end the result.
type ReviewNews struct {
	Done   int     `json:"done"`
	Of     int     `json:"of"`
	Review *Review `json:"review,omitempty"`
}

// Review is a look at a site's own address for ports that are commonly left open.
type Review struct {
	ID       int64         `json:"id"`
	Person   string        `json:"person"`
	Consent  string        `json:"consent"`
	Started  time.Time     `json:"started"`
	Ended    time.Time     `json:"ended,omitzero"`
	Address  string        `json:"address"`
	Ports    []int         `json:"ports"`
	Open     int           `json:"open"`
	Findings []site.Advice `json:"findings"`
	Problem  string        `json:"problem,omitempty"`
}

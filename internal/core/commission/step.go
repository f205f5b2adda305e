// Package commission computes how far the commissioning of services has got: which step is due, what to do, what is seen of it, and what
// is proven.
package commission

import (
	"time"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/site"
)

// Step of a run, in the installer's order.
type Step string

// The steps.
const (
	OnRecord  Step = "on-record" // link and hostname on record, and the address known
	Prepared  Step = "prepared"  // the device is set up as its kit says
	Reserved  Step = "reserved"  // the device's LAN address is fixed
	Inside    Step = "inside"    // it answers inside
	Before    Step = "before"    // before the forward, nothing answers outside
	Forward   Step = "forward"   // the forward is entered
	Firewall  Step = "firewall"  // the device's own firewall lets it in
	Outside   Step = "outside"   // it answers outside
	Resolved  Step = "resolved"  // the name resolves elsewhere
	ByName    Step = "by-name"   // it answers outside by its name
	Restart   Step = "restart"   // the agent comes back after its machine restarts
	Rehearsal Step = "rehearsal" // the address changes, and everything follows
	Pinned    Step = "pinned"    // what the service is recognised by is pinned
	Doors     Step = "doors"     // what must be closed is closed
	Sheet     Step = "sheet"     // the sheet is kept
)

// Steps lists all steps in order.
func Steps() []Step {
	return []Step{OnRecord, Prepared, Reserved, Inside, Before, Forward, Firewall, Outside, Resolved, ByName, Restart, Rehearsal, Pinned,
		Doors,
		Sheet}
}

// State of an entry.
type State string

// The states. What is failing needs somebody now; what is later waits for a step before it.
const (
	Waiting State = "waiting"
	Failing State = "failing"
	Later   State = "later"
	Done    State = "done"
	Skipped State = "skipped"
)

// Over reports whether nothing more is to be done.
func (s State) Over() bool { return s == Done || s == Skipped }

// Result is how a step ended. Of is the ID of the link, device or service that it is about, 0 for the site; By is "" where it was seen to
// be so.
type Result struct {
	Step  Step      `json:"step"`
	Of    int64     `json:"of"`
	State State     `json:"state"`
	At    time.Time `json:"at"`
	By    string    `json:"by,omitempty"`
	Words string    `json:"words"`
}

// Entry is one line of a run: a step of the site or of one of its parts.
type Entry struct {
	Step    Step   `json:"step"`
	Of      int64  `json:"of"`
	Subject string `json:"subject"` // "link main", "device recorder", "service view"; "" for the site
	Title   string `json:"title"`
	Do      string `json:"do"`
	State   State  `json:"state"`
	Words   string `json:"words"`          // what is seen of it
	Next    string `json:"next,omitempty"` // what to do about what is failing
	// By a person's word it can be said to be so. What is optional may be left without a reason.
	ByWord   bool      `json:"by_word,omitempty"`
	Optional bool      `json:"optional,omitempty"`
	Provable bool      `json:"provable,omitempty"` // the agent can prove it before the device is there
	At       time.Time `json:"at,omitzero"`        // when it was over
	By       string    `json:"by,omitempty"`

	Cards   []site.Card       `json:"cards,omitempty"` // what to type into the router
	Finding *diagnose.Finding `json:"finding,omitempty"`

	refuted bool // what is seen speaks against it
}

// is sets what is seen, and how it stands.
func (e Entry) is(s State, words string) Entry {
	e.State, e.Words = s, words
	return e
}

// failing sets what is wrong, and what to do about it.
func (e Entry) failing(words, next string) Entry {
	e.State, e.Words, e.Next = Failing, words, next
	return e
}

package contract

import (
	"time"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/fault"
)

// Fault is an open or closed problem of a site, or of a provider: then Site is "" and Provider names it.
type Fault struct {
	ID       int64     `json:"id"`
	Site     string    `json:"site"`
	SiteName string    `json:"site_name"`
	Provider string    `json:"provider,omitempty"`
	Serious  bool      `json:"serious"`
	Began    time.Time `json:"began"` // the first sign of it
	Opened   time.Time `json:"opened"`
	Closed   time.Time `json:"closed,omitzero"`
	Returns  int       `json:"returns,omitempty"` // how often it came back within an hour
	Under    int64     `json:"under,omitempty"`   // the provider's fault that explains it
	Sites    int       `json:"sites,omitempty"`   // how many sites' faults it explains
	// Acknowledged is when somebody said that they know of it, By who, and Assigned whose it is to mend.
	Acknowledged time.Time `json:"acknowledged,omitzero"`
	By           string    `json:"acknowledged_by,omitempty"`
	Assigned     string    `json:"assigned,omitempty"`
	// Planned is until when planned work is under way there: nobody is told of it until then.
	Planned time.Time `json:"planned_until,omitzero"`
	// Judged is what a person said of its cause afterwards; absent while nobody has.
	Judged  *FaultJudgement  `json:"judged,omitempty"`
	Finding diagnose.Finding `json:"finding"`
}

// FaultStory is a fault with all that happened to it.
type FaultStory struct {
	Fault
	Timeline  []FaultEvent `json:"timeline"`
	Explained []Fault      `json:"explains"` // the open faults of sites under it
}

// FaultEvent is a line of a fault's timeline. By is the person who did it, absent where Ink Post did.
type FaultEvent struct {
	At    time.Time  `json:"at"`
	Kind  fault.Kind `json:"kind"`
	By    string     `json:"by,omitempty"`
	Words string     `json:"words"`
}

// FaultTaking takes a fault up. Assigned is the name of a person, "" for nobody; absent fields stay as they are.
type FaultTaking struct {
	Acknowledged *bool   `json:"acknowledged,omitempty"`
	Assigned     *string `json:"assigned,omitempty"`
}

// FaultNote is what somebody adds to a fault's timeline.
type FaultNote struct {
	Note string `json:"note"`
}

// FaultJudgementInput says whether the cause of a fault was right, and what it was otherwise: a cause of the table, a note, or both.
type FaultJudgementInput struct {
	Right  bool        `json:"right"`
	Actual causes.Slug `json:"actual,omitempty"`
	Note   string      `json:"note,omitempty"`
}

// FaultJudgement is what a person said of a fault's cause.
type FaultJudgement struct {
	FaultJudgementInput
	By string    `json:"by"`
	At time.Time `json:"at"`
}

// FaultTimes are how long faults took to be noticed and mended, medians in seconds, over one site, provider or cause.
type FaultTimes struct {
	Name          string  `json:"name"`
	Faults        int     `json:"faults"`
	Open          int     `json:"open"`
	NoticeSeconds float64 `json:"notice_seconds"`
	MendSeconds   float64 `json:"mend_seconds"` // 0 where none was mended
	LongestSecs   float64 `json:"longest_seconds"`
}

// PlannedWork is a window in which faults of some sites are not told.
type PlannedWork struct {
	fault.Work
	Where  string    `json:"where"`         // which sites, in words
	Active bool      `json:"active"`        // it is under way
	From   time.Time `json:"from,omitzero"` // the window that is under way, or else the next
	Until  time.Time `json:"until,omitzero"`
}

// PlannedWorkInput plans work. Starts is now where it is left out.
type PlannedWorkInput struct {
	fault.Scope
	Starts  time.Time     `json:"starts,omitzero"`
	Minutes int           `json:"minutes"`
	Zone    string        `json:"zone,omitempty"`
	Repeats fault.Repeats `json:"repeats,omitempty"`
	Last    time.Time     `json:"last,omitzero"`
	Reason  string        `json:"reason,omitempty"`
}

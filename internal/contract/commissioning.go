package contract

import (
	"time"

	"inkpost.example/inkpost/internal/core/commission"
)

// CommissioningInput begins a run: for the services that it names, or for all of the site that are not in use yet.
type CommissioningInput struct {
	Services []string `json:"services,omitempty"`
}

// Commissioning is a run through the steps by which services come into use, as it stands now.
type Commissioning struct {
	ID       int64     `json:"id"`
	Site     string    `json:"site"`
	SiteName string    `json:"site_name"`
	Services []string  `json:"services"`
	Began    time.Time `json:"began"`
	By       string    `json:"by"`
	Ended    time.Time `json:"ended,omitzero"`
	EndedBy  string    `json:"ended_by,omitempty"`
	// Finished says that nothing is left but what may be left out. Open counts what is left.
	Finished bool               `json:"finished"`
	Open     int                `json:"open"`
	Entries  []commission.Entry `json:"entries"`
}

// CommissioningAnswer is what a person says of a step: that it is done, that it is passed over and why, or that it is due again (waiting).
// Subject names what it is about, as the run does. At is when that was said, for an answer that arrives late.
type CommissioningAnswer struct {
	Step    commission.Step  `json:"step"`
	Subject string           `json:"subject"`
	State   commission.State `json:"state"`
	Words   string           `json:"words"`
	At      time.Time        `json:"at,omitzero"`
}

// ToCommission is a part of a site that is not in use yet, and the step that is missing.
type ToCommission struct {
	Site     string          `json:"site"`
	SiteName string          `json:"site_name"`
	Subject  string          `json:"subject"` // "service view", or "link main" of a link without a service
	Step     commission.Step `json:"step"`
	Title    string          `json:"title"`
	Words    string          `json:"words"`
	Do       string          `json:"do"`
	Since    time.Time       `json:"since"`            // it has been on record, or in a run
	Run      int64           `json:"run_id,omitempty"` // the open run that it is in
}

// KitUse puts a device on record by a kit. Shift is added to each port outside, where two of a kind are at a site; Closed expects all of
// its ports closed: it is reached through a VPN.
type KitUse struct {
	Device   string `json:"device"`
	MAC      string `json:"mac"`
	Address  string `json:"lan_address"`
	Reserved bool   `json:"reserved"`
	Shift    int    `json:"shift"`
	Closed   bool   `json:"closed"`
}

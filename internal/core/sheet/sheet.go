// Package sheet computes a site's handover record: what stands on it, in which order, and what changed since an earlier one.
package sheet

import (
	"time"

	"inkpost.example/inkpost/internal/core/site"
)

// Sheet is everything that whoever takes a site over has to know. It has no secrets.
type Sheet struct {
	Code     string    `json:"code"`
	Name     string    `json:"name"`
	Note     string    `json:"note,omitempty"`   // for the next visit
	Router   string    `json:"router,omitempty"` // make, and where it stands
	URL      string    `json:"url,omitempty"`    // of the site's page
	At       time.Time `json:"at"`
	Links    []Link    `json:"links"`
	Names    []Name    `json:"names"`
	Devices  []Device  `json:"devices"`
	Services []Service `json:"services"`
	Contacts []Contact `json:"contacts"`
	Notes    []Note    `json:"notes"`
	Steps    []Step    `json:"commissioning"`
}

// Link is an internet connection of the site. Front says what stands in front of its router.
type Link struct {
	Label    string `json:"label"`
	Provider string `json:"provider"`
	Contract string `json:"contract,omitempty"`
	Mode     string `json:"mode"`
	Address  string `json:"address"`
	Front    string `json:"front,omitempty"`
	Updated  string `json:"updated_by,omitempty"` // who announces its address
}

// Name is a hostname or an alias, and what it leads to.
type Name struct {
	Name string `json:"name"`
	To   string `json:"to"`
}

// Device is a machine on the site's LAN.
type Device struct {
	Name     string `json:"name"`
	MAC      string `json:"mac"`
	Address  string `json:"lan_address"`
	Reserved bool   `json:"reserved"`
	Router   bool   `json:"router,omitempty"`
}

// Service is an exposed port, what it is recognised by, and when it was last seen to be as expected.
type Service struct {
	Name        string      `json:"name"`
	Device      string      `json:"device"`
	Kind        string      `json:"kind"`
	Outside     string      `json:"outside"` // "TCP 8443"
	Inside      string      `json:"inside"`  // "port 443"
	Expected    string      `json:"expected"`
	State       string      `json:"state"` // in words
	Good        bool        `json:"as_expected"`
	Awaited     bool        `json:"to_commission,omitempty"`
	Proven      time.Time   `json:"last_proof,omitzero"`
	Fingerprint string      `json:"fingerprint,omitempty"`
	Cards       []site.Card `json:"cards,omitempty"`
}

// Contact is somebody to call.
type Contact struct {
	Role  string `json:"role"`
	Name  string `json:"name"`
	Phone string `json:"phone,omitempty"`
	Mail  string `json:"mail,omitempty"`
	Note  string `json:"note,omitempty"`
}

// Note is what somebody wrote down at a visit.
type Note struct {
	At    time.Time `json:"at"`
	By    string    `json:"by"`
	Words string    `json:"words"`
}

// Step is a step of the commissioning, as it was recorded.
type Step struct {
	Title   string    `json:"title"`
	Subject string    `json:"subject,omitempty"`
	State   string    `json:"state"`
	Words   string    `json:"words"`
	By      string    `json:"by,omitempty"`
	At      time.Time `json:"at,omitzero"`
}

// ForCustomer returns the sheet without what the installer wrote down for colleagues, and how the work went.
func (s Sheet) ForCustomer() Sheet {
	s.Note, s.Notes, s.Steps, s.URL = "", nil, nil, ""
	return s
}

// Plain says in plain words how the site's services are, at most a line each.
func (s Sheet) Plain() (good bool, lines []string) {
	good = true
	for _, one := range s.Services {
		switch {
		case one.Awaited:
			lines = append(lines, one.Name+" is not in use yet.")
		case one.Expected == "closed" && one.Good:
		case one.Expected == "closed":
			good = false
			lines = append(lines, one.Name+" is open to everybody, and should not be.")
		case one.Good:
			lines = append(lines, one.Name+" works.")
		default:
			good = false
			lines = append(lines, one.Name+" cannot be reached at present.")
		}
	}
	return good, lines
}

package contract

import (
	"time"

	"inkpost.example/inkpost/internal/core/sheet"
)

// ContactInput is what a person gives of a contact of a site.
type ContactInput struct {
	Role  string `json:"role"` // customer, provider, key holder or other
	Name  string `json:"name"`
	Phone string `json:"phone"`
	Mail  string `json:"mail"`
	Note  string `json:"note"`
}

// SiteNoteInput is what somebody writes down of a site.
type SiteNoteInput struct {
	Words string `json:"words"`
}

// SiteNote is a dated note of a site.
type SiteNote struct {
	ID    int64     `json:"id"`
	At    time.Time `json:"at"`
	By    string    `json:"by"`
	Words string    `json:"words"`
}

// Photo is a picture of a site, without the picture. Kind is its media type.
type Photo struct {
	ID      int64     `json:"id"`
	At      time.Time `json:"at"`
	By      string    `json:"by"`
	Caption string    `json:"caption"`
	Kind    string    `json:"kind"`
	Width   int       `json:"width"`
	Height  int       `json:"height"`
	Bytes   int       `json:"bytes"`
}

// Sheet is a site's handover record: as it is now, or as a version of it was kept.
type Sheet struct {
	sheet.Sheet
	Version int    `json:"version,omitempty"`
	By      string `json:"kept_by,omitempty"`
	Reason  string `json:"reason,omitempty"`
	// Changes says what differs from the version that was kept before; Since is when that was.
	Changes []string  `json:"changes"`
	Since   time.Time `json:"since,omitzero"`
}

// SheetVersion is a sheet that was kept.
type SheetVersion struct {
	Version int       `json:"version"`
	At      time.Time `json:"at"`
	By      string    `json:"by"`
	Reason  string    `json:"reason"`
}

// SheetInput keeps a version of the sheet.
type SheetInput struct {
	Reason string `json:"reason"`
}

// SheetLinkInput makes a URL by which a customer reads the sheet. Whose says who has it.
type SheetLinkInput struct {
	Whose string `json:"whose"`
	Days  int    `json:"days"` // that it is valid; 30 if 0, 400 at most
}

// SheetLink is a customer's way to read the sheet. URL is shown once, when it is made.
type SheetLink struct {
	ID      int64     `json:"id"`
	Whose   string    `json:"whose"`
	URL     string    `json:"url,omitempty"`
	Created time.Time `json:"created"`
	By      string    `json:"by"`
	Expires time.Time `json:"expires"`
	Revoked time.Time `json:"revoked,omitzero"`
	Used    time.Time `json:"last_used,omitzero"`
}

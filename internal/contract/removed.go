package contract

import "time"

// Removed is something that was removed from the record, and can be brought back until a moment. Kind is "site", "link", "device",
// "service" or "hostname".
type Removed struct {
	ID     int64     `json:"id"`
	Kind   string    `json:"kind"`
	Name   string    `json:"name"`
	Site   string    `json:"site"`
	Person string    `json:"person"`
	At     time.Time `json:"at"`
	Until  time.Time `json:"until"`
}

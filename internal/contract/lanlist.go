package contract

// LANList is a list of the devices of a LAN as a router printed it. Form says what it was taken for.
type LANList struct {
	Form    string       `json:"form"`
	Devices []ListedHost `json:"devices"`
}

// ListedHost is a device of such a list. Device is the one on the site's record that has its MAC, with the address there; "" where none
// has. Suggested is what one could be put on record as.
type ListedHost struct {
	MAC       string      `json:"mac"`
	Address   string      `json:"lan_address"`
	Device    string      `json:"device,omitempty"`
	Recorded  string      `json:"recorded_address,omitempty"`
	Suggested DeviceInput `json:"suggested"`
}

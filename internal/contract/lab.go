package contract

// World is the lab as it stands: every simulated site.
type World struct {
	Sites []LabSite `json:"sites"`
}

// LabSite is one simulated site: its links with the address the simulated provider gave, and its services.
type LabSite struct {
	Code     string       `json:"code"`
	Links    []LabLink    `json:"links"`
	Services []LabService `json:"services"`
}

// LabLink is a simulated link.
type LabLink struct {
	Label    string `json:"label"`
	Provider string `json:"provider"`
	Address  string `json:"address"`
}

// LabService is a simulated device's service and the router's forward to it.
type LabService struct {
	Name      string `json:"name"`
	Device    string `json:"device"`
	LAN       string `json:"lan"`
	External  int    `json:"external_port"`
	Running   bool   `json:"running"`
	Forwarded bool   `json:"forwarded"`
}

// Renumbering tells which address a simulated link had, and has now.
type Renumbering struct {
	Link string `json:"link"`
	Old  string `json:"old"`
	New  string `json:"new"`
}

// Mending says what was wrong at a simulated site and is no longer.
type Mending struct {
	Mended []string `json:"mended"`
}

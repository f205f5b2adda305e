package probe

// Attempt describes one attempt at one port, for people.
type Attempt struct {
	Target    string    `json:"target"`
	Transport Transport `json:"transport,omitempty"`
	From      string    `json:"from,omitempty"`
	Outcome   Outcome   `json:"outcome"`
	TookUS    int64     `json:"took_us"`
	Message   string    `json:"message"`
	Steps     []Step    `json:"steps,omitempty"`
}

// Step is one step of an attempt, and how long after its start it was done, in microseconds.
type Step struct {
	Name  string `json:"step"`
	AtUS  int64  `json:"at_us"`
	Words string `json:"words"`
}

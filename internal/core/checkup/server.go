package checkup

// Serving is what came of asking the service itself. Trouble says why it did not answer.
type Serving struct {
	URL     string
	Trouble string
	Ready   bool
	Words   string // of what it is able to do
	Role    string
}

// Judge says whether the service runs.
func (s Serving) Judge() Point {
	switch {
	case s.Trouble != "":
		return Server.not(Wrong, "answers",
			"start it (systemctl start inkpost, or inkpost serve), and read why it ended: journalctl -u inkpost",
			"nothing answers at %s: %s", s.URL, s.Trouble)
	case !s.Ready:
		return Server.not(Wrong, "answers", "see to the database below", "%s answers, and its database %s", s.URL, s.Words)
	}
	return Server.good("answers", "%s answers as %s; its database %s", s.URL, s.Role, s.Words)
}

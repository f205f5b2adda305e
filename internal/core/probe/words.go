package probe

// Words say how a service stands, for people: what has to stay closed and is, is no service that cannot be reached.
func Words(expected Expected, s State, notProvable bool) string {
	switch {
	case notProvable:
		return "not provable this way"
	case expected == ExpectClosed && AsExpected(expected, s):
		return "closed, as wanted"
	}
	return string(s)
}

package probe

// Words say how a service stands, for people: a port that is closed as wanted is not called unreachable.
func Words(expected Expected, s State, notProvable bool) string {
	switch {
	case notProvable:
		return "not provable this way"
	case expected == ExpectClosed && AsExpected(expected, s):
		return "closed, as wanted"
	}
	return string(s)
}

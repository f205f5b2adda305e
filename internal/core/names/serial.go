package names

// NextSerial is s + 1 in the arithmetic of RFC 1982; 0 is left out, as some secondaries take it for "unset".
func NextSerial(s uint32) uint32 {
	if s++; s == 0 {
		s = 1
	}
	return s
}

// SerialAfter reports whether a is later than b (RFC 1982 section 3.2). Where the two are exactly half the space apart,
// the order is undefined and it is false.
func SerialAfter(a, b uint32) bool {
	return a != b && a-b < 1<<31
}

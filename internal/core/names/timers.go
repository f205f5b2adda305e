package names

import (
	"fmt"
	"iter"
)

// Timers of a zone's SOA record in seconds, as a person gives them (RFC 1035 section 3.3.13, RFC 2308 section 4). 0 takes the
// default.
type Timers struct{ Refresh, Retry, Expire, Negative int }

// Check yields what is wrong, by field. The bounds are those that secondaries keep to: RFC 1912 section 2.2 gives reasons. Each error says
// what is allowed.
func (t Timers) Check() iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
		for _, x := range []struct {
			field              string
			value, least, most int
		}{{"refresh_seconds", t.Refresh, 30, 7 * 86400}, {"retry_seconds", t.Retry, 10, 86400},
			{"expire_seconds", t.Expire, 3600, 180 * 86400}, {"negative_seconds", t.Negative, 1, 86400}} {
			if x.value != 0 && (x.value < x.least || x.value > x.most) &&
				!yield(x.field, fmt.Errorf("%d is out of range; %d to %d seconds are allowed", x.value, x.least, x.most)) {
				return
			}
		}
		if t.Expire != 0 && t.Refresh != 0 && t.Expire <= t.Refresh+t.Retry {
			yield("expire_seconds", fmt.Errorf("%d is not longer than refresh and retry together: secondaries would stop answering "+
				"while they wait", t.Expire))
		}
	}
}

// On returns a zone these timers. Those left 0 are for WithDefaults to fill.
func (t Timers) On(z Zone) Zone {
	z.Refresh, z.Retry, z.Expire, z.Negative = uint32(t.Refresh), uint32(t.Retry), uint32(t.Expire), uint32(t.Negative)
	return z
}

package probe

// FailsOtherwise reports whether a port that fails does so in another way than before: whoever kept silent and refuses now, or the other
// way round, is looked at anew. Routers limit how often they say that something cannot be reached, so that saying so and silence are one
// way.
func FailsOtherwise(before, now Outcome) bool {
	quiet := func(o Outcome) bool { return o == Silent || o == Unroutable }
	return before != now && !(quiet(before) && quiet(now))
}

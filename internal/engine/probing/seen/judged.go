package seen

import (
	"time"

	"inkpost.example/inkpost/internal/core/probe"
)

// Judged returns the status with the state that results of all vantage points come to, but for those that are unfit. When every result is
// left out, the state stays until it is too old.
func (st Status) Judged(results []Result, rule probe.Rule, unfit map[int64]string, now time.Time) Status {
	counted := make([]probe.View, 0, 4)
	leftOut := false
	for _, v := range results {
		if v.LeftOut == "" && unfit[v.Vantage] == "" {
			counted = append(counted, v.View)
		} else if v.LeftOut == "" {
			leftOut = leftOut || rule.Stale == 0 || now.Sub(v.Since) < rule.Stale
		}
	}
	state := probe.Verdict(rule, st.State, counted, now)
	if state == probe.StateUnknown && leftOut {
		state = st.State
	}
	if state == probe.StateUnreachable && rule.Expected == probe.ExpectReachable && halfReached(st.Ways) {
		state = probe.StateImpaired
	}
	if state != st.State {
		st.State, st.Since = state, now
	}
	if st.Proven.IsZero() && probe.AsExpected(rule.Expected, state) {
		st.Proven = now
	}
	st.View = probe.Representative(rule, st.State, counted)
	if len(counted) == 0 && len(results) > 0 {
		st.View = results[0].View
	}
	for _, v := range results {
		if v.View == st.View {
			st.Latency, st.Message = v.Latency, v.Message
		}
	}
	return st
}

// halfReached reports whether a round reached the service over one of its two ways.
func halfReached(ways []Way) bool {
	good, bad := false, false
	for _, way := range ways {
		good = good || way.Outcome.Good()
		bad = bad || !way.Outcome.Good() && way.Outcome != probe.Skipped
	}
	return good && bad
}

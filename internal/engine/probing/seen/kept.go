package seen

import (
	"net/netip"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
)

// Kept is what is known of a service, and what each vantage point last saw of it, packed. The zero Kept knows nothing.
type Kept struct {
	results       []result
	state         probe.State
	since, proven Instant
	view          view
	probed        Instant
	address       netip.Addr
	latency       time.Duration
	message       string
	shown         *Shown
	ways          *[]Way // nil for none, as with nearly all
	lately        probe.Lately
}

// view is a probe.View. The last three are of what it stands in: there is room for them here.
type view struct {
	outcome   probe.Outcome
	since, at Instant
	inRow     int32
	settling  bool // of a Status
	known     bool // of a Result
	hung      bool
}

func pack(v probe.View) view {
	return view{outcome: v.Outcome, since: At(v.Since), at: At(v.At), inRow: int32(v.InRow)}
}

func (v view) unpack() probe.View {
	return probe.View{Outcome: v.outcome, InRow: int(v.inRow), Since: v.since.Time(), At: v.at.Time()}
}

// result is a Result.
type result struct {
	vantage int64
	view    view
	latency time.Duration
	message string
	more    *more // nil where there is nothing, as with all that answers
}

type more struct {
	leftOut string
	icmp    probe.ICMP
	series  *probe.Series
}

// Status returns what is known.
func (k *Kept) Status() Status {
	st := Status{State: k.state, Since: k.since.Time(), Proven: k.proven.Time(), View: k.view.unpack(), Probed: k.probed.Time(),
		Address: k.address, Latency: k.latency, Message: k.message, Shown: k.shown, Settling: k.view.settling, Lately: k.lately}
	if k.ways != nil {
		st.Ways = *k.ways
	}
	return st
}

// SetStatus keeps what is known.
func (k *Kept) SetStatus(st Status) {
	k.state, k.since, k.proven, k.view = st.State, At(st.Since), At(st.Proven), pack(st.View)
	k.view.settling = st.Settling
	k.probed, k.address, k.latency, k.message, k.shown, k.lately = At(st.Probed), st.Address, st.Latency, st.Message, st.Shown, st.Lately
	if k.ways = nil; len(st.Ways) > 0 {
		ways := st.Ways
		k.ways = &ways
	}
}

// State returns how the service is judged.
func (k *Kept) State() probe.State { return k.state }

// Results appends what each vantage point last saw to a list.
func (k *Kept) Results(to []Result) []Result {
	for _, r := range k.results {
		one := Result{Vantage: r.vantage, View: r.view.unpack(), Latency: r.latency, Message: r.message, Known: r.view.known,
			Hung: r.view.hung}
		if r.more != nil {
			one.LeftOut, one.ICMP, one.Series = r.more.leftOut, r.more.icmp, r.more.series
		}
		to = append(to, one)
	}
	return to
}

// SetResults keeps what each vantage point last saw. The list may be used again afterwards.
func (k *Kept) SetResults(list []Result) {
	was := len(k.results)
	k.results = slices.Grow(k.results[:0], len(list))
	for _, v := range list {
		r := result{vantage: v.Vantage, view: pack(v.View), latency: v.Latency, message: v.Message}
		r.view.known, r.view.hung = v.Known, v.Hung
		if v.LeftOut != "" || v.ICMP != (probe.ICMP{}) || v.Series != nil {
			r.more = &more{v.LeftOut, v.ICMP, v.Series}
		}
		k.results = append(k.results, r)
	}
	clear(k.results[len(list):max(was, len(list))])
}

// StartOver has everything counted from the next result on: what was seen is about another address.
func (k *Kept) StartOver() {
	for i := range k.results {
		k.results[i].view.inRow = 0
	}
	k.view.inRow = 0
}

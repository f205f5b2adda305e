package history

import (
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/ledger"
)

// today is a service's day as it is accounted. It is kept packed, as there is one for each service: that is a third of its size.
type today struct {
	packed  []byte // the hours, then the latencies
	hours   int    // octets of the hours
	start   int64  // of the day, in seconds since 1970
	until   int64  // up to which it is accounted, in nanoseconds since 1970
	written int64  // likewise; 0 for never
	dirty   bool
}

// Today is a service's day so far, packed as ledger.Day.Pack does.
type Today struct {
	Start          time.Time
	Hours, Latency []byte
}

// Today returns a service's day so far; ok is false where there is none.
func (h *History) Today(serviceID int64) (t Today, ok bool) {
	h.buffer.mu.Lock()
	defer h.buffer.mu.Unlock()
	k := h.buffer.services[serviceID]
	if k == nil || !k.begun() {
		return t, false
	}
	packed := slices.Clone(k.packed)
	return Today{time.Unix(k.start, 0).UTC(), packed[:k.hours], packed[k.hours:]}, true
}

// ShowToday takes over what another server knows of a service's day.
func (h *History) ShowToday(serviceID int64, t Today) {
	h.buffer.mu.Lock()
	defer h.buffer.mu.Unlock()
	h.buffer.of(serviceID).keep(ledger.Unpack(t.Start, t.Hours, t.Latency))
}

// begun reports whether there is anything: a service that was not probed yet has no day.
func (d *today) begun() bool { return d.start != 0 }

func (d *today) day() ledger.Day {
	return ledger.Unpack(time.Unix(d.start, 0), d.packed[:d.hours], d.packed[d.hours:])
}

func (d *today) keep(day ledger.Day) {
	var room [128]byte // of most days
	packed := day.AppendHours(room[:0])
	d.start, d.hours = day.Start.Unix(), len(packed)
	if packed = day.AppendLatency(packed); len(packed) > cap(d.packed) {
		d.packed = slices.Clone(packed)
		return
	}
	d.packed = append(d.packed[:0], packed...)
}

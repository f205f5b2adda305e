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

package daemon

import (
	"os"
	"runtime"
	"runtime/debug"
	gometrics "runtime/metrics"
)

const (
	// share is how much the heap may grow between collections, in percent: the record stays in memory, and twice a large one is a lot.
	share = 30
	// room is how much it may grow in any case, in octets: a small record needs little, and collecting for every few megabytes of requests
	// would cost more processor time than the requests.
	room = 48 << 20
)

// tidy tunes the percentage of the garbage collector after each cycle, unless GOGC is set.
func tidy() {
	if os.Getenv("GOGC") != "" {
		return
	}
	live := []gometrics.Sample{{Name: "/gc/heap/live:bytes"}}
	set := 0
	var again func(int)
	again = func(int) {
		gometrics.Read(live)
		percent := share
		if kept := live[0].Value.Uint64(); kept < room*100/share {
			percent = int(room * 100 / max(kept, 1<<20))
		}
		if percent > set+set/8 || percent < set-set/8 { // the world stops for a change
			debug.SetGCPercent(percent)
			set = percent
		}
		// Nothing refers to the mark, so that the next round finds it.
		runtime.AddCleanup(new([16]byte), again, 0)
	}
	again(0)
}

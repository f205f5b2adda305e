package main

import (
	"os"
	"strconv"
	"strings"
)

// ticks are what the processors did since the machine began, in clock ticks (proc_stat(5)).
type ticks struct{ stolen, all uint64 }

// ticksNow reads the first line of /proc/stat; zero where there is none.
func ticksNow() (t ticks) {
	doc, _ := os.ReadFile("/proc/stat")
	line, _, _ := strings.Cut(string(doc), "\n")
	for i, word := range strings.Fields(line) {
		n, err := strconv.ParseUint(word, 10, 64)
		if err != nil || i > 8 { // guests count as users already
			continue
		}
		if t.all += n; i == 8 {
			t.stolen = n
		}
	}
	return t
}

// taken is the share of the processors, in percent, that the hypervisor gave to others. A figure of a time in which that was much says
// little about the program, above all one for 99 %.
func taken(from, until ticks) float64 {
	if until.all <= from.all {
		return 0
	}
	return 100 * float64(until.stolen-from.stolen) / float64(until.all-from.all)
}

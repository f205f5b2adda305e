//go:build race

package locks

import (
	"bytes"
	"fmt"
	"runtime"
	"slices"
	"strconv"
	"sync"
)

// Checked reports whether this build checks the order of locks.
const Checked = true

// held has the places of the locks that each goroutine holds.
var held struct {
	mu sync.Mutex
	by map[int64][]int
}

// taking panics when a goroutine that holds a lock takes one that comes before it in the order, or another of the same place.
func taking(o order) {
	place, id := o.place(), goroutine()
	held.mu.Lock()
	defer held.mu.Unlock()
	for _, other := range held.by[id] {
		if other >= place {
			panic(fmt.Sprintf("lock order: a lock of place %d is taken while one of place %d is held", place, other))
		}
	}
	if _, moves := o.(publishing); moves { // whoever unlocks it may be another goroutine
		return
	}
	if held.by == nil {
		held.by = map[int64][]int{}
	}
	held.by[id] = append(held.by[id], place)
}

func gave(o order) {
	id := goroutine()
	held.mu.Lock()
	defer held.mu.Unlock()
	list := held.by[id]
	i := slices.Index(list, o.place())
	if i < 0 {
		return
	}
	if list = slices.Delete(list, i, i+1); len(list) == 0 {
		delete(held.by, id)
		return
	}
	held.by[id] = list
}

// goroutine returns the number of the calling goroutine, as its stack trace begins.
func goroutine() int64 {
	var buffer [64]byte
	text := buffer[:runtime.Stack(buffer[:], false)]
	word, _, _ := bytes.Cut(bytes.TrimPrefix(text, []byte("goroutine ")), []byte(" "))
	id, _ := strconv.ParseInt(string(word), 10, 64)
	return id
}

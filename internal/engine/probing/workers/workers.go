// Package workers runs many short tasks on goroutines that are kept for the next one. A goroutine that begins anew has a small stack, and
// a probe's is deep: to grow it took a seventh of the processor time of a probe.
package workers

import (
	"sync"
	"sync/atomic"
)

// kept is how many goroutines wait for a task at most. Others end with theirs.
const kept = 256

// Crew is a number of goroutines. The zero value is not ready: see New.
type Crew struct {
	tasks   chan func()
	waiting atomic.Int32
	under   sync.WaitGroup
}

// New returns a crew of none.
func New() *Crew { return &Crew{tasks: make(chan func())} }

// Do has a task run on a goroutine that waits for one, or on another, and does not wait for it. It must not be called after End.
func (c *Crew) Do(task func()) {
	select {
	case c.tasks <- task:
	default:
		c.under.Go(func() { c.work(task) })
	}
}

func (c *Crew) work(task func()) {
	for more := true; more; {
		task()
		if c.waiting.Add(1) > kept {
			c.waiting.Add(-1)
			return
		}
		task, more = <-c.tasks
		c.waiting.Add(-1)
	}
}

// End waits until all tasks have ended.
func (c *Crew) End() {
	close(c.tasks)
	c.under.Wait()
}

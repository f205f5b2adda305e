package pace

import (
	"container/heap"
	"time"
)

// Item is something that is due at a time. PutAt tells it its place in a queue, -1 where it is in none.
type Item interface {
	DueAt() time.Time
	PutAt(place int)
}

// Queue orders things by when they are due. The zero Queue is empty and ready.
type Queue[T Item] struct{ list order[T] }

// Len is how many things wait.
func (q *Queue[T]) Len() int { return len(q.list) }

// Peek returns what is due first; the queue must not be empty.
func (q *Queue[T]) Peek() T { return q.list[0] }

// Add puts something into the queue.
func (q *Queue[T]) Add(x T) { heap.Push(&q.list, x) }

// Pop takes what is due first out of the queue, which must not be empty.
func (q *Queue[T]) Pop() T { return heap.Pop(&q.list).(T) }

// Fix moves the item at place i to where it belongs now that its time has changed.
func (q *Queue[T]) Fix(place int) { heap.Fix(&q.list, place) }

// Remove takes out what stands at a place.
func (q *Queue[T]) Remove(place int) { heap.Remove(&q.list, place) }

type order[T Item] []T

func (o order[T]) Len() int           { return len(o) }
func (o order[T]) Less(i, j int) bool { return o[i].DueAt().Before(o[j].DueAt()) }
func (o order[T]) Swap(i, j int) {
	o[i], o[j] = o[j], o[i]
	o[i].PutAt(i)
	o[j].PutAt(j)
}

// Push implements heap.Interface.
func (o *order[T]) Push(x any) {
	x.(T).PutAt(len(*o))
	*o = append(*o, x.(T))
}

// Pop implements heap.Interface.
func (o *order[T]) Pop() any {
	var none T
	last := len(*o) - 1
	x := (*o)[last]
	(*o)[last] = none
	*o = (*o)[:last]
	x.PutAt(-1)
	return x
}

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

// entry is a thing with when it is due: to put many in order reads them, and not the things all over the memory.
type entry[T Item] struct {
	due  time.Time
	item T
}

// Len is how many things wait.
func (q *Queue[T]) Len() int { return len(q.list) }

// Peek returns what is due first; the queue must not be empty.
func (q *Queue[T]) Peek() T { return q.list[0].item }

// Add puts something into the queue.
func (q *Queue[T]) Add(x T) { heap.Push(&q.list, x) }

// Pop takes what is due first out of the queue, which must not be empty.
func (q *Queue[T]) Pop() T { return heap.Pop(&q.list).(T) }

// Fix moves the item at place i to where it belongs now that its time has changed.
func (q *Queue[T]) Fix(place int) {
	q.list[place].due = q.list[place].item.DueAt()
	heap.Fix(&q.list, place)
}

// Remove takes out what stands at a place.
func (q *Queue[T]) Remove(place int) { heap.Remove(&q.list, place) }

type order[T Item] []entry[T]

func (o order[T]) Len() int           { return len(o) }
func (o order[T]) Less(i, j int) bool { return o[i].due.Before(o[j].due) }
func (o order[T]) Swap(i, j int) {
	o[i], o[j] = o[j], o[i]
	o[i].item.PutAt(i)
	o[j].item.PutAt(j)
}

// Push implements heap.Interface.
func (o *order[T]) Push(x any) {
	item := x.(T)
	item.PutAt(len(*o))
	*o = append(*o, entry[T]{item.DueAt(), item})
}

// Pop implements heap.Interface.
func (o *order[T]) Pop() any {
	last := len(*o) - 1
	x := (*o)[last].item
	(*o)[last] = entry[T]{}
	*o = (*o)[:last]
	x.PutAt(-1)
	return x
}

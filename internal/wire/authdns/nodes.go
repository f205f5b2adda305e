package authdns

import (
	"hash/maphash"
	"maps"
	"sync/atomic"
)

// nodeShards is into how many maps the names of a zone are divided: a name that comes or goes costs a copy of one of them, not of the
// whole zone.
const nodeShards = 64

// nodeTable holds the nodes of a zone by name in wire format. Readers never wait and never see a map change; writers take turns.
type nodeTable struct {
	seed   maphash.Seed
	shards [nodeShards]atomic.Pointer[map[string]*node]
	count  atomic.Int64
}

func (t *nodeTable) at(name []byte) *node {
	shard := t.shards[maphash.Bytes(t.seed, name)%nodeShards].Load()
	if shard == nil {
		return nil
	}
	return (*shard)[string(name)]
}

// each calls f for every node, in no order.
func (t *nodeTable) each(f func(name string, n *node)) {
	for i := range t.shards {
		if shard := t.shards[i].Load(); shard != nil {
			for name, n := range *shard {
				f(name, n)
			}
		}
	}
}

// nodeEdit collects the names that one change of a zone adds and removes. Readers see them when it is committed.
type nodeEdit struct {
	table *nodeTable
	apex  string
	next  [nodeShards]map[string]*node
	count int64
}

func (e *nodeEdit) shard(name string) int {
	return int(maphash.String(e.table.seed, name) % nodeShards)
}

func (e *nodeEdit) at(name string) *node {
	i := e.shard(name)
	if e.next[i] != nil {
		return e.next[i][name]
	}
	if shard := e.table.shards[i].Load(); shard != nil {
		return (*shard)[name]
	}
	return nil
}

// open returns the copy of a shard that may be changed.
func (e *nodeEdit) open(i int) map[string]*node {
	if e.next[i] == nil {
		if shard := e.table.shards[i].Load(); shard != nil {
			e.next[i] = maps.Clone(*shard)
		} else {
			e.next[i] = map[string]*node{}
		}
	}
	return e.next[i]
}

// add makes a name exist, with the empty non-terminals between it and the apex.
func (e *nodeEdit) add(name string) *node {
	n := e.at(name)
	if n != nil {
		return n
	}
	n = &node{}
	e.open(e.shard(name))[name] = n
	e.count++
	if name != e.apex {
		e.add(parent(name)).children++
	}
	return n
}

// tidy removes a name that neither holds nor leads to anything, and the empty non-terminals that led to nothing else.
func (e *nodeEdit) tidy(name string) {
	n := e.at(name)
	if n == nil || name == e.apex || n.children > 0 || n.sets.Load() != nil {
		return
	}
	delete(e.open(e.shard(name)), name)
	e.count--
	up := parent(name)
	e.at(up).children--
	e.tidy(up)
}

func (e *nodeEdit) commit() {
	for i, shard := range e.next {
		if shard != nil {
			e.table.shards[i].Store(&shard)
		}
	}
	e.table.count.Add(e.count)
}

package authdns

import (
	"hash/maphash"
	"maps"
	"sync/atomic"
)

// nodeShards is into how many parts the names of a zone are divided: a name that comes or goes costs a copy of one of them, not of the
// whole zone.
const nodeShards = 64

// nodeTable holds the nodes of a zone by name in wire format. Readers never wait and never see a shard change; writers take turns.
type nodeTable struct {
	seed   maphash.Seed
	mask   uint64 // of the hash: tests leave few bits
	shards [nodeShards]atomic.Pointer[shard]
	count  atomic.Int64
}

// shard holds nodes by the hash of their names: a map of numbers reads less memory for an answer than one of names, which are elsewhere. A
// name whose hash another has is among the rest.
type shard struct {
	byHash map[uint64]*node
	rest   map[string]*node
}

func (t *nodeTable) hash(name []byte) uint64 { return maphash.Bytes(t.seed, name) & t.mask }

func (t *nodeTable) at(name []byte) *node {
	hash := t.hash(name)
	return t.shards[hash%nodeShards].Load().at(hash, name)
}

func (s *shard) at(hash uint64, name []byte) *node {
	if s == nil {
		return nil
	}
	if n := s.byHash[hash]; n != nil && n.name == string(name) {
		return n
	}
	return s.rest[string(name)]
}

// each calls f for every node, in no order.
func (t *nodeTable) each(f func(n *node)) {
	for i := range t.shards {
		if s := t.shards[i].Load(); s != nil {
			for _, n := range s.byHash {
				f(n)
			}
			for _, n := range s.rest {
				f(n)
			}
		}
	}
}

// nodeEdit collects the names that one change of a zone adds and removes. Readers see them when it is committed.
type nodeEdit struct {
	table *nodeTable
	apex  string
	next  [nodeShards]*shard
	count int64
}

func (e *nodeEdit) at(name string) *node {
	key := []byte(name)
	hash := e.table.hash(key)
	if s := e.next[hash%nodeShards]; s != nil {
		return s.at(hash, key)
	}
	return e.table.shards[hash%nodeShards].Load().at(hash, key)
}

// open returns the hash of a name and a copy of its shard, which may be changed.
func (e *nodeEdit) open(name string) (uint64, *shard) {
	hash := e.table.hash([]byte(name))
	i := hash % nodeShards
	if e.next[i] == nil {
		e.next[i] = &shard{byHash: map[uint64]*node{}}
		if s := e.table.shards[i].Load(); s != nil {
			e.next[i] = &shard{byHash: maps.Clone(s.byHash), rest: maps.Clone(s.rest)}
		}
	}
	return hash, e.next[i]
}

// add makes a name exist, with the empty non-terminals between it and the apex.
func (e *nodeEdit) add(name string) *node {
	n := e.at(name)
	if n != nil {
		return n
	}
	n = &node{name: name}
	switch hash, s := e.open(name); {
	case s.byHash[hash] == nil:
		s.byHash[hash] = n
	case s.rest == nil:
		s.rest = map[string]*node{name: n}
	default:
		s.rest[name] = n
	}
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
	if hash, s := e.open(name); s.byHash[hash] == n {
		delete(s.byHash, hash)
	} else {
		delete(s.rest, name)
	}
	e.count--
	up := parent(name)
	e.at(up).children--
	e.tidy(up)
}

func (e *nodeEdit) commit() {
	for i, s := range e.next {
		if s != nil {
			e.table.shards[i].Store(s)
		}
	}
	e.table.count.Add(e.count)
}

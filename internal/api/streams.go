package api

import (
	"context"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/store"
)

// keyWatch and sessionWatch are how soon what was begun with a key or in a session ends after that does, or may do something else.
const (
	keyWatch     = 500 * time.Millisecond
	sessionWatch = 3 * time.Second
)

// keyStreams are the streams that were begun with keys: each agent and each vantage point has one. One goroutine looks after all of them,
// as long as there are any. It is safe for concurrent use.
type keyStreams struct {
	mu   sync.Mutex
	open map[*keyStream]struct{} // nil while nobody looks
}

type keyStream struct {
	key  store.Key
	stop context.CancelFunc
}

// watch stops a stream when its key is no longer good, until done is called.
func (k *keyStreams) watch(s *keyStream, good func(store.Key) bool) (done func()) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.open == nil {
		k.open = map[*keyStream]struct{}{}
		go k.look(good)
	}
	k.open[s] = struct{}{}
	return func() {
		k.mu.Lock()
		defer k.mu.Unlock()
		delete(k.open, s)
	}
}

// look looks at each stream every now and then, until there is none.
func (k *keyStreams) look(good func(store.Key) bool) {
	tick := time.NewTicker(keyWatch)
	defer tick.Stop()
	for {
		<-tick.C
		list, some := k.list()
		if !some {
			return
		}
		for _, s := range list {
			if !good(s.key) {
				s.stop()
			}
		}
	}
}

// list lists the open streams. Where there are none, the next one has somebody look again.
func (k *keyStreams) list() (list []*keyStream, some bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for s := range k.open {
		list = append(list, s)
	}
	if len(list) == 0 {
		k.open = nil
	}
	return list, len(list) > 0
}

// keyGood reports whether a key may still do what it might.
func (a *api) keyGood(k store.Key) bool {
	eng := a.engine()
	return eng != nil && eng.Access.KeyGood(k)
}

// endWith has a stream ended when its key or session is no longer good, or its holder may do something else. done is to be called when it
// ended by itself.
func (a *api) endWith(ctx context.Context, stop context.CancelFunc, p principal) (done func()) {
	if p.session != nil {
		go a.endWithSession(ctx, stop, *p.session)
		return func() {}
	}
	return a.streams.watch(&keyStream{p.key, stop}, a.keyGood)
}

func (a *api) endWithSession(ctx context.Context, stop context.CancelFunc, s store.Session) {
	tick := time.NewTicker(sessionWatch)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			if eng := a.engine(); eng == nil || !eng.Access.SessionGood(ctx, s) {
				stop()
				return
			}
		case <-ctx.Done():
			return
		}
	}
}

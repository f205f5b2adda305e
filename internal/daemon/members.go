package daemon

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/wire/relay"
)

const (
	// writerFor is how long what is known of the server that writes is believed.
	writerFor = 2 * time.Second
	// lookWait is how long the database may take to say it.
	lookWait = time.Second
	// relayWait is how long the server that writes may take to carry out an update.
	relayWait = 10 * time.Second
	// heardEvery is how often it is told of agents that were heard here.
	heardEvery = time.Second
	// heardAtOnce is of how many in one document: it is well below what the API takes.
	heardAtOnce = 400
)

var errUnreached = errors.New("the server that writes says nowhere where others reach it: set its --member-url")

// members is how this server and the others on its database reach each other.
type members struct {
	d    *Daemon
	own  atomic.Pointer[[]byte] // the key while this server writes
	over *http.Transport

	mu    sync.Mutex
	way   relay.Way
	read  time.Time
	heard map[string]netip.Addr // agents, by their STUN user name
}

func newMembers(d *Daemon) *members {
	over := http.DefaultTransport.(*http.Transport).Clone()
	over.MaxIdleConnsPerHost, over.Proxy = 64, nil
	if u, err := url.Parse(d.o.PublicURL); err == nil && u.Scheme == "https" {
		over.TLSClientConfig = &tls.Config{ServerName: u.Hostname()} // each of us has a certificate for that
	}
	return &members{d: d, over: over, heard: map[string]netip.Addr{}}
}

// Key is what this server believes of others; nil unless it writes.
func (m *members) Key() []byte {
	if key := m.own.Load(); key != nil && m.d.store.Leads() {
		return *key
	}
	return nil
}

// Transport carries requests to the server that writes.
func (m *members) Transport() http.RoundTripper { return m.over }

// Lost notes that the server that wrote was not reached.
func (m *members) Lost() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.read = time.Time{}
}

// Writer says how the server that writes is reached. Errors: one that is not reached by others, and those of the database.
func (m *members) Writer(ctx context.Context) (relay.Way, error) {
	m.mu.Lock()
	known, fresh := m.way, time.Since(m.read) < writerFor
	m.mu.Unlock()
	if fresh {
		return known, nil
	}
	bounded, cancel := context.WithTimeout(ctx, lookWait)
	defer cancel()
	way, err := m.look(bounded)
	if err != nil && (known.URL == nil || errors.Is(err, errUnreached)) {
		return relay.Way{}, err
	}
	if err != nil { // a database that hangs holds nobody up: what was known may still be so
		way = known
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.way, m.read = way, time.Now()
	return way, nil
}

// look reads in the database how the server that writes is reached. Errors: errUnreached, and those of the database.
func (m *members) look(ctx context.Context) (relay.Way, error) {
	at, key, err := m.d.store.WriterAt(ctx)
	if err != nil {
		return relay.Way{}, err
	}
	if at == "" {
		return relay.Way{}, errUnreached
	}
	u, err := url.Parse(at)
	return relay.Way{URL: u, Key: key}, err
}

// introduce says where this server, which has begun to write, is reached by the others. Errors: those of store.Introduce.
func (m *members) introduce(ctx context.Context) error {
	at := m.d.o.MemberURL
	if u, err := url.Parse(m.d.URL); at == "" && err == nil {
		if a, err := netip.ParseAddr(u.Hostname()); err == nil && !a.IsUnspecified() {
			at = m.d.URL
		}
	}
	key := relay.NewKey()
	m.own.Store(&key)
	return m.d.store.Introduce(ctx, at, key)
}

// send has the server that writes take a document, and reads what it answers into out, unless that is nil. Errors: a server that is not
// reached, or does not take it.
func (m *members) send(ctx context.Context, path string, from netip.Addr, in, out any) error {
	way, err := m.Writer(ctx)
	if err != nil {
		return err
	}
	doc, err := json.Marshal(in)
	if err != nil {
		return err
	}
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, way.URL.JoinPath("/api/v1/members", path).String(), bytes.NewReader(doc))
	if err != nil {
		return err
	}
	q.Header.Set("Content-Type", "application/json")
	relay.Sign(q, way.Key, relay.From{Address: from}, time.Now())
	answer, err := (&http.Client{Transport: m.over}).Do(q)
	if err != nil {
		m.Lost()
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode >= http.StatusMultipleChoices {
		m.Lost()
		return fmt.Errorf("the server that writes, %s, says %s", way.URL.Host, answer.Status)
	}
	if out == nil {
		return nil
	}
	return json.NewDecoder(answer.Body).Decode(out)
}

// update has the server that writes carry out a DNS UPDATE. Errors: those of send.
func (m *members) update(ctx context.Context, u *dns.Msg, key string, from netip.Addr) (rcode int, err error) {
	ctx, cancel := context.WithTimeout(ctx, relayWait)
	defer cancel()
	message, err := u.Pack()
	if err != nil {
		return 0, err
	}
	var out contract.UpdateReply
	err = m.send(ctx, "updates", from, contract.RelayedUpdate{Key: key, Message: message}, &out)
	return out.RCode, err
}

// hear notes an agent that was heard here.
func (m *members) hear(username string, from netip.Addr) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.heard[username] = from
}

// tell tells the server that writes of agents that were heard here, until ctx ends. What it does not take is not told again: the next
// heartbeat follows soon.
func (m *members) tell(ctx context.Context) {
	tick := time.NewTicker(heardEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
		m.mu.Lock()
		list := make([]contract.Heartbeat, 0, len(m.heard))
		for username, from := range m.heard {
			list = append(list, contract.Heartbeat{Username: username, From: from})
		}
		clear(m.heard)
		m.mu.Unlock()
		for part := range slices.Chunk(list, heardAtOnce) {
			bounded, cancel := context.WithTimeout(ctx, relayWait)
			if err := m.send(bounded, "heartbeats", netip.IPv4Unspecified(), part, nil); err != nil && ctx.Err() == nil {
				m.d.log.Warn("the server that writes was not told of agents that were heard here", "agents", len(part), "error", err)
			}
			cancel()
		}
	}
}

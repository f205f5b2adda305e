package daemon

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/engine"
	"inkpost.example/inkpost/internal/wire/relay"
)

const (
	// borrowAgain is how soon a server looks for probes to make again after it has made none.
	borrowAgain = time.Second
	// borrowQuiet is how long the server that writes may say nothing before it is taken for gone. It says something every two seconds.
	borrowQuiet = 8 * time.Second
	// roundsWait is how long rounds are collected before they are returned.
	roundsWait = 5 * time.Millisecond
	// roundsAlive is how often a server returns something, so that it is known to be there.
	roundsAlive = time.Second
	// roundsAtOnce is how many are returned in one document.
	roundsAtOnce = 1000
)

var errQuiet = errors.New("the server that writes has said nothing for too long")

// borrow makes probes for the server that writes for as long as this one stands by, until ctx ends.
func (m *members) borrow(ctx context.Context) {
	m.standingBy(ctx, "no probes are made for the server that writes; trying again", m.borrowFrom)
}

// standingBy does something again and again for as long as this server stands by, until ctx ends. failing says what it means that it
// cannot be done.
func (m *members) standingBy(ctx context.Context, failing string, do func(context.Context, *engine.Engine) error) {
	told := false
	for ctx.Err() == nil {
		if e := m.d.engine.Load(); e != nil && e.Follows() {
			began := time.Now()
			err := do(ctx, e)
			if told = told && time.Since(began) < borrowQuiet; err != nil && !told && ctx.Err() == nil {
				m.d.log.Warn(failing, "error", err)
				told = true
			}
		}
		select {
		case <-time.After(borrowAgain):
		case <-ctx.Done():
		}
	}
}

// borrowFrom makes probes for the server that writes until its stream ends, or this server has another role. Errors: those of the way
// there.
func (m *members) borrowFrom(ctx context.Context, e *engine.Engine) error {
	ctx, heard, answer, err := m.listen(ctx, e, "probes", url.Values{"server": {m.d.name},
		"room": {strconv.Itoa(max(1, m.d.shares.probes))}})
	if err != nil {
		return err
	}
	defer answer.Close()
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	rounds := make(chan made, roundsAtOnce)
	var under sync.WaitGroup
	defer under.Wait()
	defer cancel(nil)
	under.Go(func() {
		cancel(m.giveBack(ctx, rounds))
		answer.Close() // which ends the reading
	})
	lines := bufio.NewReader(answer)
	for {
		line, err := lines.ReadBytes('\n')
		if err != nil {
			m.Lost()
			if cause := context.Cause(ctx); cause != nil && !errors.Is(cause, context.Canceled) {
				return cause
			}
			return nil // it has stopped, or we do
		}
		heard()
		var list contract.LentProbes
		if err := json.Unmarshal(line, &list); err != nil {
			return err
		}
		for _, o := range list.Probes {
			under.Go(func() {
				r := made{e.Borrowed(ctx, o), time.Now()}
				select {
				case rounds <- r:
				case <-ctx.Done():
				}
			})
		}
	}
}

// listen asks the server that writes for a stream, which ends when this server has another role, or when that one says nothing for too
// long: heard is to be called for whatever it says. The stream is to be closed, which ends the context. Errors: those of the way there.
func (m *members) listen(ctx context.Context, e *engine.Engine, what string, query url.Values) (_ context.Context, heard func(),
	stream io.ReadCloser, err error) {
	lasting, cancel := context.WithCancelCause(ctx) // no result of its own: one is nil after an error, when the goroutine may look at it
	defer func() {
		if err != nil {
			cancel(nil)
		}
	}()
	go func() {
		select {
		case <-e.Stopping():
			cancel(nil)
		case <-lasting.Done():
		}
	}()
	way, err := m.Writer(lasting)
	if err != nil {
		return nil, nil, nil, err
	}
	at := way.URL.JoinPath("/api/v1/members", what)
	at.RawQuery = query.Encode()
	q, err := http.NewRequestWithContext(lasting, http.MethodGet, at.String(), nil)
	if err != nil {
		return nil, nil, nil, err
	}
	relay.Sign(q, way.Key, relay.From{Address: netip.IPv4Unspecified()}, time.Now())
	quiet := time.AfterFunc(borrowQuiet, func() { cancel(errQuiet) })
	answer, err := (&http.Client{Transport: m.over}).Do(q)
	if err != nil {
		quiet.Stop()
		m.Lost()
		return nil, nil, nil, err
	}
	stream = &ending{answer.Body, func() { quiet.Stop(); cancel(nil) }}
	if answer.StatusCode != http.StatusOK {
		stream.Close()
		m.Lost()
		return nil, nil, nil, fmt.Errorf("the server that writes, %s, says %s", way.URL.Host, answer.Status)
	}
	return lasting, func() { quiet.Reset(borrowQuiet) }, stream, nil
}

// ending is a stream with what is to be done when it is closed.
type ending struct {
	io.ReadCloser
	end func()
}

// Close implements io.Closer.
func (s *ending) Close() error {
	s.end()
	return s.ReadCloser.Close()
}

// made is a round, and when it was made.
type made struct {
	contract.LentRound
	at time.Time
}

// giveBack returns rounds to the server that writes until ctx ends. Errors: those of send.
func (m *members) giveBack(ctx context.Context, rounds <-chan made) error {
	alive := time.NewTicker(roundsAlive)
	defer alive.Stop()
	for {
		var list []made
		select {
		case r := <-rounds:
			list = append(list, r)
			soon := time.After(roundsWait)
		collect:
			for len(list) < roundsAtOnce {
				select {
				case r := <-rounds:
					list = append(list, r)
				case <-soon:
					break collect
				}
			}
		case <-alive.C:
		case <-ctx.Done():
			return nil
		}
		out := contract.LentRounds{Server: m.d.name, Rounds: make([]contract.LentRound, len(list))}
		for i, r := range list {
			r.AgeUS = time.Since(r.at).Microseconds()
			out.Rounds[i] = r.LentRound
		}
		bounded, cancel := context.WithTimeout(ctx, borrowQuiet)
		err := m.send(bounded, "rounds", netip.IPv4Unspecified(), out, nil)
		cancel()
		if err != nil {
			return err
		}
	}
}

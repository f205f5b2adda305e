package api

import (
	"context"
	"errors"
	"net"
	"net/http"
	"net/http/httputil"
	"time"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/engine"
	"inkpost.example/inkpost/internal/wire/relay"
)

// Members is how this server and the others on its database reach each other.
type Members interface {
	// Writer says how the server that writes is reached. Errors: one that is not reached by others, and those of the database.
	Writer(ctx context.Context) (relay.Way, error)
	// Lost notes that the server that wrote was not reached.
	Lost()
	// Key is what this server believes of others; nil unless it writes.
	Key() []byte
	// Transport carries requests to the server that writes.
	Transport() http.RoundTripper
}

// readThere is how long the server that writes may take to answer what this one could answer as well.
const readThere = 2 * time.Second

var errUnanswered = problemOf(http.StatusServiceUnavailable, "unanswered", "this was passed on to the server that writes, which has not "+
	"answered: it may have been done or not; look, and try again shortly")

var errNotOurs = problemOf(http.StatusMisdirectedRequest, "relay-unknown", relay.ErrNotOurs.Error())

// relayedFor says whom another server relays a request for. Error: relay.ErrNotOurs.
func (a *api) relayedFor(r *http.Request) (relay.From, error) {
	if a.members == nil || !relay.Relayed(r) {
		return relay.From{}, relay.ErrNotOurs
	}
	return relay.Read(r, a.members.Key(), time.Now())
}

func (a *api) relayed(r *http.Request) bool {
	_, err := a.relayedFor(r)
	return err == nil
}

// extractor finds the address of whoever asks: what another server says of whom it relays for, else what the connection and proxies say.
func (a *api) extractor() echo.IPExtractor {
	direct := a.trust.extractor()
	return func(r *http.Request) string {
		if from, err := a.relayedFor(r); err == nil {
			return from.Address.String()
		}
		return direct(r)
	}
}

// passesOn reports whether this server has the one that writes do a call: what changes something, and what is read of what only that one
// sees as it happens.
func (r route) passesOn() bool { return !r.anywhere() || r.who == person }

// passed is what became of a call that is passed on.
type passed int

const (
	passedOn   passed = iota // it was answered
	notPassed                // nobody was reached who writes: it was not done
	unanswered               // it was sent, and no answer came: nobody knows here whether it was done
)

// warnUnreached warns that nothing can be passed on, once a minute: everybody's requests fail at once then.
func (a *api) warnUnreached(problem error) {
	now, last := time.Now().UnixNano(), a.warned.Load()
	if now-last > int64(time.Minute) && a.warned.CompareAndSwap(last, now) {
		a.log.Warn("requests cannot be passed on to the server that writes", "error", problem)
	}
}

// passOn has the server that writes do what this one may not, or does not see; all of it where this one has no record yet, as when its
// program is newer than the schema. Error: an address that cannot be read.
func (a *api) passOn(c *echo.Context, r route, eng *engine.Engine) (came passed, err error) {
	q := c.Request()
	if a.members == nil || eng != nil && !eng.Follows() || relay.Relayed(q) || r.who == memberOnly {
		return notPassed, nil
	}
	way, problem := a.members.Writer(q.Context())
	if problem != nil {
		a.warnUnreached(problem)
		return notPassed, nil
	}
	from, err := clientAddress(c)
	if err != nil {
		return passedOn, err
	}
	switch {
	case r.stream && eng != nil: // it begins anew when this server has another role: the one that writes may have gone without a word
		lasting, cancel := context.WithCancel(q.Context())
		defer cancel()
		q = q.WithContext(lasting)
		go func() {
			select {
			case <-eng.Stopping():
				cancel()
			case <-lasting.Done():
			}
		}()
	case r.anywhere(): // there is time left to say what this server knows
		bounded, cancel := context.WithTimeout(q.Context(), readThere)
		defer cancel()
		q = q.WithContext(bounded)
	}
	w := c.Response()
	already := w.Header().Clone()
	secure := a.overTLS(c)
	(&httputil.ReverseProxy{
		Transport:     a.members.Transport(),
		FlushInterval: -1,
		Rewrite: func(p *httputil.ProxyRequest) {
			p.SetURL(way.URL)
			p.Out.URL.Path, p.Out.URL.RawPath, p.Out.Host = p.In.URL.Path, p.In.URL.RawPath, p.In.Host
			relay.Sign(p.Out, way.Key, relay.From{Address: from, Secure: secure}, time.Now())
		},
		ModifyResponse: func(answer *http.Response) error {
			if answer.StatusCode == http.StatusMisdirectedRequest {
				return relay.ErrNotOurs
			}
			for name := range already { // both of us set them
				answer.Header.Del(name)
			}
			return nil
		},
		ErrorHandler: func(_ http.ResponseWriter, _ *http.Request, problem error) {
			a.members.Lost()
			a.log.Debug("the server that writes did not answer", "url", way.URL.String(), "error", problem)
			var network *net.OpError
			came = unanswered
			if errors.Is(problem, relay.ErrNotOurs) || errors.As(problem, &network) && network.Op == "dial" {
				came = notPassed
			}
		},
	}).ServeHTTP(lasting{w, http.NewResponseController(w), r.stream}, q)
	return came, nil
}

// alone says why a call that was not passed on cannot be served here, either; nil where what this server knows is better than nothing.
func (a *api) alone(r route, eng *engine.Engine, came passed) error {
	switch {
	case eng != nil && r.anywhere() && !r.stream:
		return nil
	case came == unanswered:
		return errUnanswered
	case eng == nil:
		return errStarting
	}
	return eng.Writable()
}

// lasting lets a stream take as long as it wants, if each piece of it is taken in soon.
type lasting struct {
	http.ResponseWriter
	control *http.ResponseController
	stream  bool
}

// Unwrap is how http.ResponseController finds what it controls.
func (l lasting) Unwrap() http.ResponseWriter { return l.ResponseWriter }

// Write writes a piece. Errors: those of the connection.
func (l lasting) Write(piece []byte) (int, error) {
	if l.stream {
		_ = l.control.SetWriteDeadline(time.Now().Add(heartbeat + writeWait))
	}
	return l.ResponseWriter.Write(piece)
}

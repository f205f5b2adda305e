package agent

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
)

// way reaches the server. It remembers the last addresses of the server's name, so that a failing resolver is not taken for a dead link.
type way struct {
	o Options

	mu      sync.Mutex
	last    []netip.Addr
	trouble string // of the site's resolver
}

// resolve returns the addresses of a host. If the resolver fails, the last known addresses are used, and the failure is noted.
func (w *way) resolve(ctx context.Context, host string) ([]netip.Addr, error) {
	if a, err := netip.ParseAddr(host); err == nil {
		return []netip.Addr{a}, nil
	}
	ctx, cancel := context.WithTimeout(ctx, requestLimit/2)
	defer cancel()
	found, err := w.o.Lookup(ctx, host)
	w.mu.Lock()
	defer w.mu.Unlock()
	if err == nil && len(found) > 0 {
		w.last, w.trouble = found, ""
		return found, nil
	}
	if err == nil {
		err = errors.New("it has no address")
	}
	w.trouble = fmt.Sprintf("the resolver at the site cannot resolve %s: %v", host, plainDNS(err))
	if len(w.last) > 0 {
		return w.last, nil
	}
	return nil, errors.New(w.trouble + "; set a working resolver on this machine or on the router")
}

// plainDNS shortens resolver errors for installers.
func plainDNS(err error) string {
	var d *net.DNSError
	switch {
	case errors.As(err, &d) && d.IsTimeout:
		return "no answer"
	case errors.As(err, &d) && d.IsNotFound:
		return "it says that the name does not exist"
	case errors.As(err, &d):
		return d.Err
	}
	return err.Error()
}

func (w *way) resolver() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.trouble
}

// dial opens a connection over one address family, or over whichever works where network names none.
func (w *way) dial(ctx context.Context, network, address string) (net.Conn, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	found, err := w.resolve(ctx, host)
	if err != nil {
		return nil, err
	}
	four, six := strings.HasSuffix(network, "4"), strings.HasSuffix(network, "6")
	base := strings.TrimRight(network, "46")
	last := fmt.Errorf("%s has no address of the family asked for", host)
	for _, a := range found {
		a = a.Unmap()
		if four && !a.Is4() || six && a.Is4() {
			continue
		}
		proto := base + "6"
		if a.Is4() {
			proto = base + "4"
		}
		var c net.Conn
		if w.o.Dial != nil {
			c, last = w.o.Dial(ctx, proto, net.JoinHostPort(a.String(), port))
		} else {
			c, last = (&net.Dialer{Control: bind(w.o.Network.Interface)}).DialContext(ctx, proto, net.JoinHostPort(a.String(), port))
		}
		if last == nil {
			return c, nil
		}
	}
	return nil, last
}

// line is an HTTP client over one address family, or any.
func (w *way) line(family string, limit time.Duration) (*http.Client, *http.Transport) {
	t := &http.Transport{ResponseHeaderTimeout: limit, MaxIdleConns: 1, IdleConnTimeout: 2 * maxAnnouncePause, ForceAttemptHTTP2: true,
		DialContext: func(ctx context.Context, _, address string) (net.Conn, error) {
			return w.dial(ctx, "tcp"+family, address)
		}}
	return &http.Client{Transport: t, Timeout: limit}, t
}

// clients are the server's client over any address family, and over each.
type clients struct {
	any, four, six *client.Client
	patient        *client.Client // for what waits at the server
	transports     []*http.Transport
}

func (w *way) clients(server, key string) (clients, error) {
	var out clients
	for _, one := range []struct {
		family string
		limit  time.Duration
		to     **client.Client
	}{{"", requestLimit, &out.any}, {"4", requestLimit, &out.four}, {"6", requestLimit, &out.six},
		{"", tasksWait + requestLimit, &out.patient}} {
		h, t := w.line(one.family, one.limit)
		c, err := client.New(server, key, client.WithHTTP(h))
		if err != nil {
			return out, err
		}
		*one.to = c
		out.transports = append(out.transports, t)
	}
	return out, nil
}

func (c clients) hangUp() {
	for _, t := range c.transports {
		t.CloseIdleConnections()
	}
}

// tasks asks what is to be done. The request waits at the server, longer than others may.
func (c clients) tasks(ctx context.Context, have string, until time.Duration) (contract.AgentTasks, error) {
	return c.patient.Tasks(ctx, have, min(max(until, 0), tasksWait))
}

// tasksWait is the longest that a question for tasks waits at the server.
const tasksWait = 55 * time.Second

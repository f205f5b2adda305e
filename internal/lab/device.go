package lab

import (
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// Speaks says what a simulated service answers with.
type Speaks string

// What simulated services can speak.
const (
	SpeaksSSH Speaks = "ssh"
	SpeaksWeb Speaks = "web"
	SpeaksRaw Speaks = "raw" // a greeting line, then silence
)

// answerer is one service on a simulated device: a real server on the device's loopback address.
type answerer struct {
	at     netip.AddrPort
	speaks Speaks
	title  string

	mu       sync.Mutex
	listener net.Listener
	conns    map[net.Conn]bool
}

func (a *answerer) running() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.listener != nil
}

func (a *answerer) start() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.listener != nil {
		return nil
	}
	l, err := net.Listen("tcp4", a.at.String())
	if err != nil {
		return fmt.Errorf("device service: %w", err)
	}
	a.listener, a.conns = l, map[net.Conn]bool{}
	handle, err := a.handler()
	if err != nil {
		return err
	}
	go func() {
		for {
			c, err := l.Accept()
			if errors.Is(err, net.ErrClosed) {
				return
			}
			if err != nil {
				time.Sleep(20 * time.Millisecond)
				continue
			}
			a.keep(c, true)
			go func() {
				defer a.keep(c, false)
				handle(c)
			}()
		}
	}()
	return nil
}

func (a *answerer) keep(c net.Conn, on bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if on && a.listener != nil {
		a.conns[c] = true
		return
	}
	delete(a.conns, c)
	_ = c.Close()
}

func (a *answerer) stop() {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.listener == nil {
		return
	}
	_ = a.listener.Close()
	a.listener = nil
	for c := range a.conns {
		_ = c.Close()
	}
}

func (a *answerer) handler() (func(net.Conn), error) {
	switch a.speaks {
	case SpeaksSSH:
		_, key, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return nil, err
		}
		signer, err := ssh.NewSignerFromKey(key)
		if err != nil {
			return nil, err
		}
		config := &ssh.ServerConfig{PasswordCallback: func(ssh.ConnMetadata, []byte) (*ssh.Permissions, error) {
			return nil, errors.New("nobody can sign in to a simulated device")
		}}
		config.AddHostKey(signer)
		return func(c net.Conn) {
			_ = c.SetDeadline(time.Now().Add(10 * time.Second))
			_, _, _, _ = ssh.NewServerConn(c, config)
		}, nil
	case SpeaksWeb:
		page := "<!doctype html><title>" + a.title + "</title><h1>" + a.title + "</h1>\n"
		server := &http.Server{ReadHeaderTimeout: 5 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			_, _ = w.Write([]byte(page))
		})}
		return func(c net.Conn) {
			one := &single{conn: c, done: make(chan struct{})}
			_ = server.Serve(one)
			<-one.done
		}, nil
	}
	return func(c net.Conn) {
		_ = c.SetDeadline(time.Now().Add(10 * time.Second))
		_, _ = fmt.Fprintf(c, "%s ready\r\n", a.title)
		_, _ = c.Read(make([]byte, 1))
	}, nil
}

// single is a listener that gives out one connection and ends when that is closed.
type single struct {
	conn net.Conn
	once sync.Once
	done chan struct{}
}

// Accept implements net.Listener.
func (s *single) Accept() (net.Conn, error) {
	if c := s.conn; c != nil {
		s.conn = nil
		return &closing{Conn: c, closed: func() { s.once.Do(func() { close(s.done) }) }}, nil
	}
	<-s.done
	return nil, net.ErrClosed
}

// Close implements net.Listener.
func (s *single) Close() error { return nil }

// Addr implements net.Listener.
func (s *single) Addr() net.Addr { return &net.TCPAddr{} }

type closing struct {
	net.Conn
	closed func()
}

func (c *closing) Close() error {
	c.closed()
	return c.Conn.Close()
}

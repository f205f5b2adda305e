// Package mailsink is a mail server that keeps what it gets, for the demo and for tests. It can be difficult in the ways in which real ones
// are.
package mailsink

import (
	"bytes"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"net/mail"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// Mail is a message that arrived.
type Mail struct {
	From, To string
	At       time.Time
	Raw      []byte
}

// Header returns a field of its header.
func (m Mail) Header(name string) string {
	msg, err := mail.ReadMessage(bytes.NewReader(m.Raw))
	if err != nil {
		return ""
	}
	return msg.Header.Get(name)
}

// Manners are how a sink behaves. The zero Manners take everything.
type Manners struct {
	User, Password string        // it wants them, if set
	CloseAt        string        // it hangs up at this step: connect, greet, sender, recipient, message
	Later          int           // it puts off so many messages (451)
	Refuse         bool          // it knows no recipient (550)
	Slow           time.Duration // before each of its answers
}

// Sink is the server.
type Sink struct {
	TLS *tls.Config // STARTTLS is offered with it

	mu      sync.Mutex
	manners Manners
	later   int
	kept    []Mail
	server  *smtp.Server
}

// New returns a sink that offers STARTTLS where config is not nil.
func New(config *tls.Config) *Sink { return &Sink{TLS: config} }

// Behave changes its manners from the next message on.
func (s *Sink) Behave(m Manners) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.manners, s.later = m, m.Later
}

// Kept lists what arrived, the oldest first.
func (s *Sink) Kept() []Mail {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.kept)
}

// Serve answers on a listener until Close. Error: that of the listener.
func (s *Sink) Serve(l net.Listener) error {
	server := smtp.NewServer(s)
	server.Domain, server.TLSConfig, server.AllowInsecureAuth = "sink.example", s.TLS, true
	server.ReadTimeout, server.WriteTimeout, server.MaxMessageBytes = time.Minute, time.Minute, 1<<20
	server.ErrorLog = quiet{}
	s.mu.Lock()
	s.server = server
	s.mu.Unlock()
	return server.Serve(polite{l, s})
}

// Close ends it.
func (s *Sink) Close() {
	s.mu.Lock()
	server := s.server
	s.mu.Unlock()
	if server != nil {
		_ = server.Close()
	}
}

type quiet struct{}

func (quiet) Printf(string, ...any) {}
func (quiet) Println(...any)        {}

// polite hangs up at once where that is asked for.
type polite struct {
	net.Listener
	sink *Sink
}

func (p polite) Accept() (net.Conn, error) {
	for {
		c, err := p.Listener.Accept()
		if err != nil || !p.sink.step("connect") {
			return c, err
		}
		_ = c.Close()
	}
}

// step waits as long as it is slow, and reports whether it hangs up at a step.
func (s *Sink) step(name string) bool {
	s.mu.Lock()
	m := s.manners
	s.mu.Unlock()
	time.Sleep(m.Slow)
	return m.CloseAt == name
}

// NewSession implements smtp.Backend.
func (s *Sink) NewSession(c *smtp.Conn) (smtp.Session, error) {
	if s.step("greet") {
		_ = c.Conn().Close()
	}
	return &session{sink: s, conn: c}, nil
}

type session struct {
	sink     *Sink
	conn     *smtp.Conn
	from, to string
	known    bool
}

func (s *session) hangUp(step string) bool {
	if !s.sink.step(step) {
		return false
	}
	_ = s.conn.Conn().Close()
	return true
}

// AuthMechanisms implements smtp.AuthSession.
func (s *session) AuthMechanisms() []string { return []string{sasl.Plain, xoauth2} }

// Auth implements smtp.AuthSession. Error: a wrong user or password.
func (s *session) Auth(mechanism string) (sasl.Server, error) {
	if mechanism == xoauth2 {
		return bearer{s.check}, nil
	}
	return sasl.NewPlainServer(func(_, user, password string) error { return s.check(user, password) }), nil
}

func (s *session) check(user, password string) error {
	s.sink.mu.Lock()
	defer s.sink.mu.Unlock()
	if user != s.sink.manners.User || password != s.sink.manners.Password {
		return smtp.ErrAuthFailed
	}
	s.known = true
	return nil
}

const xoauth2 = "XOAUTH2"

// bearer takes a token: user=USER, auth=Bearer TOKEN, each ended by a control-A, and another one at the end.
type bearer struct {
	check func(user, token string) error
}

// Next implements sasl.Server. Error: a wrong token.
func (b bearer) Next(said []byte) (challenge []byte, done bool, err error) {
	if said == nil {
		return nil, false, nil
	}
	var user, token string
	for _, part := range strings.Split(string(said), "\x01") {
		if rest, ok := strings.CutPrefix(part, "user="); ok {
			user = rest
		}
		if rest, ok := strings.CutPrefix(part, "auth=Bearer "); ok {
			token = rest
		}
	}
	return nil, true, b.check(user, token)
}

var errGone = errors.New("it hung up")

// Mail implements smtp.Session. Error: the sender has to sign in first.
func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	if s.hangUp("sender") {
		return errGone
	}
	s.sink.mu.Lock()
	defer s.sink.mu.Unlock()
	if s.sink.manners.User != "" && !s.known {
		return smtp.ErrAuthRequired
	}
	s.from = from
	return nil
}

// Rcpt implements smtp.Session. Errors: it puts the message off, or knows no such recipient.
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	if s.hangUp("recipient") {
		return errGone
	}
	s.sink.mu.Lock()
	defer s.sink.mu.Unlock()
	switch {
	case s.sink.manners.Refuse:
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "no such mailbox here"}
	case s.sink.later > 0:
		s.sink.later--
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 7, 1}, Message: "greylisted, come back later"}
	}
	s.to = to
	return nil
}

// Data implements smtp.Session. Error: the message did not arrive whole.
func (s *session) Data(r io.Reader) error {
	if s.hangUp("message") {
		return errGone
	}
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	s.sink.mu.Lock()
	s.sink.kept = append(s.sink.kept, Mail{From: s.from, To: s.to, At: time.Now(), Raw: raw})
	s.sink.mu.Unlock()
	if s.hangUp("taken") { // it has the message, and nobody is told
		return errGone
	}
	return nil
}

// Reset implements smtp.Session.
func (s *session) Reset() {}

// Logout implements smtp.Session.
func (s *session) Logout() error { return nil }

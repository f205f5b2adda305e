package mail

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/textproto"
	"strings"
	"sync"
	"time"

	gomail "github.com/wneessen/go-mail"
	"github.com/wneessen/go-mail/log"
)

// teller listens to the conversation with a server, and tells it step by step. It never hears a password.
type teller struct {
	mu    sync.Mutex
	steps []Step
	asked string // what the client last said, as the name of its step
}

// stepOf names the step that a line of the client begins; "" for one that goes on with the last.
func stepOf(line string) string {
	verb, _, _ := strings.Cut(strings.ToUpper(strings.TrimSpace(line)), " ")
	switch verb {
	case "EHLO", "HELO":
		return "greet"
	case "STARTTLS":
		return "encrypt"
	case "AUTH", "<SMTP", "<AUTH": // the package hides what has to do with the password
		return "sign in"
	case "MAIL":
		return "sender"
	case "RCPT":
		return "recipient"
	case "DATA":
		return "message"
	case "QUIT", "RSET", "NOOP":
		return "-" // no step of ours
	}
	return ""
}

// Debugf implements log.Logger.
func (t *teller) Debugf(l log.Log) {
	line := strings.TrimSpace(fmt.Sprintf(l.Format, l.Messages...))
	t.mu.Lock()
	defer t.mu.Unlock()
	if l.Direction == log.DirClientToServer {
		if name := stepOf(line); name != "" {
			t.asked = name
		}
		return
	}
	if t.asked == "" || t.asked == "-" {
		return
	}
	t.add(t.asked, line, len(line) > 0 && (line[0] == '2' || line[0] == '3'))
}

// Infof implements log.Logger.
func (t *teller) Infof(log.Log) {}

// Warnf implements log.Logger.
func (t *teller) Warnf(log.Log) {}

// Errorf implements log.Logger.
func (t *teller) Errorf(log.Log) {}

// add adds a step, or what comes after to it. The caller holds the lock.
func (t *teller) add(name, words string, good bool) {
	words = strings.Join(strings.Fields(words), " ")
	if n := len(t.steps); n > 0 && t.steps[n-1].Name == name {
		t.steps[n-1].Words, t.steps[n-1].Good = words, good
		return
	}
	t.steps = append(t.steps, Step{name, words, good})
}

// bounded is a connection that ends at a moment, whatever deadlines it is given on the way: a server that is a little slow at each step is
// too slow in the end.
type bounded struct {
	net.Conn
	end time.Time
}

// SetDeadline implements net.Conn.
func (b bounded) SetDeadline(at time.Time) error {
	if at.IsZero() || at.After(b.end) {
		at = b.end
	}
	return b.Conn.SetDeadline(at)
}

// dialer connects, and tells so.
func (t *teller) dialer(encrypted bool, config *tls.Config, patience time.Duration) gomail.DialContextFunc {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		var d net.Dialer
		c, err := d.DialContext(ctx, network, address)
		t.mu.Lock()
		defer t.mu.Unlock()
		t.asked = "connect"
		if err != nil {
			return nil, err
		}
		c = bounded{c, time.Now().Add(patience)}
		t.add("connect", "connected to "+c.RemoteAddr().String(), true)
		if !encrypted {
			return c, nil
		}
		t.asked = "encrypt"
		secure := tls.Client(c, config)
		if err := secure.HandshakeContext(ctx); err != nil {
			_ = c.Close()
			return nil, err
		}
		t.add("encrypt", tls.VersionName(secure.ConnectionState().Version), true)
		return secure, nil
	}
}

// ended returns the steps that were made, and why the last of them failed.
func (t *teller) ended(err error) ([]Step, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	r := Refused{At: t.asked, Words: err.Error()}
	switch words := err.Error(); {
	case r.At == "" || r.At == "-":
		r.At = "connect"
	case strings.Contains(words, "tls: ") || strings.Contains(words, "x509: "): // the handshake comes with the greeting after it
		r.At = "encrypt"
	}
	var said *gomail.SendError
	var reply *textproto.Error
	switch {
	case errors.As(err, &said):
		r.Code, r.Final = said.ErrorCode(), !said.IsTemp() && said.ErrorCode() >= 500
		if name, ok := reasons[said.Reason]; ok {
			r.At = name
		}
		r.Words = replyIn(r.Words)
	case errors.As(err, &reply):
		r.Code, r.Words = reply.Code, fmt.Sprintf("%d %s", reply.Code, reply.Msg)
		r.Final = reply.Code >= 500 && r.At != "sign in" // a password may be put right
	}
	r.Words = plainly(r)
	t.add(r.At, r.Words, false)
	return t.steps, r
}

// replyIn is what the server said, of what the package makes of it.
func replyIn(words string) string {
	said, _, _ := strings.Cut(words, ", affected ")
	if _, after, ok := strings.Cut(said, " command: "); ok {
		said = after
	}
	return strings.ReplaceAll(said, `"`, "")
}

// reasons name the step at which the package gave up.
var reasons = map[gomail.SendErrReason]string{gomail.ErrSMTPMailFrom: "sender", gomail.ErrSMTPRcptTo: "recipient",
	gomail.ErrSMTPData: "message", gomail.ErrWriteContent: "message", gomail.ErrSMTPDataClose: "message"}

// plainly says what the trouble is, and what to do about it.
func plainly(r Refused) string {
	words := strings.Join(strings.Fields(r.Words), " ")
	switch {
	case strings.Contains(words, "certificate"):
		return words + "; the server's certificate is not one that this machine trusts for that name"
	case strings.Contains(words, "does not support STARTTLS"):
		return "the server offers no STARTTLS; use its TLS port, or allow plain"
	case strings.Contains(words, "connection refused"):
		return words + "; nothing listens there: is it the right port?"
	case strings.Contains(words, "EOF"), strings.Contains(words, "reset by peer"):
		return "the server closed the connection"
	case strings.Contains(words, "i/o timeout"), strings.Contains(words, "deadline exceeded"):
		return "the server did not answer in time"
	case r.At == "sender" && (r.Code == 502 || r.Code == 530):
		return words + "; it wants a user and a password"
	case r.Code >= 400 && r.Code < 500:
		return words + "; it may take it later"
	}
	return words
}

// Package mail hands messages to a mail server by SMTP (RFC 5321), and tells each step of it.
package mail

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/mail"
	"strconv"
	"strings"
	"time"

	gomail "github.com/wneessen/go-mail"
)

// Security says how the way to a server is protected.
type Security string

// StartTLS encrypts after the greeting (RFC 3207) and does without nothing else; TLS from the beginning on (RFC 8314); Plain never: a
// password then crosses the network as it is.
const (
	StartTLS Security = "starttls"
	TLS      Security = "tls"
	Plain    Security = "plain"
)

// Server is a mail server that takes our messages.
type Server struct {
	Address  string   // host, or host:port; 587 for StartTLS, 465 for TLS and 25 for Plain where no port is given
	Security Security // StartTLS if empty
	Auth     string   // one of Auths; none if empty
	User     string
	Password string // or the token of XOAUTH2
	From     string // the sender, as noc@saltmarsh.example or "Saltmarsh <noc@saltmarsh.example>"
	Hello    string // what we call ourselves; the machine's name if empty
	Roots    *x509.CertPool
	Patience time.Duration // for the whole of it; 30 s if 0
}

// Auths are the ways to prove who we are: of RFC 4616, LOGIN, RFC 2195, RFC 7677, RFC 5802, and XOAUTH2.
var Auths = []string{"", "plain", "login", "cram-md5", "scram-sha-256", "scram-sha-1", "xoauth2"}

var auths = map[string]gomail.SMTPAuthType{"plain": gomail.SMTPAuthPlain, "login": gomail.SMTPAuthLogin, "cram-md5": gomail.SMTPAuthCramMD5,
	"scram-sha-256": gomail.SMTPAuthSCRAMSHA256, "scram-sha-1": gomail.SMTPAuthSCRAMSHA1, "xoauth2": gomail.SMTPAuthXOAUTH2}

// unprotected are those that go without encryption, for Plain.
var unprotected = map[string]gomail.SMTPAuthType{"plain": gomail.SMTPAuthPlainNoEnc, "login": gomail.SMTPAuthLoginNoEnc}

// Message is one mail to one person.
type Message struct {
	ID          string // without angle brackets; the same when it is sent again
	To          string
	Subject     string
	Text, HTML  string
	Date        time.Time
	Thread      string // ID of the message that it answers; "" begins a thread
	Unsubscribe string // a URL; "" for none
	Urgent      bool
}

// Step is one step of handing a message over, in words.
type Step struct {
	Name  string `json:"step"`
	Words string `json:"words"`
	Good  bool   `json:"good"`
}

// Refused reports that a server took no message. Final says that it will not do so later either.
type Refused struct {
	At    string // the step
	Words string
	Code  int // of the SMTP reply; 0 if there was none
	Final bool
}

func (e Refused) Error() string { return e.At + ": " + e.Words }

// Check returns what is wrong with how a server is described. Error: a field that says nothing that can be used.
func (s Server) Check() error {
	switch s.Security {
	case "", StartTLS, TLS, Plain:
	default:
		return fmt.Errorf("mail security %q is none of starttls, tls, plain", s.Security)
	}
	if _, known := auths[s.Auth]; s.Auth != "" && !known {
		return fmt.Errorf("mail auth %q is none of %s", s.Auth, strings.Join(Auths[1:], ", "))
	}
	if _, err := mail.ParseAddress(s.From); err != nil {
		return fmt.Errorf("mail sender %q is no address: give one such as noc@saltmarsh.example", s.From)
	}
	if s.Auth != "" && (s.User == "" || s.Password == "") {
		return errors.New("mail auth needs a user and a password")
	}
	_, _, err := s.hostPort()
	return err
}

func (s Server) hostPort() (host string, port int, err error) {
	host, text, split := strings.Cut(s.Address, ":")
	if h, p, e := net.SplitHostPort(s.Address); e == nil {
		host, text, split = h, p, true
	}
	port = map[Security]int{TLS: 465, Plain: 25}[s.Security]
	if port == 0 {
		port = 587
	}
	if split {
		if port, err = strconv.Atoi(text); err != nil || port < 1 || port > 65535 {
			return host, port, fmt.Errorf("mail server %q: the port is no number from 1 to 65535", s.Address)
		}
	}
	if host == "" {
		return host, port, fmt.Errorf("mail server %q: give HOST or HOST:PORT", s.Address)
	}
	return host, port, nil
}

// Send hands a message over and tells each step. Error: Refused, whose Final says whether trying again is of no use.
func (s Server) Send(ctx context.Context, m Message) ([]Step, error) {
	t := &teller{}
	c, err := s.client(t)
	if err != nil {
		return nil, Refused{At: "set up", Words: err.Error(), Final: true}
	}
	msg, err := s.compose(m)
	if err != nil {
		return nil, Refused{At: "write", Words: err.Error(), Final: true}
	}
	if err := c.DialWithContext(ctx); err != nil {
		_ = c.Close()
		return t.ended(err)
	}
	err = c.Send(msg)
	_ = c.Close()
	if msg.IsDelivered() { // what goes wrong after the server has taken it is not our trouble
		return t.steps, nil
	}
	return t.ended(err)
}

// Greet signs in at the server and hands nothing over. Error: Refused.
func (s Server) Greet(ctx context.Context) error {
	t := &teller{}
	c, err := s.client(t)
	if err != nil {
		return Refused{At: "set up", Words: err.Error(), Final: true}
	}
	err = c.DialWithContext(ctx)
	_ = c.Close()
	if err != nil {
		_, err = t.ended(err)
	}
	return err
}

func (s Server) client(t *teller) (*gomail.Client, error) {
	host, port, err := s.hostPort()
	if err != nil {
		return nil, err
	}
	patience := s.Patience
	if patience == 0 {
		patience = 30 * time.Second
	}
	secure := &tls.Config{ServerName: host, RootCAs: s.Roots, MinVersion: tls.VersionTLS12}
	options := []gomail.Option{gomail.WithPort(port), gomail.WithTimeout(patience), gomail.WithTLSConfig(secure), gomail.WithDebugLog(),
		gomail.WithLogger(t), gomail.WithDialContextFunc(t.dialer(s.Security == TLS, secure, patience)),
		gomail.WithTLSPolicy(gomail.TLSMandatory)}
	if s.Hello != "" {
		options = append(options, gomail.WithHELO(s.Hello))
	}
	how := auths[s.Auth]
	switch s.Security {
	case TLS:
		options = append(options, gomail.WithSSL())
	case Plain:
		options = append(options, gomail.WithTLSPolicy(gomail.NoTLS))
		if bare, ok := unprotected[s.Auth]; ok {
			how = bare
		}
	}
	if s.Auth != "" {
		options = append(options, gomail.WithSMTPAuth(how), gomail.WithUsername(s.User), gomail.WithPassword(s.Password))
	}
	return gomail.NewClient(host, options...)
}

func (s Server) compose(m Message) (*gomail.Msg, error) {
	msg := gomail.NewMsg(gomail.WithNoDefaultUserAgent())
	if err := errors.Join(msg.From(s.From), msg.To(m.To)); err != nil {
		return nil, err
	}
	msg.Subject(m.Subject)
	msg.SetDateWithValue(m.Date)
	msg.SetMessageIDWithValue(m.ID)
	msg.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: no holiday notes in return
	if m.Thread != "" {
		msg.SetGenHeader("In-Reply-To", "<"+m.Thread+">")
		msg.SetGenHeader("References", "<"+m.Thread+">")
	}
	if m.Unsubscribe != "" {
		msg.SetListUnsubscribe("<" + m.Unsubscribe + ">") // RFC 2369
	}
	if m.Urgent {
		msg.SetImportance(gomail.ImportanceHigh)
	}
	msg.SetBodyString(gomail.TypeTextPlain, m.Text)
	if m.HTML != "" {
		msg.AddAlternativeString(gomail.TypeTextHTML, m.HTML)
	}
	return msg, nil
}

package mail_test

import (
	"crypto/tls"
	"crypto/x509"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/lab/mailsink"
	"inkpost.example/inkpost/internal/testbed/inside"
	"inkpost.example/inkpost/internal/wire/mail"
)

// sink runs a mail server that offers STARTTLS, and returns how it is reached.
func sink(t *testing.T) (*mailsink.Sink, mail.Server) {
	cert, roots := inside.Certificate(t, "127.0.0.1")
	s := mailsink.New(&tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = s.Serve(l) }()
	t.Cleanup(func() { s.Close(); _ = l.Close() })
	return s, mail.Server{Address: l.Addr().String(), From: "Saltmarsh Networks <noc@saltmarsh.example>", Roots: roots,
		Hello:    "ink.example",
		Patience: 2 * time.Second}
}

var message = mail.Message{ID: "notice.7.abc@saltmarsh.example", To: "field@saltmarsh.example",
	Subject: "KET-07: the recorder is off – now",
	Text:    "Next: switch it on.\n", HTML: "<p>Next: switch it on.</p>", Date: time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC),
	Thread: "fault.3.abc@saltmarsh.example", Unsubscribe: "https://ink.saltmarsh.example/rules", Urgent: true}

func names(steps []mail.Step) (out []string) {
	for _, s := range steps {
		mark := "+"
		if !s.Good {
			mark = "-"
		}
		out = append(out, mark+s.Name)
	}
	return out
}

func TestAMessageArrivesAsItWasWritten(t *testing.T) {
	s, server := sink(t)
	require.NoError(t, server.Check())
	steps, err := server.Send(t.Context(), message)
	require.NoError(t, err)
	require.Equal(t, []string{"+connect", "+greet", "+encrypt", "+greet", "+sender", "+recipient", "+message"}, names(steps))
	require.Len(t, s.Kept(), 1)
	m := s.Kept()[0]
	require.Equal(t, "noc@saltmarsh.example", m.From)
	require.Equal(t, "field@saltmarsh.example", m.To)
	for name, want := range map[string]string{"Message-ID": "<notice.7.abc@saltmarsh.example>",
		"References":  "<fault.3.abc@saltmarsh.example>",
		"In-Reply-To": "<fault.3.abc@saltmarsh.example>", "Auto-Submitted": "auto-generated",
		"List-Unsubscribe": "<https://ink.saltmarsh.example/rules>", "Date": "Mon, 23 Nov 2026 08:00:00 +0000", "Importance": "high"} {
		require.Equal(t, want, m.Header(name), name)
	}
	require.Contains(t, m.Header("Content-Type"), "multipart/alternative")
	require.Contains(t, m.Header("Subject"), "=?UTF-8?")
	require.Contains(t, string(m.Raw), "Next: switch it on.")
}

func TestAServerThatIsDifficultIsToldStepByStep(t *testing.T) {
	for what, c := range map[string]struct {
		manners mailsink.Manners
		change  func(*mail.Server)
		at      string
		words   string
		final   bool
	}{
		"hangs up at once":         {manners: mailsink.Manners{CloseAt: "connect"}, at: "connect", words: "closed the connection"},
		"hangs up at the sender":   {manners: mailsink.Manners{CloseAt: "sender"}, at: "sender", words: "closed the connection"},
		"at the recipient":         {manners: mailsink.Manners{CloseAt: "recipient"}, at: "recipient", words: "closed the connection"},
		"at the message":           {manners: mailsink.Manners{CloseAt: "message"}, at: "message", words: "closed the connection"},
		"after it took it, unsaid": {manners: mailsink.Manners{CloseAt: "taken"}, at: "message", words: "closed the connection"},
		"greylists":                {manners: mailsink.Manners{Later: 1}, at: "recipient", words: "451"},
		"knows no such mailbox":    {manners: mailsink.Manners{Refuse: true}, at: "recipient", words: "550", final: true},
		"is too slow":              {manners: mailsink.Manners{Slow: 3 * time.Second}, at: "connect", words: "in time"},
		"wants a password":         {manners: mailsink.Manners{User: "ink", Password: "x"}, at: "sender", words: "502", final: true},
		"wants another password": {manners: mailsink.Manners{User: "ink", Password: "x"}, at: "sign in", words: "535",
			change: func(s *mail.Server) { s.Auth, s.User, s.Password = "plain", "ink", "y" }},
		"has a certificate of nobody": {at: "encrypt", words: "not one that this machine trusts",
			change: func(s *mail.Server) { s.Roots = x509.NewCertPool() }},
		"speaks no TLS from the beginning": {at: "encrypt", words: "first record does not look like a TLS handshake",
			change: func(s *mail.Server) { s.Security = mail.TLS }},
		"is not there": {at: "connect", words: "nothing listens there",
			change: func(s *mail.Server) { s.Address = "127.0.0.1:1" }},
	} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			s, server := sink(t)
			s.Behave(c.manners)
			if c.change != nil {
				c.change(&server)
			}
			steps, err := server.Send(t.Context(), message)
			var refused mail.Refused
			require.ErrorAs(t, err, &refused)
			require.Equal(t, c.at, refused.At, "%v %+v", err, steps)
			require.Contains(t, refused.Words, c.words)
			require.Equal(t, c.final, refused.Final)
			require.NotEmpty(t, steps)
			require.False(t, steps[len(steps)-1].Good)
			for _, step := range steps {
				require.NotContains(t, step.Words, "AGluawB", "a password is never told")
			}
			s.Behave(mailsink.Manners{})
		})
	}
}

func TestAServerThatIsALittleSlowAtEachStepIsTooSlowInTheEnd(t *testing.T) {
	t.Parallel()
	s, server := sink(t)
	s.Behave(mailsink.Manners{Slow: 900 * time.Millisecond})
	began := time.Now()
	_, err := server.Send(t.Context(), message)
	require.ErrorContains(t, err, "in time")
	require.Less(t, time.Since(began), 3500*time.Millisecond, "two seconds are for the whole of it")
}

func TestAPasswordIsTaken(t *testing.T) {
	s, server := sink(t)
	s.Behave(mailsink.Manners{User: "ink", Password: "x"})
	server.Auth, server.User, server.Password = "plain", "ink", "x"
	steps, err := server.Send(t.Context(), message)
	require.NoError(t, err)
	require.Equal(t, "+connect +greet +encrypt +greet +sign in +sender +recipient +message", strings.Join(names(steps), " "))

	server.Auth = "xoauth2"
	_, err = server.Send(t.Context(), message)
	require.NoError(t, err)
	require.Len(t, s.Kept(), 2)

	server.Security, server.Auth = mail.Plain, "plain"
	steps, err = server.Send(t.Context(), message)
	require.NoError(t, err)
	require.Equal(t, "+connect +greet +sign in +sender +recipient +message", strings.Join(names(steps), " "), "only on request")
}

func TestAServerThatCannotBeUsed(t *testing.T) {
	good := mail.Server{Address: "mail.saltmarsh.example", From: "noc@saltmarsh.example"}
	require.NoError(t, good.Check())
	for words, change := range map[string]func(*mail.Server){
		"none of starttls":          func(s *mail.Server) { s.Security = "ssl" },
		"none of plain, login":      func(s *mail.Server) { s.Auth = "ntlm" },
		"is no address":             func(s *mail.Server) { s.From = "nobody" },
		"needs a user and":          func(s *mail.Server) { s.Auth = "login" },
		"no number from 1 to 65535": func(s *mail.Server) { s.Address = "mail.saltmarsh.example:smtp" },
		"give HOST or HOST:PORT":    func(s *mail.Server) { s.Address = "" },
	} {
		s := good
		change(&s)
		require.ErrorContains(t, s.Check(), words)
	}
}

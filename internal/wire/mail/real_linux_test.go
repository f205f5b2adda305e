package mail_test

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/lab/mailsink"
	"inkpost.example/inkpost/internal/testbed/inside"
	"inkpost.example/inkpost/internal/wire/mail"
)

func TestARealServerTakesOurMail(t *testing.T) {
	inside.Run(t, "TestInsideTheNamespace")
}

// settings of a submission server (RFC 6409) that hands everything on to a sink.
const settings = `base_dir = DIR/run
protocols = submission
log_path = DIR/log
ssl = required
ssl_cert = <DIR/cert.pem
ssl_key = <DIR/key.pem
listen = 127.0.0.1
auth_failure_delay = 0
auth_mechanisms = plain login cram-md5 scram-sha-1 scram-sha-256
submission_relay_host = 127.0.0.1
submission_relay_port = 2525
hostname = post.example
mail_location = maildir:DIR/home/mail
default_login_user = nobody
default_internal_user = nobody
default_internal_group = nogroup
passdb {
 driver = static
 args = password=slipway
}
userdb {
 driver = static
 args = uid=65534 gid=65534 home=DIR/home
}
service submission-login {
 chroot =
 inet_listener submission {
  port = 2587
 }
 inet_listener submissions {
  port = 2465
  ssl = yes
 }
}
service stats {
 chroot =
}
service anvil {
 chroot =
}
`

func TestInsideTheNamespace(t *testing.T) {
	inside.Here(t)
	dir, err := os.MkdirTemp("", "inkpost-mail-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	cert, roots := inside.Certificate(t, "127.0.0.1")
	inside.WriteCertificate(t, dir, cert, 0o644)
	for name, content := range map[string]string{"log": "", "dovecot.conf": strings.ReplaceAll(settings, "DIR", dir)} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(content), 0o644))
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "home"), 0o777))
	require.NoError(t, os.Chmod(filepath.Join(dir, "home"), 0o777))
	sink := mailsink.New(nil)
	l, err := net.Listen("tcp", "127.0.0.1:2525")
	require.NoError(t, err)
	go func() { _ = sink.Serve(l) }()
	t.Cleanup(sink.Close)
	ctx, stop := context.WithCancel(t.Context())
	server := exec.CommandContext(ctx, "dovecot", "-F", "-c", filepath.Join(dir, "dovecot.conf"))
	require.NoError(t, server.Start())
	t.Cleanup(func() { stop(); _ = server.Wait() })
	said := func() string { log, _ := os.ReadFile(filepath.Join(dir, "log")); return string(log) }
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", "127.0.0.1:2587")
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, 10*time.Second, 50*time.Millisecond, "dovecot answers")

	n := 0
	for _, security := range []mail.Security{mail.StartTLS, mail.TLS} {
		for _, auth := range []string{"plain", "login", "cram-md5", "scram-sha-1", "scram-sha-256"} {
			ours := mail.Server{Address: map[mail.Security]string{mail.StartTLS: "127.0.0.1:2587", mail.TLS: "127.0.0.1:2465"}[security],
				Security: security, Auth: auth, User: "ink@post.example", Password: "slipway", From: "noc@saltmarsh.example", Roots: roots,
				Hello: "ink.example"}
			m := message
			m.ID = fmt.Sprintf("notice.%d.real@saltmarsh.example", n)
			steps, err := ours.Send(t.Context(), m)
			require.NoError(t, err, "%s %s: %+v\n%s", security, auth, steps, said())
			n++
			require.Len(t, sink.Kept(), n)
			require.Equal(t, "<"+m.ID+">", sink.Kept()[n-1].Header("Message-ID"))
		}
	}
	ours := mail.Server{Address: "127.0.0.1:2587", Auth: "scram-sha-256", User: "ink@post.example", Password: "wrong",
		From: "noc@saltmarsh.example", Roots: roots, Patience: 10 * time.Second}
	steps, err := ours.Send(t.Context(), message)
	var refused mail.Refused
	require.ErrorAs(t, err, &refused)
	require.Equal(t, "sign in", refused.At, "%+v", steps)
	require.False(t, refused.Final, "somebody may put the password right")
}

package cli_test

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/testbed"
)

// background runs a program until the test ends, and returns the first line that it prints.
func background(t *testing.T, env []string, stdin, program string, args ...string) string {
	t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Env, cmd.Stdin = env, strings.NewReader(stdin)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start(), "install what the tests need: make install-test")
	t.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_, _ = cmd.Process.Wait()
	})
	line, _ := bufio.NewReader(out).ReadString('\n')
	return strings.TrimSpace(line)
}

// The key ring is GNOME's own, on a session bus of the test's.
func TestAKeyIsKeptInTheSystemsKeyRing(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	term := open(t, nil)
	require.NoError(t, os.Mkdir(filepath.Join(term.home, "run"), 0o700))
	term.env = append(term.env, "XDG_RUNTIME_DIR="+filepath.Join(term.home, "run"), "XDG_DATA_HOME="+term.home)
	bus := background(t, term.env, "", "dbus-daemon", "--session", "--nofork", "--print-address=1")
	term.env = append(term.env, "DBUS_SESSION_BUS_ADDRESS="+bus)
	_, errs, code := term.run(s.Password+"\n", "login", "--server", s.URL, "--name", "owner", "--password-stdin", "--keep", "nowhere")
	require.Equal(t, 2, code)
	require.Contains(t, errs, "it is auto, file or ring")
	background(t, term.env, "ring", "gnome-keyring-daemon", "--foreground", "--unlock", "--components=secrets")
	require.Eventually(t, func() bool {
		cmd := exec.Command("dbus-send", "--session", "--dest=org.freedesktop.DBus", "--print-reply", "/org/freedesktop/DBus",
			"org.freedesktop.DBus.NameHasOwner", "string:org.freedesktop.secrets")
		cmd.Env = term.env
		said, _ := cmd.CombinedOutput()
		return strings.Contains(string(said), "boolean true")
	}, 20*time.Second, 50*time.Millisecond, "the key ring is on the bus")

	out, errs, code := term.run(s.Password+"\n", "login", "--server", s.URL, "--name", "owner", "--password-stdin")
	require.Zero(t, code, errs)
	require.Contains(t, out, "the key is kept in the system's key ring")
	file := filepath.Join(term.home, "inkpost", "login.json")
	kept, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NotContains(t, string(kept), `"key":`)
	require.Contains(t, term.ok("login", "list"), "key ring")
	require.Contains(t, term.ok("key", "list"), "command line on")

	out, errs, code = term.run(s.Password+"\n", "login", "--server", s.URL, "--name", "owner", "--password-stdin", "--keep", "file")
	require.Zero(t, code, errs)
	require.Contains(t, out, file)
	_, errs, code = term.run(s.Password+"\n", "login", "--server", s.URL, "--name", "owner", "--password-stdin", "--keep", "ring")
	require.Zero(t, code, errs)

	// Without the bus, it says what to do.
	away := append([]string{}, term.env...)
	term.env = append(term.env, "DBUS_SESSION_BUS_ADDRESS=unix:path=/nowhere")
	_, errs, code = term.run("", "key", "list")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "is in the system's key ring, and cannot be had")
	term.env = away
	term.ok("login", "forget", s.URL)
	_, errs, code = term.run("", "key", "list")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "not logged in")
}

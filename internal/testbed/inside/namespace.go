//go:build linux

// Package inside is for tests with real servers: it runs a test in namespaces of its own, and makes certificates for what runs there.
package inside

import (
	"os"
	"os/exec"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// variable says, in the environment of a test, that it runs in namespaces of its own.
const variable = "INKPOST_TEST_INSIDE"

// Run runs another test of the package in a network, mount and process namespace of its own, which has no way out: its ports are free, and
// its firewall is nobody else's. It needs root, and skips without.
func Run(t *testing.T, name string) {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("namespaces of one's own need root; the stand-ins are tried without")
	}
	cmd := exec.Command(os.Args[0], "-test.run", "^"+name+"$", "-test.v", "-test.parallel", "8")
	cmd.Env = append(os.Environ(), variable+"=1")
	cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET | syscall.CLONE_NEWNS | syscall.CLONE_NEWPID,
		Pdeathsig: syscall.SIGKILL}
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Contains(t, string(out), "--- PASS: "+name)
}

// Here makes the network of a test that Run runs usable, and skips a test that it does not.
func Here(t *testing.T) {
	t.Helper()
	if os.Getenv(variable) == "" {
		t.Skip("run by another test, in namespaces")
	}
	out, err := exec.Command("ip", "link", "set", "lo", "up").CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// Package spaces makes networks of the test's own from network namespaces: machines on a LAN, routers with real kernel NAT and a
// real gateway daemon, providers, and the internet outside. Loopback hides what matters there.
//
// Errors of all methods: that of the command which failed.
package spaces

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// Spaces are namespaces, removed when the test ends.
type Spaces struct {
	t      testing.TB
	suffix string
}

// New skips the test where namespaces cannot be made.
func New(t testing.TB, programs ...string) Spaces {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("only root may make network namespaces")
	}
	for _, program := range append(programs, "nft", "ip") {
		_, err := exec.LookPath(program)
		require.NoError(t, err, "install it: make install-test")
	}
	return Spaces{t, fmt.Sprintf("%x", time.Now().UnixNano()&0xfffff)}
}

// Name is the name of a namespace on this machine.
func (s Spaces) Name(space string) string { return "ink-" + space + s.suffix }

// Run runs a command, which has to succeed, and gives what it prints.
func (s Spaces) Run(args ...string) string {
	s.t.Helper()
	out, err := exec.Command(args[0], args[1:]...).CombinedOutput()
	require.NoError(s.t, err, "%s\n%s", strings.Join(args, " "), out)
	return string(out)
}

// In runs a command in a space.
func (s Spaces) In(space string, args ...string) string {
	s.t.Helper()
	return s.Run(append([]string{"ip", "netns", "exec", s.Name(space)}, args...)...)
}

// Make makes spaces that route.
func (s Spaces) Make(list ...string) {
	s.t.Helper()
	for _, space := range list {
		s.Run("ip", "netns", "add", s.Name(space))
		s.t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", s.Name(space)).Run() })
		s.In(space, "ip", "link", "set", "lo", "up")
		s.In(space, "sysctl", "-qw", "net.ipv4.ip_forward=1")
	}
}

// Join connects two spaces; an end is "space interface address/bits", and further addresses.
func (s Spaces) Join(a, b string) {
	s.t.Helper()
	ends := [2][]string{strings.Fields(a), strings.Fields(b)}
	s.Run("ip", "link", "add", "ink0"+s.suffix, "type", "veth", "peer", "name", "ink1"+s.suffix)
	for i, e := range ends {
		was := fmt.Sprintf("ink%d%s", i, s.suffix)
		s.Run("ip", "link", "set", was, "netns", s.Name(e[0]))
		s.In(e[0], "ip", "link", "set", was, "name", e[1])
		for _, address := range e[2:] {
			s.In(e[0], "ip", "addr", "add", address, "dev", e[1], "nodad")
		}
		s.In(e[0], "ip", "link", "set", e[1], "up")
	}
}

// Translate has a space translate what leaves by an interface.
func (s Spaces) Translate(space, by string) {
	s.t.Helper()
	s.In(space, "nft", "add table ip inknat; add chain ip inknat post { type nat hook postrouting priority 110; }; add rule ip "+
		"inknat post oifname "+by+" masquerade")
}

// Process is a program in a space.
type Process struct {
	cmd *exec.Cmd
	log string
}

// Serve runs a program in a space until the test ends.
func (s Spaces) Serve(space string, args ...string) *Process {
	s.t.Helper()
	cmd := exec.Command("ip", append([]string{"netns", "exec", s.Name(space)}, args...)...)
	log, err := os.CreateTemp(s.t.TempDir(), "log")
	require.NoError(s.t, err)
	cmd.Stdout, cmd.Stderr = log, log
	require.NoError(s.t, cmd.Start())
	p := &Process{cmd, log.Name()}
	s.t.Cleanup(func() {
		p.Kill()
		_ = log.Close()
		if s.t.Failed() {
			text, _ := os.ReadFile(log.Name())
			if len(text) > 20_000 {
				text = text[len(text)-20_000:]
			}
			s.t.Logf("%s: %s", filepath.Base(args[0]), text)
		}
	})
	return p
}

// Kill ends a program as a power cut would.
func (p *Process) Kill() {
	_ = p.cmd.Process.Kill()
	_ = p.cmd.Wait()
}

// Says returns what a program has printed.
func (p *Process) Says() string {
	text, _ := os.ReadFile(p.log)
	return string(text)
}

// Busy returns the processor time that a program has used (ip netns exec becomes the program).
func (p *Process) Busy(t testing.TB) time.Duration {
	t.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", p.cmd.Process.Pid))
	require.NoError(t, err)
	fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+2:]))
	user, err := strconv.Atoi(fields[11])
	require.NoError(t, err)
	system, err := strconv.Atoi(fields[12])
	require.NoError(t, err)
	return time.Duration(user+system) * 10 * time.Millisecond // USER_HZ is 100
}

// Within runs f on a thread in a space: the sockets that it opens are the space's, wherever they are used then.
func (s Spaces) Within(space string, f func() error) (err error) {
	done := make(chan struct{})
	go func() { // on a thread of its own, which ends with it: it is never given back
		defer close(done)
		runtime.LockOSThread()
		var there int
		if there, err = unix.Open("/run/netns/"+s.Name(space), unix.O_RDONLY|unix.O_CLOEXEC, 0); err != nil {
			return
		}
		defer unix.Close(there)
		if err = unix.Setns(there, syscall.CLONE_NEWNET); err == nil {
			err = f()
		}
	}()
	<-done
	return err
}

// Dial opens connections in a space.
func (s Spaces) Dial(space string) func(ctx context.Context, network, address string) (net.Conn, error) {
	return func(ctx context.Context, network, address string) (c net.Conn, err error) {
		err = s.Within(space, func() (err error) {
			c, err = (&net.Dialer{FallbackDelay: -1}).DialContext(ctx, network, address)
			return err
		})
		return c, err
	}
}

// Counted are packets and their octets (IP).
type Counted struct{ Packets, Octets int }

// Count has a space count the packets that match a rule of nftables, at a hook such as output, and gives how to read the count.
func (s Spaces) Count(space, hook, rule string) func() Counted {
	s.t.Helper()
	table := fmt.Sprintf("inkcount%x", time.Now().UnixNano()&0xfffffff)
	s.In(space, "nft", fmt.Sprintf("add table inet %s; add chain inet %s c { type filter hook %s priority 0; }; add rule inet %s "+
		"c %s counter", table, table, hook, table, rule))
	return func() Counted {
		m := counted.FindStringSubmatch(s.In(space, "nft", "list", "table", "inet", table))
		require.NotNil(s.t, m)
		packets, err := strconv.Atoi(m[1])
		require.NoError(s.t, err)
		octets, err := strconv.Atoi(m[2])
		require.NoError(s.t, err)
		return Counted{packets, octets}
	}
}

var counted = regexp.MustCompile(`counter packets (\d+) bytes (\d+)`)

// Signal sends a program a signal.
func (p *Process) Signal(t testing.TB, s os.Signal) {
	t.Helper()
	require.NoError(t, p.cmd.Process.Signal(s))
}

package packages_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/testbed/spaces"
)

// machine is a new Debian system in a folder, which runs in the namespaces of a site.
type machine struct {
	t     *testing.T
	root  string
	began time.Time
	spaces.Spaces
}

// newMachine makes one. Nothing of it is started by the packages that are put on it: there is no init in it.
func newMachine(t *testing.T, s spaces.Spaces) *machine {
	t.Helper()
	_, err := exec.LookPath("debootstrap")
	require.NoError(t, err, "make package-trial installs it")
	m := &machine{t: t, root: t.TempDir(), began: time.Now(), Spaces: s}
	require.NoError(t, os.Chmod(m.root, 0o755))
	m.say("a new Debian machine: debootstrap --variant=minbase bookworm")
	m.Run("debootstrap", "--variant=minbase", "bookworm", m.root)
	m.write("/usr/sbin/policy-rc.d", "#!/bin/sh\nexit 101\n", 0o755)
	m.Run("mount", "-t", "proc", "proc", m.path("/proc"))
	t.Cleanup(func() { _ = exec.Command("umount", m.path("/proc")).Run() })
	return m
}

// say prints a line of the log.
func (m *machine) say(format string, args ...any) {
	fmt.Printf("%6.1f s  %s\n", time.Since(m.began).Seconds(), fmt.Sprintf(format, args...))
}

// path is where a path of the machine is on this one.
func (m *machine) path(at string) string { return filepath.Join(m.root, at) }

func (m *machine) write(at, content string, mode os.FileMode) {
	m.t.Helper()
	require.NoError(m.t, os.MkdirAll(filepath.Dir(m.path(at)), 0o755))
	require.NoError(m.t, os.WriteFile(m.path(at), []byte(content), mode))
	require.NoError(m.t, os.Chmod(m.path(at), mode))
}

// there is a command line of the machine.
func (m *machine) there(line string) []string {
	return []string{"chroot", m.root, "env", "-i", "PATH=/usr/sbin:/usr/bin:/sbin:/bin", "HOME=/root", "LC_ALL=C.UTF-8",
		"DEBIAN_FRONTEND=noninteractive", "sh", "-c", line}
}

// do runs a command line on the machine, which has to succeed, and tells of it.
func (m *machine) do(line string) string {
	m.t.Helper()
	m.say("# %s", line)
	return m.Run(m.there(line)...)
}

// typed runs a command line in a space, as somebody there types it, and prints what it answers.
func (m *machine) typed(space, line string) string {
	m.t.Helper()
	m.say("%s$ %s", space, line)
	out := m.In(space, m.there(line)...)
	for _, l := range strings.Split(strings.TrimSpace(out), "\n") {
		fmt.Printf("          %s\n", l)
	}
	return out
}

// start does what systemd does with a unit that is installed: its user, its folder, its environment, and no capabilities but its own.
func (m *machine) start(space, unit string) *spaces.Process {
	m.t.Helper()
	text, err := os.ReadFile(m.path("/lib/systemd/system/" + unit + ".service"))
	require.NoError(m.t, err)
	of := map[string]string{}
	for _, line := range strings.Split(string(text), "\n") {
		if key, value, ok := strings.Cut(line, "="); ok && !strings.HasPrefix(line, "#") {
			of[key] = value
		}
	}
	user, state := of["User"], "/var/lib/"+of["StateDirectory"]
	command := strings.ReplaceAll(of["ExecStart"], "%%", "%")
	if of["DynamicUser"] == "yes" {
		user = "61184" // the first of those that systemd gives
	}
	if of["StateDirectory"] == "" {
		state = "/nonexistent"
	} else {
		m.Run(m.there(fmt.Sprintf("mkdir -p %s && chown -R %s:%[2]s %[1]s && chmod %[3]s %[1]s", state, user, of["StateDirectoryMode"]))...)
	}
	var caps []string
	for _, c := range strings.Fields(of["AmbientCapabilities"]) {
		caps = append(caps, "+"+strings.ToLower(strings.TrimPrefix(c, "CAP_")))
	}
	require.Equal(m.t, "yes", of["NoNewPrivileges"])
	right := strings.Join(append([]string{"-all"}, caps...), ",")
	as := fmt.Sprintf("setpriv --reuid %s --regid %[1]s --clear-groups --no-new-privs --inh-caps=%[2]s --ambient-caps=%[2]s "+
		"--bounding-set=%[2]s ", user, right)
	environment := "export HOME=" + state + "; "
	if file := strings.TrimPrefix(of["EnvironmentFile"], "-"); file != "" {
		environment += fmt.Sprintf("set -a; [ ! -e %s ] || . %[1]s; ", file)
	}
	if first := of["ExecStartPre"]; first != "" {
		m.typed(space, environment+as+first)
	}
	m.say("%s: %s starts: %s (as %s, %s)", space, unit, command, user, strings.Join(caps, " "))
	return m.Serve(space, m.there(environment+"exec "+as+command)...)
}

// left lists what there is of Ink Post on the machine.
func (m *machine) left() (out []string) {
	m.t.Helper()
	all := m.Run("find", m.root, "-xdev", "-path", m.root+"/proc", "-prune", "-o", "-name", "*inkpost*", "-print")
	for _, at := range strings.Fields(all) {
		at = strings.TrimPrefix(at, m.root)
		// What dpkg and apt keep of packages that were there.
		if !strings.HasPrefix(at, "/var/cache/apt/") && !strings.HasPrefix(at, "/packages") {
			out = append(out, at)
		}
	}
	slices.Sort(out)
	return out
}

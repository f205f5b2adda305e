package testbed

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
)

// program builds the program once for the tests that need a process of their own.
var program = sync.OnceValues(func() (file string, err error) { return build("inkpost") })

// next builds the program as a later release could be: with a further step of the schema.
var next = sync.OnceValues(func() (file string, err error) {
	step := filepath.Join(Scratch(), "next.sql")
	if err := os.WriteFile(step, []byte("-- +goose Up\nALTER TABLE site ADD COLUMN of_next_release text NOT NULL DEFAULT '';\n"+
		"-- +goose Down\nALTER TABLE site DROP COLUMN of_next_release;\n"), 0o600); err != nil {
		return "", err
	}
	where, err := exec.Command("go", "list", "-f", "{{.Dir}}", "inkpost.example/inkpost/internal/store").Output()
	if err != nil {
		return string(where), err
	}
	at := filepath.Join(strings.TrimSpace(string(where)), "migrations", "99999_next.sql")
	overlay := filepath.Join(Scratch(), "overlay.json")
	if err := os.WriteFile(overlay, fmt.Appendf(nil, `{"Replace":{%q:%q}}`, at, step), 0o600); err != nil {
		return "", err
	}
	return build("inkpost-next", "-overlay", overlay)
})

func build(name string, flags ...string) (file string, err error) {
	file = filepath.Join(Scratch(), name)
	said, err := exec.Command("go", append(append([]string{"build"}, flags...), "-o", file,
		"inkpost.example/inkpost/cmd/inkpost")...).CombinedOutput()
	if err != nil {
		return string(said), err
	}
	return file, nil
}

// NextProgram returns the file of a program with a newer schema than that of this one.
func NextProgram(t testing.TB) string {
	t.Helper()
	file, err := next()
	require.NoError(t, err, file)
	return file
}

// Program returns the file of the program, as it is now.
func Program(t testing.TB) string {
	t.Helper()
	file, err := program()
	require.NoError(t, err, file)
	return file
}

// Process is the service as a process of its own.
type Process struct {
	cmd      *exec.Cmd
	URL, DNS string
	Password string // the owner's, for one use; "" if the database has an owner
}

var (
	listening = regexp.MustCompile(`Console and API at (\S+), names answered at (\S+)\.`)
	oneTime   = regexp.MustCompile(`One-time password of owner: (\S+)`)
)

// Launch starts the service on a database, with further flags, and waits until it answers.
func Launch(t testing.TB, database string, flags ...string) *Process {
	t.Helper()
	return LaunchOf(t, Program(t), database, flags...)
}

// LaunchOf is Launch for a program.
func LaunchOf(t testing.TB, program, database string, flags ...string) *Process {
	t.Helper()
	p := &Process{cmd: exec.Command(program, append([]string{"serve", "--database-url", database, "--http", "127.0.0.1:0", "--dns",
		"127.0.0.1:0", "--redirect", "", "--stun", "",
		"--lab-public", "198.51.100.0/24", "--key-rate", "100000", "--answer-rate", "0", "--state-dir", t.TempDir(), "--log-level",
		"error"}, flags...)...)}
	out, err := p.cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, p.cmd.Start())
	t.Cleanup(p.Kill)
	for lines := bufio.NewScanner(out); lines.Scan(); {
		if m := oneTime.FindStringSubmatch(lines.Text()); m != nil {
			p.Password = m[1]
		}
		if m := listening.FindStringSubmatch(lines.Text()); m != nil {
			p.URL, p.DNS = m[1], m[2]
			return p
		}
	}
	t.Fatal("the service did not start")
	return nil
}

// Owner signs the owner in for the first time, and gives a client with a key of theirs, and the key.
func (p *Process) Owner(t testing.TB) (c *client.Client, key string) {
	t.Helper()
	anonymous, err := client.New(p.URL, "")
	require.NoError(t, err)
	visit, err := anonymous.SignIn(t.Context(), "owner", p.Password)
	require.NoError(t, err)
	require.NoError(t, visit.SetPassword(t.Context(), "slipway-gannet-kettle"))
	k, err := visit.AddKey(t.Context(), "test")
	require.NoError(t, err)
	c, err = client.New(p.URL, k.Secret)
	require.NoError(t, err)
	return c, k.Secret
}

// Spent is the processor time that the process has taken, and the memory that it has now, in octets.
func (p *Process) Spent(t testing.TB) (processor time.Duration, resident int64) {
	t.Helper()
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", p.cmd.Process.Pid))
	require.NoError(t, err)
	fields := strings.Fields(string(stat[strings.LastIndexByte(string(stat), ')')+1:]))
	for _, f := range fields[11:13] { // utime and stime, in hundredths of a second
		n, err := strconv.ParseInt(f, 10, 64)
		require.NoError(t, err)
		processor += time.Duration(n) * 10 * time.Millisecond
	}
	pages, err := strconv.ParseInt(fields[21], 10, 64)
	require.NoError(t, err)
	return processor, pages * int64(os.Getpagesize())
}

// Kill ends the process as a power cut would.
func (p *Process) Kill() {
	_ = p.cmd.Process.Kill()
	_ = p.cmd.Wait()
}

// Stop ends the process as an administrator would, and waits until it has ended.
func (p *Process) Stop(t testing.TB) {
	t.Helper()
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGTERM))
	_ = p.cmd.Wait()
}

// Freeze stops the process where it is, as a machine that hangs would.
func (p *Process) Freeze(t testing.TB) {
	t.Helper()
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGSTOP))
}

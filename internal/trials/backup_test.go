package trials_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/core/checkup"
	"inkpost.example/inkpost/internal/testbed"
)

// inkpost runs the command line.
func inkpost(t *testing.T, args ...string) (said string, code int) {
	t.Helper()
	cmd := exec.CommandContext(t.Context(), testbed.Program(t), args...)
	cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+t.TempDir())
	out, _ := cmd.CombinedOutput()
	return string(out), cmd.ProcessState.ExitCode()
}

// A server under load is copied and goes on; what is put back elsewhere answers the same, for the same agents, with serials ahead.
func TestABackupOfALiveServerIsPutBackElsewhere(t *testing.T) {
	t.Parallel()
	const links = 4
	here, elsewhere := testbed.Database(t), testbed.EmptyDatabase(t)
	live := testbed.Launch(t, here)
	owner, key := live.Owner(t)
	s := &testbed.Service{Client: owner}
	var routers [links]testbed.Router
	name := func(i int) string { return fmt.Sprintf("site-%d.%s", i, zone) }
	for i := range links {
		code := fmt.Sprintf("SITE-%d", i)
		s.Record(t, code)
		s.Name(t, code)
		routers[i] = s.Router(t, code)
	}
	dir := t.TempDir()
	phrase, file := filepath.Join(dir, "phrase"), filepath.Join(dir, "night.dump")
	require.NoError(t, os.WriteFile(phrase, []byte("gulls over the slipway\n"), 0o600))
	run, end := context.WithCancel(t.Context())
	var load sync.WaitGroup
	var offered [links]atomic.Int64
	address := func(i int, n int64) string { return fmt.Sprintf("198.51.100.%d", 1+(int64(i)*60+n%60)%240) }
	for i := range links {
		load.Go(func() {
			for run.Err() == nil {
				if routers[i].At(live.URL).Announce(run, address(i, offered[i].Add(1))) != nil {
					return
				}
			}
		})
	}
	soon(t, 20*time.Second, "it is under load", func() bool { return offered[0].Load() > 50 })
	from := offered[0].Load()
	said, code := inkpost(t, "backup", file, "--database-url", here, "--passphrase-file", phrase)
	require.Zero(t, code, said)
	require.Contains(t, said, "octets, made in")
	until := offered[0].Load()
	require.Greater(t, until, from, "it went on meanwhile")
	soon(t, 20*time.Second, "it goes on", func() bool { return offered[0].Load() > until+50 })
	end()
	load.Wait()
	info, err := os.Stat(file)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	var newest checkup.Point
	require.NoError(t, owner.Checkup(t.Context(), func(p checkup.Point) {
		if p.Part == checkup.Backup {
			newest = p
		}
	}))
	require.Equal(t, checkup.Good, newest.Standing, newest.Seen)
	last := testbed.Serial(live.DNS, zone)
	live.Kill()

	for name, bad := range map[string]struct {
		args []string
		code int
		says string
	}{
		"no key": {[]string{"--from", file, "--database-url", elsewhere}, 1, "this backup is locked"},
		"another key": {[]string{"--from", file, "--database-url", elsewhere, "--passphrase-file", os.Args[0]}, 1,
			"does not open the backup"},
		"in use":      {[]string{"--from", file, "--database-url", here, "--passphrase-file", phrase}, 1, "is put into an empty one"},
		"no backup":   {[]string{"--from", phrase, "--database-url", elsewhere}, 1, "is no backup that inkpost backup has made"},
		"no file":     {[]string{"--from", filepath.Join(dir, "none"), "--database-url", elsewhere}, 1, "no such file"},
		"no database": {[]string{"--from", file}, 2, "--database-url is required"},
		"both":        {[]string{"12", "--from", file}, 2, "the number of a removal, or --from FILE"},
	} {
		said, code := inkpost(t, append([]string{"restore"}, bad.args...)...)
		require.Equal(t, bad.code, code, "%s: %s", name, said)
		require.Contains(t, said, bad.says, name)
	}
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	half := filepath.Join(dir, "half.dump")
	require.NoError(t, os.WriteFile(half, whole[:len(whole)/2], 0o600))
	said, code = inkpost(t, "restore", "--from", half, "--database-url", elsewhere, "--passphrase-file", phrase)
	require.Equal(t, 1, code, said)

	said, code = inkpost(t, "restore", "--from", file, "--database-url", elsewhere, "--passphrase-file", phrase)
	require.Zero(t, code, "half of a backup left nothing behind: %s", said)
	require.Contains(t, said, "4 sites and 1 zones are back; 1 sessions were ended")
	back := testbed.Launch(t, elsewhere)
	require.True(t, int32(testbed.Serial(back.DNS, zone)-last) > 0, "serials are ahead")
	again, err := client.New(back.URL, key)
	require.NoError(t, err)
	for i := range links {
		given := testbed.Resolve(back.DNS, name(i))
		var known bool
		for n := range offered[i].Load() + 1 {
			known = known || given == address(i, n)
		}
		require.True(t, known, "%s was announced", given)
		link, err := again.Link(t.Context(), fmt.Sprintf("SITE-%d", i), "main")
		require.NoError(t, err, "keys are what they were")
		require.Equal(t, given, link.IPv4.String())
		require.NoError(t, routers[i].At(back.URL).Announce(t.Context(), fmt.Sprintf("198.51.100.%d", 251+i)))
		soon(t, 5*time.Second, "it moves on", func() bool {
			return testbed.Resolve(back.DNS, name(i)) == fmt.Sprintf("198.51.100.%d",
				251+i)
		})
	}
}

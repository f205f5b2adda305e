package demo_test

import (
	"bytes"
	"context"
	"encoding/json"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/demo"
	"inkpost.example/inkpost/internal/testbed/isles"
	"inkpost.example/inkpost/web"
)

func TestTheLabFromTheCommandLine(t *testing.T) {
	file := filepath.Join(t.TempDir(), "inkpost")
	out, err := exec.Command("go", "build", "-o", file, "inkpost.example/inkpost/cmd/inkpost").CombinedOutput()
	require.NoError(t, err, string(out))
	run := func(args ...string) string {
		cmd := exec.Command(file, args...)
		cmd.Env = append(os.Environ(), "INKPOST_SERVER="+running.URL, "INKPOST_KEY="+running.Key, "HOME="+t.TempDir())
		var o, e bytes.Buffer
		cmd.Stdout, cmd.Stderr = &o, &e
		require.NoError(t, cmd.Run(), "%v: %s", args, e.String())
		return o.String()
	}
	require.Contains(t, run("lab", "world"), "KET-07   127.101.")
	var world contract.World
	require.NoError(t, json.Unmarshal([]byte(run("lab", "world", "--format", "json")), &world))
	require.Len(t, world.Sites, 10)
	require.Contains(t, run("lab", "renumber", "bak-02", "--link", "backup"), "Link backup of bak-02 went from 127.103.")
	require.Contains(t, run("lab", "service", "stop", "SCH-04", "files-page"), "is stopped")
	require.Contains(t, run("lab", "service", "start", "SCH-04", "files-page"), "runs")
	require.Contains(t, run("lab", "forward", "remove", "SCH-04", "files-page"), "no longer forwarded")
	require.Contains(t, run("lab", "forward", "restore", "SCH-04", "files-page"), "is forwarded")
	require.Contains(t, run("why", "SCH-04"), "closed, as it should be")
	require.Contains(t, run("overview"), "Recent moves")
	require.Contains(t, run("probe", "DIS-01", "still-page"), "accepts a connection")
	require.Contains(t, run("service", "history", "KET-07", "playback", "--back", "2160h"), "answered")
}

func TestTheSecondLinkTakesOverItsOwnNames(t *testing.T) {
	isles.AwaitAllReachable(t, owner, "BAK-02")
	main, err := owner.Link(t.Context(), "BAK-02", "main")
	require.NoError(t, err)
	backup, err := owner.Link(t.Context(), "BAK-02", "backup")
	require.NoError(t, err)
	// A link that a test before this one has cut or moved is followed again when it has worked for a while.
	follows := func(name string, l contract.Link) {
		t.Helper()
		require.Eventually(t, func() bool { return dig(name) == l.IPv4.String() }, isles.Wide, 100*time.Millisecond, "%s follows %s", name,
			l.Label)
	}
	follows("bak-02", main)
	_, err = owner.EditLink(t.Context(), "BAK-02", "main", client.Fields{"position": 5})
	require.NoError(t, err)
	follows("bak-02", backup)
	require.Equal(t, main.IPv4.String(), dig("bakery"), "this one is bound to the first link")
	_, err = owner.EditLink(t.Context(), "BAK-02", "main", client.Fields{"position": 1})
	require.NoError(t, err)
	follows("bak-02", main)
}

func TestARestartedDemoGoesOnWhereItStopped(t *testing.T) {
	before, err := owner.Sites(t.Context())
	require.NoError(t, err)
	moves, err := owner.Moves(t.Context(), contract.MoveQuery{Limit: 1})
	require.NoError(t, err)
	dir, key := running.Dir, running.Key
	running.Stop()

	ctx := context.Background()
	began := time.Now()
	next, err := demo.Start(ctx, demo.Options{Dir: dir, Healthy: true, HTTP: "127.0.0.1:0", DNS: "127.0.0.1:0", Redirect: "127.0.0.1:0",
		STUN: "127.0.0.1:0", Console: web.Console(), Key: key,
		Log: slog.New(slog.DiscardHandler), Say: os.Stderr})
	require.NoError(t, err)
	t.Logf("started again after %s", time.Since(began).Round(time.Millisecond))
	running = next
	require.Equal(t, key, next.Key, "the command line stays logged in")
	owner, err = client.New(next.URL, next.Key)
	require.NoError(t, err)
	after, err := owner.Sites(ctx)
	require.NoError(t, err)
	require.Len(t, after, len(before))
	for _, s := range before {
		isles.AwaitAllReachable(t, owner, s.Code)
	}
	again, err := owner.Moves(ctx, contract.MoveQuery{Limit: 1})
	require.NoError(t, err)
	require.Equal(t, moves[0].ID, again[0].ID, "routers keep their addresses: nothing has moved")
	for _, s := range before {
		label := strings.ToLower(s.Code)
		require.Equal(t, s.Address, dig(label))
	}
}

func TestFreshForgetsNothingButADemo(t *testing.T) {
	dir := t.TempDir()
	precious := filepath.Join(dir, "precious")
	require.NoError(t, os.WriteFile(precious, []byte("x"), 0o600))
	_, err := demo.Start(t.Context(), demo.Options{Dir: dir, Fresh: true, Log: slog.New(slog.DiscardHandler), Say: os.Stderr})
	require.ErrorContains(t, err, "does not look like a demo's folder")
	require.FileExists(t, precious)
}

// Package isles runs the whole demo for the tests of a package: its simulated world has fixed addresses, so there is one at a time.
package isles

import (
	"context"
	"flag"
	"log/slog"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/docs"
	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/demo"
	"inkpost.example/inkpost/web"
)

// Wide is how long a test waits for what takes two intervals of ten seconds in all on a machine of its own.
const Wide = time.Minute

// Main runs a package's tests with a demo without trouble, and a client of its owner. A test may put another demo in its place. At the end
// it calls the functions of after.
func Main(m *testing.M, running **demo.Demo, owner **client.Client, after ...context.CancelFunc) {
	if err := flag.Set("test.parallel", "4"); err != nil { // most of them wait for the demo's intervals
		panic(err)
	}
	os.Exit(func() int {
		for _, end := range after {
			defer end()
		}
		dir, err := os.MkdirTemp("", "inkpost-demo-test-")
		if err != nil {
			panic(err)
		}
		defer func() { _ = os.RemoveAll(dir) }()
		*running, err = demo.Start(context.Background(), demo.Options{Dir: dir, Healthy: true, HTTP: "127.0.0.1:0", DNS: "127.0.0.1:0",
			Redirect: "127.0.0.1:0", STUN: "127.0.0.1:0", Console: web.Console(), Docs: docs.Files(),
			Log: slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn})), Say: os.Stderr})
		if err != nil {
			panic(err)
		}
		defer func() { (*running).Stop() }()
		if *owner, err = client.New((*running).URL, (*running).Key); err != nil {
			panic(err)
		}
		return m.Run()
	}())
}

// AwaitService waits until a service shows an outcome, and is in a state.
func AwaitService(t *testing.T, owner *client.Client, code, name string, outcome probe.Outcome, state probe.State) {
	t.Helper()
	require.EventuallyWithT(t, func(c *assert.CollectT) {
		s, err := owner.Service(context.Background(), code, name)
		require.NoError(c, err)
		require.Equal(c, outcome, s.Outcome)
		require.Equal(c, state, s.State)
	}, Wide, 100*time.Millisecond)
}

// AwaitAllReachable waits until all services of a site are as they should be.
func AwaitAllReachable(t *testing.T, owner *client.Client, code string) {
	t.Helper()
	require.EventuallyWithT(t, func(c *assert.CollectT) {
		list, err := owner.Services(context.Background(), code)
		require.NoError(c, err)
		for _, s := range list {
			require.True(c, s.AsExpected || s.NotProvable, s.Name)
		}
	}, Wide, 100*time.Millisecond)
}

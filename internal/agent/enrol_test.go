package agent_test

import (
	"context"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/agent"
	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/testbed"
)

// deaf loses what the server answers, after it was sent.
type deaf struct {
	net.Conn
	lost *atomic.Int64
	tell func()
}

func (d deaf) Read(b []byte) (int, error) {
	if _, err := d.Conn.Read(b); err != nil {
		return 0, err
	}
	d.lost.Add(1)
	d.tell()
	_ = d.Close()
	return 0, io.ErrUnexpectedEOF
}

func TestAnAgentWhoseFirstAnswersAreLostAsksAgain(t *testing.T) {
	s := testbed.Start(t, nil)
	w := &way{}
	w.move("127.111.3.10")
	var lost atomic.Int64
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	o := agent.Options{Server: s.URL, Code: site(t, s), StateDir: filepath.Join(t.TempDir(), "agent")}
	o.Dial = func(ctx context.Context, network, to string) (net.Conn, error) {
		c, err := w.dial(ctx, network, to)
		if err != nil {
			return nil, err
		}
		return deaf{c, &lost, func() {
			if lost.Load() == 2 {
				stop() // it is stopped in the middle
			}
		}}, nil
	}
	require.Error(t, agent.Enrol(ctx, o))
	require.GreaterOrEqual(t, lost.Load(), int64(2))
	require.False(t, agent.Enrolled(o.StateDir))

	o.Dial = w.dial
	require.NoError(t, agent.Enrol(t.Context(), o), "the code is used up, by this very agent")
	start(t, o)
	awaitAddress(t, s, "127.111.3.10")
	keys, err := s.Client.Keys(t.Context())
	require.NoError(t, err)
	n := 0
	for _, k := range keys {
		if k.Scope == "agent" {
			n++
		}
	}
	require.Equal(t, 1, n, "three answers, one key")

	other := o
	other.StateDir = filepath.Join(t.TempDir(), "other")
	err = agent.Enrol(t.Context(), other)
	require.True(t, client.IsStatus(err, http.StatusForbidden), "another agent cannot use the code: %v", err)
	require.NoFileExists(t, filepath.Join(other.StateDir, "claim.json"))
}

func TestAnAgentTakesAnotherCodeInThePlaceOfItsKey(t *testing.T) {
	s := testbed.Start(t, nil)
	w := &way{}
	w.move("127.111.3.11")
	o := agent.Options{Server: s.URL, Code: site(t, s), StateDir: filepath.Join(t.TempDir(), "agent"), Dial: w.dial}
	require.NoError(t, agent.Enrol(t.Context(), o))
	file := filepath.Join(o.StateDir, "agent.json")
	first, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, agent.Enrol(t.Context(), o), "the code that it has stands in its configuration")
	again, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, first, again)

	inv, err := s.Client.Invite(t.Context(), "KET-07", "main", testbed.Public...)
	require.NoError(t, err)
	o.Code = inv.Code
	require.NoError(t, agent.Enrol(t.Context(), o))
	next, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NotEqual(t, first, next)

	o.Code = "AAAA-BBBB-CCCC" // one of before that was kept
	require.NoError(t, agent.Enrol(t.Context(), o), "it has a key that works")
	start(t, o)
	awaitAddress(t, s, "127.111.3.11")
}

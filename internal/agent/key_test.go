package agent_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/agent"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/testbed"
)

func TestAnAgentTakesAnotherKeyInThePlaceOfItsOwn(t *testing.T) {
	s := testbed.Start(t, nil)
	w := &way{}
	w.move("127.111.5.20")
	state := filepath.Join(t.TempDir(), "agent")
	start(t, agent.Options{Server: s.URL, Code: site(t, s), StateDir: state, Dial: w.dial})
	awaitAddress(t, s, "127.111.5.20")
	of := func() (good, revoked []contract.Key) {
		list, err := s.Client.Keys(context.Background())
		require.NoError(t, err)
		for _, k := range list {
			if k.Scope == "agent" && k.Revoked.IsZero() {
				good = append(good, k)
			} else if k.Scope == "agent" {
				revoked = append(revoked, k)
			}
		}
		return good, revoked
	}
	first, _ := of()
	require.Len(t, first, 1)
	before, err := os.ReadFile(filepath.Join(state, "agent.json"))
	require.NoError(t, err)
	require.NoError(t, s.Client.RotateKey(t.Context(), first[0].ID))
	w.move("127.111.5.21") // it asks the server
	awaitAddress(t, s, "127.111.5.21")
	await(t, "the old key is revoked when the new one is in use", func() bool {
		good, revoked := of()
		return len(good) == 1 && len(revoked) == 1 && revoked[0].ID == first[0].ID
	})
	after, err := os.ReadFile(filepath.Join(state, "agent.json"))
	require.NoError(t, err)
	require.NotEqual(t, before, after)
	w.move("127.111.5.22")
	awaitAddress(t, s, "127.111.5.22")
	require.Error(t, s.Client.RotateKey(t.Context(), first[0].ID), "a revoked key has no successor")
}

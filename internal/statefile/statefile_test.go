package statefile

import (
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAFileIsWholeWhoeverWritesIt(t *testing.T) {
	path := filepath.Join(t.TempDir(), "deep", "state.json")
	_, err := ReadState[[]string](path)
	require.ErrorIs(t, err, fs.ErrNotExist)
	require.False(t, Exists(path))
	var wg sync.WaitGroup
	for range 20 {
		wg.Go(func() { require.NoError(t, WriteState(path, []string{"gannet", "kettle"})) })
	}
	wg.Wait()
	got, err := ReadState[[]string](path)
	require.NoError(t, err)
	require.Equal(t, []string{"gannet", "kettle"}, got)
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, fs.FileMode(0o600), info.Mode().Perm())
	entries, err := os.ReadDir(filepath.Dir(path))
	require.NoError(t, err)
	require.Len(t, entries, 1, "nothing is left behind")
	require.NoError(t, os.WriteFile(path, []byte("{"), 0o600))
	_, err = ReadState[[]string](path)
	require.ErrorContains(t, err, "remove it and enrol again")
}

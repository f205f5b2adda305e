package changes

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestWritesThatFailAreRememberedUntilOneSucceeds(t *testing.T) {
	var w writes
	noon := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	require.NoError(t, w.note(nil, noon))
	_, failed := w.problem()
	require.NoError(t, failed)
	first := w.note(context.DeadlineExceeded, noon)
	require.ErrorIs(t, first, context.DeadlineExceeded)
	_ = w.note(context.Canceled, noon.Add(time.Minute))
	since, failed := w.problem()
	require.ErrorIs(t, failed, context.Canceled, "the newest reason")
	require.Equal(t, noon, since, "since the first")
	_ = w.note(nil, noon.Add(2*time.Minute))
	_, failed = w.problem()
	require.NoError(t, failed)
}

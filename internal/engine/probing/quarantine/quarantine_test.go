package quarantine_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/engine/probing/quarantine"
)

func TestALinkIsLeftAloneUntilItIsProvenAgain(t *testing.T) {
	var q quarantine.List
	link, at := int64(7), time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	require.Empty(t, q.Reason(link, at))
	require.True(t, q.Add(7, at, "a stranger answers"))
	require.False(t, q.Add(7, at, "a stranger answers"), "told once")
	require.Equal(t, "a stranger answers", q.Reason(link, at.Add(-time.Second)))
	require.Equal(t, "a stranger answers", q.Reason(link, at), "what was heard before proves nothing")
	require.Empty(t, q.Reason(8, time.Time{}), "other links are probed on")
	require.Empty(t, q.Reason(link, at.Add(time.Second)), "the site was heard since")
	require.Empty(t, q.Reason(link, time.Time{}), "and is out of it")
	q.Add(7, at, "a stranger answers")
	q.Lift(7)
	require.Empty(t, q.Reason(link, time.Time{}))
}

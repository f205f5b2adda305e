package probing

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/site"
)

func TestALinkIsLeftAloneUntilItIsProvenAgain(t *testing.T) {
	q := quarantine{links: map[int64]quarantined{}}
	link, at := site.Link{ID: 7}, time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	require.Empty(t, q.reason(link, at))
	require.True(t, q.add(7, at, "a stranger answers"))
	require.False(t, q.add(7, at, "a stranger answers"), "told once")
	require.Equal(t, "a stranger answers", q.reason(link, at.Add(-time.Second)))
	require.Equal(t, "a stranger answers", q.reason(link, at), "what was heard before proves nothing")
	require.Empty(t, q.reason(site.Link{ID: 8}, time.Time{}), "other links are probed on")
	require.Empty(t, q.reason(link, at.Add(time.Second)), "the site was heard since")
	require.Empty(t, q.reason(link, time.Time{}), "and is out of it")
	q.add(7, at, "a stranger answers")
	q.lift(7)
	require.Empty(t, q.reason(link, time.Time{}))
}

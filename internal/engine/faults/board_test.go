package faults

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/diagnose"
)

var morning = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func finding(cause causes.Slug, service string) diagnose.Finding {
	return diagnose.Finding{Cause: cause, Subject: "service " + service, Summary: string(cause) + " " + service}
}

func TestWhatIsFoundOpensOnceAndClosesWhenItIsGone(t *testing.T) {
	b := New(nil, nil, nil, nil, nil, nil, nil)
	page, camera := finding("a", "page"), finding("b", "camera")
	opened, closed := b.replace(1, Diagnosis{}, []diagnose.Finding{page, camera}, morning)
	require.Len(t, opened, 2)
	require.Empty(t, closed)

	page.Summary = "in other words"
	opened, closed = b.replace(1, Diagnosis{}, []diagnose.Finding{page}, morning.Add(time.Minute))
	require.Empty(t, opened, "the same fault, in other words")
	require.Equal(t, []string{camera.Key()}, closed)
	require.Len(t, b.Open(1), 1)
	require.Equal(t, morning, b.Open(1)[0].Opened, "since when it has been open")
	require.Equal(t, "in other words", b.Open(1)[0].Finding.Summary)

	_, closed = b.replace(1, Diagnosis{}, nil, morning.Add(time.Hour))
	require.Equal(t, []string{page.Key()}, closed)
	require.Empty(t, b.Open(0))
	require.Empty(t, b.Unwritten(), "what never reached the database and is over is not told to anybody")
}

func TestFaultsAreListedBySiteTheNewestFirst(t *testing.T) {
	b := New(nil, nil, nil, nil, nil, nil, nil)
	b.replace(1, Diagnosis{}, []diagnose.Finding{finding("a", "page")}, morning)
	b.replace(2, Diagnosis{}, []diagnose.Finding{finding("a", "page")}, morning.Add(time.Minute))
	require.Len(t, b.Open(1), 1)
	all := b.Open(0)
	require.Equal(t, []int64{2, 1}, []int64{all[0].SiteID, all[1].SiteID})
}

// A fault that an engine saw before its database came back is the same one to the engine after it.
func TestAFaultThatWasSeenBeforeKeepsItsTime(t *testing.T) {
	page := finding("a", "page")
	b := New(nil, nil, nil, nil, map[Of]time.Time{{1, page.Key()}: morning}, nil, nil)
	b.replace(1, Diagnosis{}, []diagnose.Finding{page}, morning.Add(20*time.Second))
	require.Equal(t, morning, b.Open(1)[0].Opened)
	require.Equal(t, map[Of]time.Time{{1, page.Key()}: morning}, b.Unwritten())
}

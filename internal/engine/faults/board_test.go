package faults

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/fault"
)

var morning = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func finding(cause causes.Slug, service string) diagnose.Finding {
	return diagnose.Finding{Cause: cause, Subject: "service " + service, Summary: string(cause) + " " + service,
		Services: []string{service}}
}

// found makes findings those of a site, and returns what became of its faults.
func found(b *Board, siteID int64, now time.Time, list ...diagnose.Finding) (out []fault.Kind) {
	began := make([]time.Time, len(list))
	for i := range began {
		began[i] = now.Add(-20 * time.Second)
	}
	for _, h := range b.settle(siteID, list, began, now) {
		out = append(out, h.kind)
	}
	return out
}

func TestWhatIsFoundOpensOnceAndClosesWhenItIsGone(t *testing.T) {
	b := New(nil, nil, nil, nil, nil, nil, nil)
	page, camera := finding("service-stopped", "page"), finding("service-hung", "camera")
	require.Equal(t, []fault.Kind{fault.Opened, fault.Opened}, found(b, 1, morning, page, camera))
	b.wrote(b.faults[1][0], 11)
	b.wrote(b.faults[1][1], 12)
	require.Empty(t, b.faults[1][0].pending)

	page.Summary = "in other words"
	require.Equal(t, []fault.Kind{fault.Closed}, found(b, 1, morning.Add(time.Minute), page), "the same fault, in other words")
	require.Len(t, b.Open(1), 1)
	f := b.Open(1)[0]
	require.Equal(t, morning, f.Opened, "since when it has been open")
	require.Equal(t, morning.Add(-20*time.Second), f.Began)
	require.Equal(t, "in other words", f.Finding.Summary)

	require.Equal(t, []fault.Kind{fault.Changed, fault.Reopened},
		found(b, 1, morning.Add(2*time.Minute), finding("device-off", "page"), camera))
	require.Len(t, b.Open(1), 2, "one is explained otherwise, one came back")
	for _, f := range b.Open(1) {
		require.Equal(t, morning, f.Opened)
		require.Equal(t, f.ID == 12, f.Returns == 1)
	}
	require.Equal(t, []fault.Kind{fault.Closed, fault.Closed}, found(b, 1, morning.Add(time.Hour)))
	require.Empty(t, b.Open(0))
	found(b, 1, morning.Add(3*time.Hour))
	require.Len(t, b.faults[1], 2, "what is not written yet is not forgotten")
	for _, f := range b.faults[1] {
		b.wrote(f, f.ID)
	}
	found(b, 1, morning.Add(3*time.Hour))
	require.Empty(t, b.faults)
}

func TestWhatIsOverBeforeItWasWrittenIsNotTold(t *testing.T) {
	b := New(nil, nil, nil, nil, nil, nil, nil)
	found(b, 1, morning, finding("service-stopped", "page"))
	require.Len(t, b.Unwritten(), 1)
	found(b, 1, morning.Add(time.Minute))
	require.Empty(t, b.Unwritten())
	require.Empty(t, b.faults)
}

// A fault that changes while it is being written keeps what was not written yet.
func TestNothingOfATimelineIsLostWhileItIsWritten(t *testing.T) {
	b := New(nil, nil, nil, nil, nil, nil, nil)
	found(b, 1, morning, finding("service-stopped", "page"))
	writing := b.faults[1][0]
	found(b, 1, morning.Add(time.Minute), finding("device-off", "page"))
	b.wrote(writing, 11)
	f := b.faults[1][0]
	require.Equal(t, int64(11), f.ID)
	require.NotEqual(t, told(f.Fault), f.written)
	require.Len(t, f.pending, 1)
	require.Equal(t, fault.Changed, f.pending[0].Kind)
}

func TestFaultsAreListedBySiteTheNewestFirst(t *testing.T) {
	b := New(nil, nil, nil, nil, nil, nil, nil)
	found(b, 1, morning, finding("service-stopped", "page"))
	found(b, 2, morning.Add(time.Minute), finding("service-stopped", "page"))
	require.Len(t, b.Open(1), 1)
	all := b.Open(0)
	require.Equal(t, []int64{2, 1}, []int64{all[0].SiteID, all[1].SiteID})
}

// A fault that an engine saw before its database came back is the same one to the engine after it.
func TestAFaultThatWasSeenBeforeKeepsItsTime(t *testing.T) {
	page := finding("service-stopped", "page")
	b := New(nil, nil, nil, nil, map[Of]time.Time{{1, page.Key()}: morning}, nil, nil)
	found(b, 1, morning.Add(20*time.Second), page)
	require.Equal(t, morning, b.Open(1)[0].Opened)
	require.Equal(t, map[Of]time.Time{{1, page.Key()}: morning}, b.Unwritten())
}

package daemon_test

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/lab/peer"
	"inkpost.example/inkpost/internal/testbed"
)

func TestTwoVantagePointsJudgeTogether(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	picky(t, "127.110.5.6:8080", "127.110.9.1")
	atSite(t, s, "127.110.5.6", contract.ServiceInput{External: "8080", Kind: "http", InUse: true})
	awaitState(t, s, probe.Garbled, probe.StateUnreachable, 8*time.Second)
	stop := lookout(t, s, "harbour", "127.110.9.1")
	require.Eventually(t, func() bool {
		got, err := s.Client.Service(context.Background(), "KET-07", "page")
		return err == nil && got.State == probe.StateImpaired && viewFrom(got, "harbour").Outcome == probe.Answered
	}, 10*time.Second, 50*time.Millisecond, "reached from one side only")
	require.EventuallyWithT(t, func(c *assert) {
		list, err := s.Client.Faults(context.Background(), "KET-07", true)
		require.NoError(c, err)
		require.Len(c, list, 1)
		require.EqualValues(c, "one-side-only", list[0].Finding.Cause)
		require.Contains(c, list[0].Finding.Summary, "Reached from harbour, but not from server")
	}, 8*time.Second, 50*time.Millisecond)
	story, err := s.Client.ProbeFrom(t.Context(), "KET-07", "page", "harbour")
	require.NoError(t, err)
	require.Equal(t, probe.Answered, story.Outcome)
	require.True(t, strings.HasPrefix(story.Attempts[0].From, "127.110.9.1:"))
	require.NotEmpty(t, story.Attempts[0].Steps)
	h, err := s.Client.History(t.Context(), "KET-07", "page", time.Now().Add(-time.Minute), time.Time{})
	require.NoError(t, err)
	require.Contains(t, []string{h.Spans[0].Vantage, h.Spans[len(h.Spans)-1].Vantage}, "harbour")
	stop()
	require.NoError(t, s.Client.RemoveVantage(t.Context(), "harbour"))
	awaitState(t, s, probe.Garbled, probe.StateUnreachable, 8*time.Second)
	_, err = s.Client.ProbeFrom(t.Context(), "KET-07", "page", "harbour")
	require.True(t, client.IsStatus(err, 404))
	require.Error(t, s.Client.RemoveVantage(t.Context(), "server"))
}

func TestAVantagePointInsideTheSiteDoesNotCount(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	stand(t, peer.Peer{Kind: probe.KindHTTP, Name: "page"}, probe.TCP, "127.110.5.7:8080")
	atSite(t, s, "127.110.5.7", contract.ServiceInput{External: "8080", Kind: "http"})
	awaitState(t, s, probe.Answered, probe.StateReachable, 5*time.Second)
	lookout(t, s, "cottage", "127.110.5.7")
	require.Eventually(t, func() bool {
		got, err := s.Client.Service(context.Background(), "KET-07", "page")
		return err == nil && strings.Contains(viewFrom(got, "cottage").LeftOut, "it is inside") && got.State == probe.StateReachable
	}, 8*time.Second, 50*time.Millisecond)
}

func TestABrokenVantagePointReportsItself(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	stop := stand(t, peer.Peer{Kind: probe.KindHTTP, Name: "page"}, probe.TCP, "127.110.5.8:8080")
	atSite(t, s, "127.110.5.8", contract.ServiceInput{External: "8080", Kind: "http"})
	reference, err := net.Listen("tcp", "127.110.9.9:0")
	require.NoError(t, err)
	lookout(t, s, "harbour", "127.110.9.2", reference.Addr().String())
	require.Eventually(t, func() bool {
		got, err := s.Client.Service(context.Background(), "KET-07", "page")
		return err == nil && viewFrom(got, "harbour").Outcome == probe.Answered
	}, 8*time.Second, 50*time.Millisecond)
	require.NoError(t, reference.Close())
	stop()
	require.Eventually(t, func() bool {
		v := vantageNamed(t, s, "harbour")
		return v.State == contract.VantageAiling && strings.Contains(v.Problem, "the way out is broken")
	}, 12*time.Second, 50*time.Millisecond)
	var blind contract.Fault
	require.EventuallyWithT(t, func(c *assert) {
		list, err := s.Client.Faults(context.Background(), "", true)
		require.NoError(c, err)
		i := slices.IndexFunc(list, func(f contract.Fault) bool { return f.Finding.Subject == "vantage harbour" && f.ID != 0 })
		require.GreaterOrEqual(c, i, 0, "it is a fault of its own")
		blind = list[i]
	}, 10*time.Second, 50*time.Millisecond)
	require.False(t, blind.Serious)
	_, err = s.Client.MuteFault(t.Context(), blind.ID, contract.PlannedWorkInput{Minutes: 60})
	require.ErrorContains(t, err, "acknowledge it instead", "work planned nowhere in particular would be planned everywhere")
	got, err := s.Client.Service(t.Context(), "KET-07", "page")
	require.NoError(t, err)
	require.Equal(t, probe.Answered, viewFrom(got, "harbour").Outcome,
		"what it sees while it is broken is not taken for news of the service")
	require.NotEmpty(t, viewFrom(got, "harbour").LeftOut)
}

func TestOutcomesWaitWhileTheServerIsAway(t *testing.T) {
	t.Parallel()
	database := testbed.Database(t)
	hold, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := hold.Addr().String()
	require.NoError(t, hold.Close())
	fixed := func(o *options) { o.Database, o.HTTP = database, at }
	s := testbed.Start(t, fixed)
	stop := stand(t, peer.Peer{Kind: probe.KindHTTP, Name: "page"}, probe.TCP, "127.110.5.12:8080")
	atSite(t, s, "127.110.5.12", contract.ServiceInput{External: "8080", Kind: "http"})
	lookout(t, s, "harbour", "127.110.9.3")
	seen := func(s *testbed.Service) contract.VantageResult {
		got, err := s.Client.Service(context.Background(), "KET-07", "page")
		require.NoError(t, err)
		return viewFrom(got, "harbour")
	}
	require.Eventually(t, func() bool { return seen(s).Outcome == probe.Answered }, 10*time.Second, 50*time.Millisecond)
	s.Stop()
	left := time.Now()
	stop() // nobody but the vantage point sees that
	time.Sleep(4 * time.Second)
	stand(t, peer.Peer{Kind: probe.KindHTTP, Name: "page"}, probe.TCP, "127.110.5.12:8080")
	time.Sleep(3 * time.Second)
	back := time.Now()
	s = testbed.Start(t, fixed)
	require.EventuallyWithT(t, func(c *assert) {
		h, err := s.Client.History(context.Background(), "KET-07", "page", left, time.Time{})
		require.NoError(c, err)
		var refused bool
		for _, span := range h.Spans {
			refused = refused || span.Vantage == "harbour" && span.Outcome == probe.Refused && span.From.After(left) &&
				span.Until.Before(back)
		}
		require.True(c, refused, "what it saw while the server was away is in the history: %+v", h.Spans)
	}, 20*time.Second, 100*time.Millisecond)
	require.Eventually(t, func() bool { return seen(s).Outcome == probe.Answered }, 20*time.Second, 50*time.Millisecond, "and it goes on")
}

// What a vantage point is to probe changes while it probes it: run with the race detector.
func TestNewsComesWhileAVantagePointProbes(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	stand(t, peer.Peer{Kind: probe.KindHTTP, Name: "page"}, probe.TCP, "127.110.5.31:8080")
	atSite(t, s, "127.110.5.31", contract.ServiceInput{External: "8080", Kind: "http"})
	lookout(t, s, "harbour", "127.110.9.31")
	for i := range 30 {
		_, err := s.Client.EditService(t.Context(), "KET-07", "page",
			map[string]any{"options": map[string]string{"path": fmt.Sprintf("/%d", i)}})
		require.NoError(t, err)
		if i%10 == 0 {
			_, err = s.Client.ProbeFrom(t.Context(), "KET-07", "page", "harbour")
			require.NoError(t, err)
		}
	}
	require.Eventually(t, func() bool {
		got, err := s.Client.Service(context.Background(), "KET-07", "page")
		return err == nil && got.State == probe.StateReachable && viewFrom(got, "harbour").Outcome == probe.Answered
	}, 15*time.Second, 50*time.Millisecond)
}

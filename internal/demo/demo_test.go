package demo_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/demo"
	"inkpost.example/inkpost/internal/testbed/isles"
)

// The whole demo runs once for this package: its simulated world has fixed addresses.
var (
	running *demo.Demo
	owner   *client.Client
)

func TestMain(m *testing.M) { isles.Main(m, &running, &owner) }

func dig(name string) string {
	c := dns.Client{Timeout: time.Second}
	r, _, err := c.Exchange(new(dns.Msg).SetQuestion(name+".isles.saltmarsh.example.", dns.TypeA), running.DNS)
	if err != nil || len(r.Answer) != 1 {
		return ""
	}
	return r.Answer[0].(*dns.A).A.String()
}

func TestARenumberedSiteIsFollowedEndToEnd(t *testing.T) {
	isles.AwaitAllReachable(t, owner, "KET-07")
	n, err := owner.Renumber(t.Context(), "KET-07", "main")
	require.NoError(t, err)
	require.EventuallyWithT(t, func(c *assert.CollectT) {
		require.Equal(c, n.New, dig("ket-07"))
		require.Equal(c, n.New, dig("lighthouse"))
	}, isles.Wide, 20*time.Millisecond, "the name follows")
	var m contract.Move
	require.EventuallyWithT(t, func(c *assert.CollectT) {
		moves, err := owner.Moves(context.Background(), contract.MoveQuery{Site: "KET-07", Link: "main", Limit: 1})
		require.NoError(c, err)
		require.Equal(c, n.New, moves[0].New)
		for _, s := range moves[0].Stages {
			if s.Name != "seen" { // the resolver's cache has half a minute for that
				require.False(c, s.At.IsZero(), s.Name)
			}
		}
		m = moves[0]
	}, isles.Wide, 50*time.Millisecond, "every stage is reached")
	require.Equal(t, n.Old, m.Old)
	require.Contains(t, []string{"gateway", "stun", "observed"}, m.Source, "whichever of the agent's sources sees it first")
	// The other vantage point may have been the first to confirm it; this server's own word follows.
	require.EventuallyWithT(t, func(c *assert.CollectT) {
		list, err := owner.Services(context.Background(), "KET-07")
		require.NoError(c, err)
		require.NotEmpty(c, list)
		for _, s := range list {
			require.Equal(c, probe.Answered, s.Outcome)
			require.Equal(c, n.New, s.Address.String())
		}
	}, isles.Wide, 50*time.Millisecond, "proven at the new address, not at the old one")
}

func TestAForwardThatIsGoneIsSilentAndNamed(t *testing.T) {
	isles.AwaitAllReachable(t, owner, "BOA-09")
	require.NoError(t, owner.SetLabForward(t.Context(), "BOA-09", "playback", false))
	isles.AwaitService(t, owner, "BOA-09", "playback", probe.Silent, probe.StateUnreachable)
	var fault contract.Fault
	require.EventuallyWithT(t, func(c *assert.CollectT) {
		faults, err := owner.Faults(context.Background(), "BOA-09", true)
		require.NoError(c, err)
		require.Len(c, faults, 1)
		fault = faults[0]
	}, isles.Wide, 50*time.Millisecond)
	require.EqualValues(t, "forward-missing", fault.Finding.Cause)
	require.Contains(t, fault.Finding.Next, "external 8554")
	s, err := owner.Site(t.Context(), "BOA-09")
	require.NoError(t, err)
	require.Equal(t, contract.NeedNow, s.Need)
	for _, p := range s.Paths {
		if p.Service == "playback" {
			require.Equal(t, diagnose.Broken, p.Stations[4].Verdict)
		} else {
			require.Nil(t, p.Finding)
		}
	}
	require.NoError(t, owner.SetLabForward(t.Context(), "BOA-09", "playback", true))
	isles.AwaitService(t, owner, "BOA-09", "playback", probe.Answered, probe.StateReachable)
	require.EventuallyWithT(t, func(c *assert.CollectT) {
		faults, err := owner.Faults(context.Background(), "BOA-09", true)
		require.NoError(c, err)
		require.Empty(c, faults)
	}, isles.Wide, 50*time.Millisecond, "the fault closes by itself")
}

func TestAStoppedServiceIsRefused(t *testing.T) {
	isles.AwaitAllReachable(t, owner, "RAD-06")
	require.NoError(t, owner.SetLabService(t.Context(), "RAD-06", "club-page", false))
	isles.AwaitService(t, owner, "RAD-06", "club-page", probe.Refused, probe.StateUnreachable)
	story, err := owner.ProbeNow(t.Context(), "RAD-06", "club-page")
	require.NoError(t, err)
	require.Equal(t, probe.Refused, story.Outcome)
	require.Contains(t, story.Attempts[0].Message, "RST")
	require.NoError(t, owner.SetLabService(t.Context(), "RAD-06", "club-page", true))
	isles.AwaitService(t, owner, "RAD-06", "club-page", probe.Answered, probe.StateReachable)
	h, err := owner.History(t.Context(), "RAD-06", "club-page", time.Now().Add(-time.Minute), time.Time{})
	require.NoError(t, err)
	var seen []string
	for _, s := range h.Spans {
		seen = append(seen, string(s.Outcome))
	}
	require.Contains(t, strings.Join(seen, " "), "refused answered", "the ledger keeps the order")
}

func TestADoorThatMustBeClosedIsExposedWhenItOpens(t *testing.T) {
	isles.AwaitAllReachable(t, owner, "CLI-05")
	require.NoError(t, owner.SetLabForward(t.Context(), "CLI-05", "router-page", true))
	isles.AwaitService(t, owner, "CLI-05", "router-page", probe.Answered, probe.StateExposed)
	require.NoError(t, owner.SetLabForward(t.Context(), "CLI-05", "router-page", false))
	isles.AwaitService(t, owner, "CLI-05", "router-page", probe.Silent, probe.StateUnreachable)
}

func TestEventsTellWhatHappens(t *testing.T) {
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	got := make(chan contract.Event, 64)
	go func() {
		_ = owner.Follow(ctx, "OYS-03", func(ev contract.Event) { got <- ev }, func(error) {})
	}()
	require.Eventually(t, func() bool { // the stream stands when the first event has come through
		_, err := owner.EditSite(context.Background(), "OYS-03", client.Fields{"note": time.Now().String()})
		return err == nil && len(got) > 0
	}, isles.Wide, 200*time.Millisecond)
	_, err := owner.Renumber(t.Context(), "OYS-03", "main")
	require.NoError(t, err)
	deadline := time.After(isles.Wide)
	for {
		select {
		case ev := <-got:
			require.Contains(t, []string{"OYS-03", ""}, ev.Subject)
			if ev.Type == contract.EventMoveRecorded {
				require.Equal(t, "1.0", ev.SpecVersion)
				require.Contains(t, ev.Data.Words, "the address went from")
				return
			}
		case <-deadline:
			t.Fatal("no event told of the move")
		}
	}
}

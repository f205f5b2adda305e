package daemon_test

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/testbed"
)

func TestNothingAcknowledgedIsLostWhenTheServerIsKilled(t *testing.T) {
	const links = 12
	database := testbed.Database(t)
	first := testbed.Launch(t, database)
	ctx := t.Context()
	anonymous, err := client.New(first.URL, "")
	require.NoError(t, err)
	visit, err := anonymous.SignIn(ctx, "owner", first.Password)
	require.NoError(t, err)
	require.True(t, visit.ChoosePassword())
	_, err = visit.AddKey(ctx, "too early")
	refused(t, err, 403, "", "replace the one-time password first")
	require.NoError(t, visit.SetPassword(ctx, "slipway-gannet-kettle"))
	key, err := visit.AddKey(ctx, "test")
	require.NoError(t, err)
	owner, err := client.New(first.URL, key.Secret)
	require.NoError(t, err)
	_, err = owner.AddZone(ctx, contract.ZoneInput{Apex: zone, Servers: []string{"ns1." + zone + "=198.51.100.1"}})
	require.NoError(t, err)

	// Each link's agent counts through addresses; offered and acknowledged say how far it came.
	var offered, acknowledged [links]atomic.Int64
	var serial atomic.Uint32
	var total atomic.Int64
	var wg sync.WaitGroup
	run, stop := context.WithCancel(ctx)
	address := func(link, n int64) string { return fmt.Sprintf("198.51.100.%d", 1+(link*20+n%20)%250) }
	for i := range links {
		code := fmt.Sprintf("SITE-%d", i)
		_, err := owner.AddSite(ctx, contract.SiteInput{Code: code, Name: code})
		require.NoError(t, err)
		_, err = owner.AddLink(ctx, code, contract.LinkInput{Label: "main"})
		require.NoError(t, err)
		_, err = owner.AddHostname(ctx, contract.HostnameInput{Name: fmt.Sprintf("site-%d.%s", i, zone), Site: code})
		require.NoError(t, err)
		router, err := testbed.NewRouter(ctx, owner, code, "main")
		require.NoError(t, err)
		wg.Go(func() {
			for n := int64(1); run.Err() == nil; n++ {
				offered[i].Store(n)
				if err := router.Announce(run, address(int64(i), n)); err != nil {
					return // killed
				}
				acknowledged[i].Store(n)
				total.Add(1)
			}
		})
	}
	require.Eventually(t, func() bool {
		for i := range links {
			if acknowledged[i].Load() < 5 {
				return false
			}
		}
		return true
	}, 20*time.Second, time.Millisecond)
	_, seen, _ := answers(t, first.DNS, "site-0."+zone)
	serial.Store(seen)
	first.Kill()
	wg.Wait()
	stop()

	second := testbed.Launch(t, database)
	require.Empty(t, second.Password, "the owner has a password already")
	for i := range links {
		got, now, _ := answers(t, second.DNS, fmt.Sprintf("site-%d.%s", i, zone))
		require.False(t, names.SerialAfter(serial.Load(), now), "the serial never goes back: %d after %d", now, serial.Load())
		require.Len(t, got, 1)
		// What was on its way when the server died may have been recorded or not; what was acknowledged must have been.
		allowed := []string{address(int64(i), acknowledged[i].Load()), address(int64(i), offered[i].Load())}
		require.Contains(t, allowed, got[0], "site %d: acknowledged %d, offered %d", i, acknowledged[i].Load(), offered[i].Load())
	}
	owner, err = client.New(second.URL, key.Secret)
	require.NoError(t, err)
	recorded := int64(0)
	for before := int64(0); ; {
		page, err := owner.Moves(ctx, contract.MoveQuery{Before: before, Limit: 500})
		require.NoError(t, err)
		if len(page) == 0 {
			break
		}
		recorded += int64(len(page))
		before = page[len(page)-1].ID
	}
	require.GreaterOrEqual(t, recorded, total.Load(), "every acknowledged change has its move")
	require.LessOrEqual(t, recorded, total.Load()+links)
}

func TestWithoutTheDatabaseNamesAreAnsweredAndAnnouncementsAreNot(t *testing.T) {
	database, away := testbed.OwnDatabase(t)
	s := testbed.Start(t, func(o *options) { o.Database = database })
	record(t, s, "KET-07")
	name := "ket-07." + zone
	_, err := s.Client.AddHostname(t.Context(), contract.HostnameInput{Name: name, Site: "KET-07"})
	require.NoError(t, err)
	agent := enrol(t, s, "KET-07")
	announce(t, agent, "198.51.100.7")
	id := linkID(t, s, "KET-07")
	away()
	_, err = agent.Announce(t.Context(), testbed.Says("198.51.100.8"))
	var p *client.Error
	require.True(t, errors.As(err, &p), "%v", err)
	require.Equal(t, 503, p.Status)
	require.Contains(t, p.Detail, "not recorded")
	got, _, _ := answers(t, s.DNS, name)
	require.Equal(t, []string{"198.51.100.7"}, got, "names are answered on")
	_, err = s.Engine().Announce(t.Context(), id, announcementOf("198.51.100.9"))
	require.ErrorContains(t, err, "not recorded: the database is away")
	got, _, _ = answers(t, s.DNS, name)
	require.Equal(t, []string{"198.51.100.7"}, got, "what was not recorded is not answered either")
}

func TestConnectionsThatAreCutLoseNothingThatWasAcknowledged(t *testing.T) {
	s := testbed.Start(t, nil)
	record(t, s, "KET-07")
	name := "ket-07." + zone
	_, err := s.Client.AddHostname(t.Context(), contract.HostnameInput{Name: name, Site: "KET-07"})
	require.NoError(t, err)
	id := linkID(t, s, "KET-07")
	done := make(chan struct{})
	var cutting sync.WaitGroup
	cutting.Go(func() { // in the middle of whatever it is: an announcement, a settling, a reading
		for tick := time.NewTicker(15 * time.Millisecond); ; {
			select {
			case <-tick.C:
				_, _ = s.Store().Pool().Exec(context.Background(),
					`SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()
					AND application_name <> 'inkpost writer'`)
			case <-done:
				return
			}
		}
	})
	var acknowledged []string
	refused := 0
	for i := 0; i < 600 || refused == 0 && i < 5000; i++ {
		address := fmt.Sprintf("198.51.100.%d", 1+i%250)
		if _, err := s.Engine().Announce(t.Context(), id, announcementOf(address)); err != nil {
			require.ErrorContains(t, err, "not recorded")
			refused++
			continue
		}
		acknowledged = append(acknowledged, address)
		if i%100 == 99 {
			_, _ = s.Client.Moves(t.Context(), contract.MoveQuery{Limit: 1}) // whoever reads has them settled
		}
	}
	close(done)
	cutting.Wait()
	require.Positive(t, refused, "some were cut off")
	var told []contract.Move
	require.Eventually(t, func() bool {
		_, err := s.Engine().Announce(t.Context(), id, announcementOf("198.51.100.251"))
		return err == nil
	}, 5*time.Second, 20*time.Millisecond)
	acknowledged = append(acknowledged, "198.51.100.251")
	for before := int64(0); ; {
		var page []contract.Move
		require.Eventually(t, func() bool { // a connection that was cut last may be met now
			page, err = s.Client.Moves(t.Context(), contract.MoveQuery{Limit: 500, Before: before})
			return err == nil
		}, 5*time.Second, 20*time.Millisecond)
		told = append(told, page...)
		if len(page) < 500 {
			break
		}
		before = page[len(page)-1].ID
	}
	require.Len(t, told, len(acknowledged), "each that was acknowledged, once, and none that was not")
	for i, m := range told {
		require.Equal(t, acknowledged[len(acknowledged)-1-i], m.New)
		if i > 0 {
			require.Equal(t, told[i-1].Old, m.New, "each begins where the one before ended")
		}
	}
	got, _, _ := answers(t, s.DNS, name)
	require.Equal(t, []string{"198.51.100.251"}, got)
	l, err := s.Client.Link(t.Context(), "KET-07", "main")
	require.NoError(t, err)
	require.Equal(t, "198.51.100.251", l.IPv4.String())
}

func TestManyAtOnceCostFewTransactions(t *testing.T) {
	s := testbed.Start(t, nil)
	record(t, s, "KET-07")
	const links = 40
	var ids []int64
	for i := range links {
		code := fmt.Sprintf("M-%d", i)
		if i < 10 {
			code = fmt.Sprintf("MM-%d", i)
		}
		record(t, s, "X"+code)
		_, err := s.Client.AddHostname(t.Context(), contract.HostnameInput{Name: fmt.Sprintf("x%d.%s", i, zone), Site: "X" + code})
		require.NoError(t, err)
		ids = append(ids, linkID(t, s, "X"+code))
	}
	_, before, _ := answers(t, s.DNS, "x0."+zone)
	var wg sync.WaitGroup
	for i, id := range ids {
		wg.Go(func() {
			for n := range 10 {
				if _, err := s.Engine().Announce(t.Context(), id,
					announcementOf(fmt.Sprintf("198.51.100.%d", 1+(i+n*40)%250))); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	_, after, _ := answers(t, s.DNS, "x0."+zone)
	require.Less(t, int(after-before), links*10/2, "each group of changes raises the serial once")
	moves, err := s.Client.Moves(t.Context(), contract.MoveQuery{Limit: 500})
	require.NoError(t, err)
	require.Len(t, moves, links*10, "every change has its move")
}

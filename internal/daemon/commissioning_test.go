package daemon_test

import (
	"context"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/commission"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/lab/peer"
	"inkpost.example/inkpost/internal/testbed"
)

// newcomer records a site with a static link, and a service at which nothing listens yet.
func newcomer(t *testing.T, s *testbed.Service, address string) {
	t.Helper()
	ctx, c := t.Context(), s.Client
	_, err := c.AddSite(ctx, contract.SiteInput{Code: "KET-07", Name: "Lighthouse Museum"})
	require.NoError(t, err)
	_, err = c.AddLink(ctx, "KET-07", contract.LinkInput{Label: "main", Mode: "static", IPv4: address})
	require.NoError(t, err)
	_, err = c.AddDevice(ctx, "KET-07", contract.DeviceInput{Name: "door-phone", MAC: "02:00:5e:07:00:03", Address: "192.168.7.22"})
	require.NoError(t, err)
	_, err = c.AddService(ctx, "KET-07", contract.ServiceInput{Name: "view", Device: "door-phone", External: "8090", Internal: "80",
		Kind:     "http",
		Interval: 2})
	require.NoError(t, err)
}

func step(t require.TestingT, run contract.Commissioning, step commission.Step, subject string) commission.Entry {
	e, ok := commission.Find(run.Entries, step, subject)
	require.True(t, ok, "%s of %q in %v", step, subject, run.Entries)
	return e
}

func TestAServiceIsCommissionedByTwoPeople(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	ctx, c := t.Context(), s.Client
	newcomer(t, s, "127.110.7.90")
	awaitStateOf(t, s, "view", probe.StateUnreachable)
	list, err := c.Faults(ctx, "", true)
	require.NoError(t, err)
	require.Empty(t, list, "it was never in use")
	svc, err := c.Service(ctx, "KET-07", "view")
	require.NoError(t, err)
	require.Equal(t, "to be commissioned", svc.StateWords)
	left, err := c.ToCommission(ctx)
	require.NoError(t, err)
	require.Len(t, left, 1)
	require.Equal(t, commission.OnRecord, left[0].Step)
	require.Contains(t, left[0].Words, "no hostname leads to it")
	_, err = c.Commissioning(ctx, "KET-07")
	require.True(t, client.IsStatus(err, 404), "nobody has begun")

	run, err := c.Commission(ctx, "KET-07", contract.CommissioningInput{})
	require.NoError(t, err)
	require.Equal(t, []string{"view"}, run.Services)
	same, err := c.Commission(ctx, "KET-07", contract.CommissioningInput{Services: []string{"view"}})
	require.NoError(t, err)
	require.Equal(t, run.ID, same.ID, "whoever begins it again is in the same")

	say := func(step commission.Step, subject string, state commission.State, words string) (contract.Commissioning, error) {
		return c.AnswerStep(ctx, "KET-07", contract.CommissioningAnswer{Step: step, Subject: subject, State: state, Words: words})
	}
	_, err = say(commission.OnRecord, "link main", commission.Skipped, "")
	require.ErrorContains(t, err, "say why it is passed over")
	_, err = say(commission.OnRecord, "link main", commission.Done, "")
	require.ErrorContains(t, err, "is seen, not said")
	_, err = say(commission.OnRecord, "link main", commission.Failing, "")
	require.ErrorContains(t, err, "it is done, skipped or waiting")
	_, err = say(commission.OnRecord, "link attic", commission.Skipped, "x")
	require.True(t, client.IsStatus(err, 404))
	_, err = say("polish", "", commission.Done, "")
	require.True(t, client.IsStatus(err, 404))
	_, err = c.AnswerStep(ctx, "KET-07", contract.CommissioningAnswer{Step: commission.OnRecord, Subject: "link main",
		State: commission.Skipped,
		Words: "late", At: time.Now().Add(-48 * time.Hour)})
	require.ErrorContains(t, err, "more than 24 hours ago")
	_, err = say(commission.OnRecord, "link main", commission.Skipped, "they use the address")
	require.NoError(t, err)

	var both sync.WaitGroup
	for range 2 { // two people finish the same step
		both.Go(func() {
			_, err := say(commission.Reserved, "device door-phone", commission.Done, "")
			require.NoError(t, err)
		})
	}
	for over := false; !over; { // whoever sees it done sees it on the record
		now, err := c.Commissioning(ctx, "KET-07")
		require.NoError(t, err)
		over = step(t, now, commission.Reserved, "device door-phone").State == commission.Done
	}
	d, err := c.Device(ctx, "KET-07", "door-phone")
	require.NoError(t, err)
	require.True(t, d.Reserved, "the record notes it first")
	both.Wait()
	run, err = say(commission.Inside, "service view", commission.Done, "seen on the tablet")
	require.NoError(t, err)
	e := step(t, run, commission.Inside, "service view")
	require.Equal(t, "owner", e.By)
	require.Equal(t, "seen on the tablet", e.Words)
	awaitEntry(t, s, commission.Before, commission.Done)
	run, err = say(commission.Inside, "service view", commission.Waiting, "")
	require.NoError(t, err)
	require.Equal(t, commission.Waiting, step(t, run, commission.Inside, "service view").State, "it is due again")
	_, err = say(commission.Inside, "service view", commission.Done, "")
	require.NoError(t, err)
	e = awaitEntry(t, s, commission.Forward, commission.Waiting)
	require.NotEmpty(t, e.Cards)
	run, err = say(commission.Forward, "service view", commission.Done, "")
	require.NoError(t, err)
	require.Equal(t, "owner", step(t, run, commission.Forward, "service view").By)

	stand(t, peer.Peer{Kind: probe.KindHTTP, Name: "view"}, probe.TCP, "127.110.7.90:8090")
	awaitEntry(t, s, commission.Outside, commission.Done)
	require.Contains(t, awaitEntry(t, s, commission.Pinned, commission.Done).Words, "server=view")
	left, err = c.ToCommission(ctx)
	require.NoError(t, err)
	require.Empty(t, left, "it is in use")
	run, err = c.EndCommissioning(ctx, "KET-07")
	require.NoError(t, err)
	require.NotZero(t, run.Ended)
	_, err = say(commission.Doors, "", commission.Done, "")
	require.True(t, client.IsStatus(err, 404), "it is over")
	_, err = c.Commission(ctx, "KET-07", contract.CommissioningInput{})
	require.ErrorContains(t, err, "every service of KET-07 is in use")
}

// awaitStateOf waits for a service's state.
func awaitStateOf(t *testing.T, s *testbed.Service, name string, state probe.State) {
	t.Helper()
	require.EventuallyWithT(t, func(c *assert) {
		got, err := s.Client.Service(context.Background(), "KET-07", name)
		require.NoError(c, err)
		require.Equal(c, state, got.State)
	}, 15*time.Second, 20*time.Millisecond)
}

// awaitEntry waits until a step of the service stands as it should.
func awaitEntry(t *testing.T, s *testbed.Service, at commission.Step, state commission.State) (e commission.Entry) {
	t.Helper()
	require.EventuallyWithT(t, func(c *assert) {
		run, err := s.Client.Commissioning(context.Background(), "KET-07")
		require.NoError(c, err)
		e = step(c, run, at, "service view")
		require.Equal(c, state, e.State, e.Words)
	}, 20*time.Second, 50*time.Millisecond)
	return e
}

func TestSomethingThatAnswersBeforeTheForwardIsFound(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	l, err := net.Listen("tcp", "127.110.7.91:8090")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		for c, err := l.Accept(); err == nil; c, err = l.Accept() {
			_, _ = c.Write([]byte("220 printer ready\r\n"))
			_ = c.Close()
		}
	}()
	newcomer(t, s, "127.110.7.91")
	_, err = s.Client.Commission(t.Context(), "KET-07", contract.CommissioningInput{})
	require.NoError(t, err)
	for _, a := range []contract.CommissioningAnswer{{Step: commission.OnRecord, Subject: "link main", State: commission.Skipped,
		Words: "none wanted"},
		{Step: commission.Reserved, Subject: "device door-phone", State: commission.Done},
		{Step: commission.Inside, Subject: "service view", State: commission.Done}} {
		_, err = s.Client.AnswerStep(t.Context(), "KET-07", a)
		require.NoError(t, err)
	}
	e := awaitEntry(t, s, commission.Before, commission.Failing)
	require.Contains(t, e.Words, "something answers at TCP 8090 already")
	require.Contains(t, e.Next, "the router's own page")
}

func TestACommissioningOutlivesARestartAndNotItsSite(t *testing.T) {
	t.Parallel()
	database := testbed.Database(t)
	s := testbed.Start(t, func(o *testbed.Options) { o.Database = database })
	newcomer(t, s, "127.110.7.92")
	run, err := s.Client.Commission(t.Context(), "KET-07", contract.CommissioningInput{})
	require.NoError(t, err)
	_, err = s.Client.AnswerStep(t.Context(), "KET-07", contract.CommissioningAnswer{Step: commission.OnRecord, Subject: "link main",
		State: commission.Skipped, Words: strings.Repeat("none wanted ", 10)})
	require.NoError(t, err)
	s.Stop()
	s = testbed.Beside(t, s, database, nil)
	again, err := s.Client.Commissioning(t.Context(), "KET-07")
	require.NoError(t, err)
	require.Equal(t, run.ID, again.ID)
	require.Equal(t, commission.Skipped, step(t, again, commission.OnRecord, "link main").State)
	require.NoError(t, s.Client.RemoveSite(t.Context(), "KET-07"))
	_, err = s.Client.AnswerStep(t.Context(), "KET-07", contract.CommissioningAnswer{Step: commission.Doors, State: commission.Done})
	require.True(t, client.IsStatus(err, 404))
	require.ErrorContains(t, err, "KET-07")
}

func TestWhatNoProbeCanProveComesIntoUseByAPersonsWord(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	ctx, c := t.Context(), s.Client
	newcomer(t, s, "127.110.7.99")
	_, err := c.AddService(ctx, "KET-07", contract.ServiceInput{Name: "beacon", Device: "door-phone", Kind: "udp", External: "7100",
		Interval: 2})
	require.NoError(t, err)
	_, err = c.Commission(ctx, "KET-07", contract.CommissioningInput{Services: []string{"beacon"}})
	require.NoError(t, err)
	for _, a := range []contract.CommissioningAnswer{{Step: commission.OnRecord, Subject: "link main", State: commission.Skipped,
		Words: "none"},
		{Step: commission.Reserved, Subject: "device door-phone", State: commission.Done},
		{Step: commission.Inside, Subject: "service beacon", State: commission.Done},
		{Step: commission.Forward, Subject: "service beacon", State: commission.Done},
		{Step: commission.Outside, Subject: "service beacon", State: commission.Done, Words: "heard at the harbour"}} {
		_, err = c.AnswerStep(ctx, "KET-07", a)
		require.NoError(t, err)
	}
	got, err := c.Service(ctx, "KET-07", "beacon")
	require.NoError(t, err)
	require.True(t, got.InUse)
	left, err := c.ToCommission(ctx)
	require.NoError(t, err)
	for _, one := range left {
		require.NotEqual(t, "service beacon", one.Subject)
	}
}

package daemon_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/core/notice"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/lab/mailsink"
	"inkpost.example/inkpost/internal/testbed"
	"inkpost.example/inkpost/internal/wire/hook"
)

// mailbox runs a mail server without encryption, and returns how the service reaches it.
func mailbox(t *testing.T) (*mailsink.Sink, func(*testbed.Options)) {
	s := mailsink.New(nil)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = s.Serve(l) }()
	t.Cleanup(func() { s.Close(); _ = l.Close() })
	return s, func(o *testbed.Options) {
		o.Mail.Address, o.Mail.Security, o.Mail.From = l.Addr().String(), "plain", "Saltmarsh <noc@saltmarsh.example>"
		o.HookAllow = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}
	}
}

// desk is a receiver of webhooks.
type desk struct {
	mu     sync.Mutex
	events []hook.Event
	sealed []bool
	secret string
	status int
}

func (d *desk) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.status != 0 {
		w.WriteHeader(d.status)
		return
	}
	var e hook.Event
	_ = json.Unmarshal(body, &e)
	d.events = append(d.events, e)
	d.sealed = append(d.sealed, r.Header.Get(hook.SealHeader) == hook.Seal([]byte(d.secret), r.Header.Get(hook.SealedAtHeader), body))
}

func (d *desk) types() (out []string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, e := range d.events {
		out = append(out, strings.TrimPrefix(e.Type, "inkpost.notice."))
	}
	return out
}

func (d *desk) answer(status int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.status = status
}

func TestAFaultIsToldOnceFromItsBeginningToItsEnd(t *testing.T) {
	t.Parallel()
	sink, mailed := mailbox(t)
	var ahead atomic.Int64
	s := testbed.Start(t, func(o *testbed.Options) {
		mailed(o)
		o.Clock = func() time.Time { return time.Now().Add(time.Duration(ahead.Load())).UTC().Truncate(time.Microsecond) }
	})
	d := &door{t: t, at: "127.110.1.71:8443"}
	d.open()
	exposed(t, s, "127.110.1.71", "8443", "")
	awaitState(t, s, probe.Opened, probe.StateReachable, 3*time.Second)

	c, ctx := s.Client, t.Context()
	_, err := c.SetAddressee(ctx, "owner", contract.AddresseeInput{Mail: "owner@saltmarsh.example", Zone: "Europe/London"})
	require.NoError(t, err)
	receiver := &desk{}
	server := httptest.NewServer(receiver)
	defer server.Close()
	h, err := c.AddHook(ctx, contract.HookInput{Name: "desk", URL: server.URL})
	require.NoError(t, err)
	receiver.secret = h.Secret
	for _, r := range []notice.Rule{{Person: "owner", Topic: notice.Faults}, {Person: "owner", Topic: notice.Faults, Serious: true},
		{Hook: "desk", Topic: notice.Faults, Subject: "{site} / {cause}"}} {
		_, err := c.AddNoticeRule(ctx, r)
		require.NoError(t, err)
	}

	d.close()
	f := openFault(t, s)
	require.EventuallyWithT(t, func(c *assert) {
		require.Len(c, sink.Kept(), 1, "two rules, one mail")
		require.Equal(c, []string{"opened"}, receiver.types())
	}, 10*time.Second, 20*time.Millisecond)
	m := sink.Kept()[0]
	require.Equal(t, "owner@saltmarsh.example", m.To)
	require.Contains(t, m.Header("References"), "<fault.")
	require.Contains(t, m.Header("Subject"), "KET-07")
	require.Equal(t, []bool{true}, receiver.sealed)
	require.Equal(t, "KET-07 / "+string(f.Finding.Cause), receiver.events[0].Data.(map[string]any)["subject"])

	yes, owner := true, "owner"
	story, err := c.TakeFault(ctx, f.ID, contract.FaultTaking{Acknowledged: &yes, Assigned: &owner})
	require.NoError(t, err)
	require.Equal(t, "owner", story.By)
	_, err = c.NoteFault(ctx, f.ID, "the customer moves the recorder")
	require.NoError(t, err)
	var both sync.WaitGroup // a note and a taking at once: neither is lost
	no := false
	for i := range 10 {
		both.Go(func() { _, err := c.NoteFault(ctx, f.ID, fmt.Sprint("note ", i)); require.NoError(t, err) })
		both.Go(func() {
			_, err := c.TakeFault(ctx, f.ID, contract.FaultTaking{Acknowledged: []*bool{&no, &yes}[i%2]})
			require.NoError(t, err)
		})
	}
	both.Wait()
	story, err = c.Fault(ctx, f.ID)
	require.NoError(t, err)
	require.Equal(t, "owner", story.Assigned, "whoever only acknowledges leaves it with whom it is")
	notes := 0
	for _, e := range story.Timeline {
		if e.Kind == fault.Noted {
			notes++
		}
	}
	require.Equal(t, 11, notes)
	nobody := "stranger"
	_, err = c.TakeFault(ctx, f.ID, contract.FaultTaking{Assigned: &nobody})
	require.ErrorContains(t, err, "stranger")

	receiver.answer(http.StatusServiceUnavailable)
	d.open()
	require.EventuallyWithT(t, func(c *assert) {
		list, err := s.Client.Faults(ctx, "KET-07", true)
		require.NoError(c, err)
		require.Empty(c, list)
	}, 10*time.Second, 20*time.Millisecond)
	ahead.Add(int64(2 * time.Minute)) // it has to stay so for a minute
	require.EventuallyWithT(t, func(c *assert) { require.Len(c, sink.Kept(), 2) }, 10*time.Second, 20*time.Millisecond)
	require.Contains(t, string(sink.Kept()[1].Raw), "over after")
	require.Equal(t, m.Header("References"), sink.Kept()[1].Header("References"), "one thread")

	require.EventuallyWithT(t, func(c *assert) {
		list, err := s.Client.Notices(ctx, "waiting", 10)
		require.NoError(c, err)
		require.Len(c, list, 1)
		require.Equal(c, "it answered 503 Service Unavailable", list[0].Problem)
	}, 10*time.Second, 20*time.Millisecond)
	story, err = c.Fault(ctx, f.ID)
	require.NoError(t, err)
	var kinds []fault.Kind
	for _, e := range story.Timeline {
		kinds = append(kinds, e.Kind)
	}
	require.Equal(t, fault.Opened, kinds[0])
	require.Equal(t, fault.Closed, kinds[len(kinds)-1])
	require.False(t, story.Closed.IsZero())
}

// openFault waits for a fault that is written.
func openFault(t *testing.T, s *testbed.Service) (f contract.Fault) {
	require.EventuallyWithT(t, func(c *assert) {
		list, err := s.Client.Faults(t.Context(), "KET-07", true)
		require.NoError(c, err)
		require.Len(c, list, 1)
		require.NotZero(c, list[0].ID)
		f = list[0]
	}, 15*time.Second, 20*time.Millisecond)
	return f
}

// A webhook that is away for a day is given up, and gets what it missed when somebody sends it again.
func TestWhatIsGivenUpCanBeSentAgain(t *testing.T) {
	t.Parallel()
	_, mailed := mailbox(t)
	s := testbed.Start(t, mailed)
	receiver := &desk{status: http.StatusGone}
	server := httptest.NewServer(receiver)
	defer server.Close()
	c, ctx := s.Client, t.Context()
	h, err := c.AddHook(ctx, contract.HookInput{Name: "desk", URL: server.URL})
	require.NoError(t, err)
	receiver.secret = h.Secret
	require.NotEmpty(t, h.Secret)
	list, err := c.Hooks(ctx)
	require.NoError(t, err)
	require.Empty(t, list[0].Secret, "it is shown once")
	exposed(t, s, "127.110.1.72", "8443", "")
	_, err = c.AddNoticeRule(ctx, notice.Rule{Hook: "desk", Topic: notice.Moves, Scope: fault.Scope{Site: "ket-07"}})
	require.NoError(t, err)
	router, err := testbed.NewRouter(ctx, c, "KET-07", "main")
	require.NoError(t, err)
	require.NoError(t, router.Announce(ctx, "203.0.113.9"))
	var failed []contract.Notice
	require.EventuallyWithT(t, func(as *assert) {
		failed, err = c.Notices(ctx, "failed", 10)
		require.NoError(as, err)
		require.Len(as, failed, 1)
	}, 15*time.Second, 20*time.Millisecond)
	require.Contains(t, failed[0].Problem, "it wants nothing more")
	require.Contains(t, failed[0].Subject, "203.0.113.9")
	receiver.answer(0)
	require.NoError(t, c.SendAgain(ctx, failed[0].ID))
	require.EventuallyWithT(t, func(as *assert) {
		list, err := c.Notices(ctx, "", 10)
		require.NoError(as, err)
		require.Equal(as, []string{"moved"}, receiver.types(), "%+v", list)
	}, 10*time.Second, 20*time.Millisecond)
	require.ErrorContains(t, c.SendAgain(ctx, failed[0].ID), "given up", "it was sent")
	story, err := c.Notice(ctx, failed[0].ID)
	require.NoError(t, err)
	require.Contains(t, story.Text, "Old address: 127.110.1.72")
	require.Contains(t, story.Text, "New address: 203.0.113.9")
}

func TestATestTellsEachStep(t *testing.T) {
	t.Parallel()
	sink, mailed := mailbox(t)
	s := testbed.Start(t, mailed)
	c, ctx := s.Client, t.Context()
	trial, err := c.TestNotice(ctx, contract.NoticeTest{Person: "owner"})
	require.NoError(t, err)
	require.Equal(t, []contract.NoticeStep{{Name: "address", Words: "no mail address is on record for owner"}}, trial.Steps)
	_, err = c.SetAddressee(ctx, "owner", contract.AddresseeInput{Mail: "owner@saltmarsh.example"})
	require.NoError(t, err)
	trial, err = c.TestNotice(ctx, contract.NoticeTest{Person: "owner"})
	require.NoError(t, err)
	require.True(t, trial.Good)
	require.Len(t, sink.Kept(), 1)
	sink.Behave(mailsink.Manners{Later: 1})
	trial, err = c.TestNotice(ctx, contract.NoticeTest{Person: "owner"})
	require.NoError(t, err)
	require.False(t, trial.Good)
	last := trial.Steps[len(trial.Steps)-1]
	require.Equal(t, "recipient", last.Name)
	require.Contains(t, last.Words, "451")
	_, err = c.TestNotice(ctx, contract.NoticeTest{Person: "stranger"})
	require.ErrorContains(t, err, "stranger")
	_, err = c.TestNotice(ctx, contract.NoticeTest{})
	require.ErrorContains(t, err, "either a person or a hook")
}

func TestWhatCannotBeARule(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	c, ctx := s.Client, t.Context()
	for words, r := range map[string]notice.Rule{
		"either a person or a hook": {Topic: notice.Faults},
		"stranger":                  {Person: "stranger", Topic: notice.Faults},
		"none of faults":            {Person: "owner", Topic: "gossip"},
		"is no cause":               {Person: "owner", Topic: notice.Faults, Causes: []causes.Slug{"gremlins"}},
		"{colour} is no field":      {Person: "owner", Topic: notice.Faults, Subject: "{site}: {colour}"},
		"without its }":             {Person: "owner", Topic: notice.Faults, Subject: "{site"},
		"no time of day":            {Person: "owner", Topic: notice.Faults, Hours: notice.Hours{From: "7 o'clock"}},
		"no time zone":              {Person: "owner", Topic: notice.Faults, Hours: notice.Hours{Zone: "Mars/Olympus"}},
		"no way to a person":        {Person: "owner", Topic: notice.Faults, Ways: []notice.Way{"pigeon"}},
		"are of faults only":        {Person: "owner", Topic: notice.Moves, Serious: true},
		"NON-99":                    {Person: "owner", Topic: notice.Faults, Scope: fault.Scope{Site: "NON-99"}},
	} {
		_, err := c.AddNoticeRule(ctx, r)
		require.ErrorContains(t, err, words)
	}
	list, err := c.NoticeRules(ctx)
	require.NoError(t, err)
	require.Empty(t, list)
	r, err := c.AddNoticeRule(ctx, notice.Rule{Person: "owner", Topic: notice.Faults})
	require.NoError(t, err)
	require.Equal(t, []notice.Way{notice.ByMail}, r.Ways)
	r.Serious = true
	r, err = c.EditNoticeRule(ctx, r.ID, r)
	require.NoError(t, err)
	require.True(t, r.Serious)
	require.NoError(t, c.RemoveNoticeRule(ctx, r.ID))
	require.ErrorContains(t, c.RemoveNoticeRule(ctx, r.ID), "rule")
	_, err = c.AddHook(ctx, contract.HookInput{Name: "Desk!", URL: "ftp://desk.example/"})
	require.ErrorContains(t, err, "neither https nor http")
	_, err = c.SetAddressee(ctx, "owner", contract.AddresseeInput{Mail: "owner", Zone: "Mars"})
	require.ErrorContains(t, err, "no mail address")
}

func TestADigestIsSentOnceADay(t *testing.T) {
	t.Parallel()
	sink, mailed := mailbox(t)
	var ahead atomic.Int64
	s := testbed.Start(t, func(o *testbed.Options) {
		mailed(o)
		o.Clock = func() time.Time { return time.Now().Add(time.Duration(ahead.Load())).UTC().Truncate(time.Microsecond) }
	})
	c, ctx := s.Client, t.Context()
	_, err := c.SetAddressee(ctx, "owner", contract.AddresseeInput{Mail: "owner@saltmarsh.example", Zone: "Europe/London"})
	require.NoError(t, err)
	exposed(t, s, "127.110.1.73", "8443", "")
	openFault(t, s)
	_, err = c.AddNoticeRule(ctx, notice.Rule{Person: "owner", Topic: notice.Daily, Hours: notice.Hours{From: "07:00",
		Zone: "Europe/London"}})
	require.NoError(t, err)
	require.Empty(t, sink.Kept(), "the first is due in the morning")
	for days := 1; days <= 2; days++ {
		ahead.Store(int64(time.Duration(days) * 24 * time.Hour))
		require.EventuallyWithT(t, func(c *assert) { require.Len(c, sink.Kept(), days) }, 10*time.Second, 20*time.Millisecond)
	}
	m := sink.Kept()[0]
	require.Contains(t, m.Header("Subject"), "The last 24 h: 1 open, 0 mended")
	require.Contains(t, string(m.Raw), "KET-07")
}

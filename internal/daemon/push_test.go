package daemon_test

import (
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/notice"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/lab/pushsink"
	"inkpost.example/inkpost/internal/testbed"
)

func TestABrowserIsToldByPush(t *testing.T) {
	t.Parallel()
	_, mailed := mailbox(t)
	s := testbed.Start(t, mailed)
	ctx, c := t.Context(), s.Client
	sink, err := pushsink.New()
	require.NoError(t, err)
	service := httptest.NewServer(sink)
	defer service.Close()
	in := contract.PushInput{Endpoint: service.URL + "/phone", Label: "Chrome, Android"}
	in.Keys.P256DH, in.Keys.Auth = sink.Keys()

	trial, err := c.TestNotice(ctx, contract.NoticeTest{Person: "owner", Way: notice.ByPush})
	require.NoError(t, err)
	require.False(t, trial.Good)
	require.Contains(t, trial.Steps[0].Words, "no browser of owner")
	_, err = c.TestNotice(ctx, contract.NoticeTest{Person: "owner", Way: "pigeon"})
	require.ErrorContains(t, err, "mail and push are")
	_, err = c.Subscribe(ctx, contract.PushInput{Endpoint: "x"})
	require.ErrorContains(t, err, "no endpoint of a push service")
	require.ErrorContains(t, err, "which browser it is")
	key, err := c.PushKey(ctx)
	require.NoError(t, err)
	again, err := c.PushKey(ctx)
	require.NoError(t, err)
	require.Equal(t, key, again, "the key stays: browsers subscribed with it")
	b, err := c.Subscribe(ctx, in)
	require.NoError(t, err)
	same, err := c.Subscribe(ctx, in)
	require.NoError(t, err)
	require.Equal(t, b.ID, same.ID, "a browser that subscribes again is the same one")
	trial, err = c.TestNotice(ctx, contract.NoticeTest{Person: "owner", Way: notice.ByPush})
	require.NoError(t, err)
	require.True(t, trial.Good, trial.Steps)
	require.Len(t, sink.Kept(), 1)

	_, err = c.AddNoticeRule(ctx, notice.Rule{Person: "owner", Topic: notice.Faults, Ways: []notice.Way{notice.ByPush}})
	require.NoError(t, err)
	exposed(t, s, "127.110.1.98", "8443", "")
	awaitState(t, s, probe.Refused, probe.StateUnreachable, 10*time.Second)
	require.EventuallyWithT(t, func(c *assert) { require.Len(c, sink.Kept(), 2) }, 15*time.Second, 20*time.Millisecond)
	require.Contains(t, sink.Kept()[1].Text, "KET-07")
	require.Contains(t, sink.Kept()[1].Text, "/faults/")
	require.EventuallyWithT(t, func(check *assert) { // the push is there before it is written down that it was sent
		log, err := c.Notices(ctx, "", 10)
		require.NoError(check, err)
		require.Equal(check, "push Chrome, Android sent", string(log[0].Way)+" "+log[0].Target+" "+log[0].State)
	}, 15*time.Second, 20*time.Millisecond)

	sink.Answer(410)
	trial, err = c.TestNotice(ctx, contract.NoticeTest{Person: "owner", Way: notice.ByPush})
	require.NoError(t, err)
	require.False(t, trial.Good)
	require.Contains(t, trial.Steps[0].Words, "wants nothing more")
	list, err := c.PushBrowsers(ctx)
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.NoError(t, c.Unsubscribe(ctx, list[0].ID))
	require.True(t, client.IsStatus(c.Unsubscribe(ctx, list[0].ID), 404))
}

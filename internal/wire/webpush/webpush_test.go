package webpush_test

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/lab/pushsink"
	"inkpost.example/inkpost/internal/wire/webpush"
)

func sender(t *testing.T) webpush.Sender {
	public, private, err := webpush.NewKeys()
	require.NoError(t, err)
	return webpush.Sender{Client: http.DefaultClient, Public: public, Private: private, Subscriber: "noc@saltmarsh.example",
		Patience: time.Second}
}

func browser(t *testing.T) (*pushsink.Sink, webpush.Subscription) {
	sink, err := pushsink.New()
	require.NoError(t, err)
	server := httptest.NewServer(sink)
	t.Cleanup(server.Close)
	p256dh, auth := sink.Keys()
	return sink, webpush.Subscription{Endpoint: server.URL + "/browser/7", P256DH: p256dh, Auth: auth}
}

func TestABrowserReadsWhatNobodyElseCan(t *testing.T) {
	sink, to := browser(t)
	s := sender(t)
	m := webpush.Message{ID: "n7-ink", Title: "KET-07: the router does not pass it on", Body: "Enter the forward.", URL: "/faults/7",
		Urgent: true}
	require.NoError(t, s.Send(t.Context(), to, m))
	require.NoError(t, s.Send(t.Context(), to, m), "again, after a crash")
	kept := sink.Kept()
	require.Len(t, kept, 1, "the push service replaces what has the same topic")
	var shown webpush.Message
	require.NoError(t, json.Unmarshal([]byte(kept[0].Text), &shown))
	m.Urgent = false
	require.Equal(t, m, shown)
	require.Equal(t, "high", kept[0].Header.Get("Urgency"))
	require.Equal(t, "86400", kept[0].Header.Get("TTL"))
	require.Equal(t, "n7-ink", kept[0].Header.Get("Topic"))

	long := webpush.Message{ID: "n8", Title: "long", Body: strings.Repeat("ż", 5000)}
	require.NoError(t, s.Send(t.Context(), to, long), "it is shortened to what a push service takes")
	require.Len(t, sink.Kept(), 2)

	err := sender(t).Send(t.Context(), to, m)
	require.ErrorContains(t, err, "another sender than the one subscribed to")
}

func TestWhatAPushServiceAnswersDecides(t *testing.T) {
	sink, to := browser(t)
	s := sender(t)
	for status, one := range map[int]struct{ final, gone bool }{201: {}, 410: {true, true}, 404: {true, true}, 413: {true, false},
		302: {true, false}, 429: {}, 503: {}} {
		sink.Answer(status)
		err := s.Send(t.Context(), to, webpush.Message{ID: "n1"})
		if status == 201 {
			require.NoError(t, err)
			continue
		}
		var f webpush.Failed
		require.True(t, errors.As(err, &f), "%d: %v", status, err)
		require.Equal(t, one.final, f.Final, status)
		require.Equal(t, one.gone, f.Gone, status)
	}
	to.Endpoint = "http://127.0.0.1:1/browser"
	var f webpush.Failed
	require.True(t, errors.As(s.Send(t.Context(), to, webpush.Message{ID: "n1"}), &f))
	require.False(t, f.Final, "it may come back")
}

func TestASubscriptionThatNoBrowserMakes(t *testing.T) {
	_, good := browser(t)
	require.NoError(t, good.Check())
	for name, change := range map[string]func(*webpush.Subscription){
		"is no endpoint": func(s *webpush.Subscription) { s.Endpoint = "file:///etc/passwd" },
		"are allowed":    func(s *webpush.Subscription) { s.Endpoint += strings.Repeat("x", 3000) },
		"65 bytes":       func(s *webpush.Subscription) { s.P256DH = s.P256DH[:40] },
		"not the public": func(s *webpush.Subscription) { s.P256DH = "B" + strings.Repeat("A", 86) },
		"16 bytes":       func(s *webpush.Subscription) { s.Auth = "x" },
		"no endpoint of": func(s *webpush.Subscription) { s.Endpoint = "https://user:pw@push.example/1" },
	} {
		s := good
		change(&s)
		require.ErrorContains(t, s.Check(), name)
	}
}

package notices

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"inkpost.example/inkpost/internal/core/notice"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/mail"
	"inkpost.example/inkpost/internal/wire/webpush"
)

// PushKey returns the public key with which browsers subscribe, made when it is first asked for. Error: that of the database.
func (r *Room) PushKey(ctx context.Context) (public string, err error) {
	public, _, err = r.store.PushKeys(ctx)
	if err != nil || public != "" {
		return public, err
	}
	public, private, err := webpush.NewKeys()
	if err != nil {
		return "", err
	}
	if err := r.store.PutPushKeys(ctx, public, private); err != nil {
		return "", err
	}
	public, _, err = r.store.PushKeys(ctx) // another server may have been faster
	return public, err
}

// pusher returns what sends to push services: to what may be sent to only, as to webhooks.
func (r *Room) pusher(ctx context.Context) (webpush.Sender, error) {
	public, private, err := r.store.PushKeys(ctx)
	s := webpush.Sender{Client: r.Hooks.Client(), Public: public, Private: private, Subscriber: "noc@" + r.domain()}
	if strings.HasPrefix(r.Console, "https:") {
		s.Subscriber = r.Console
	}
	return s, err
}

// sendPush sends a delivery to its browser, and returns which. A browser that wants nothing more is forgotten.
func (r *Room) sendPush(ctx context.Context, d store.Delivery) (target string, err error) {
	name := strings.TrimPrefix(d.Notice.To, "person ")
	list, err := r.store.PushSubscriptions(ctx, name)
	if err != nil {
		return "", err
	}
	i := slices.IndexFunc(list, func(s store.PushSubscription) bool { return s.ID == d.PushID })
	if i < 0 {
		return "", webpush.Failed{Words: "no browser of " + name + " wants to be told: in the console, Notices, on that browser",
			Final: true}
	}
	s, err := r.pusher(ctx)
	if err != nil {
		return list[i].Label, err
	}
	err = s.Send(ctx, subscription(list[i]), r.pushed(d))
	var failed webpush.Failed
	if errors.As(err, &failed) && failed.Gone {
		if err := r.store.RemovePushSubscription(ctx, 0, list[i].ID); err != nil {
			return list[i].Label, err
		}
	}
	return list[i].Label, err
}

func subscription(s store.PushSubscription) webpush.Subscription {
	return webpush.Subscription{Endpoint: s.Endpoint, P256DH: s.P256DH, Auth: s.Auth}
}

// pushed is what a browser shows of a delivery. Its ID is always the same.
func (r *Room) pushed(d store.Delivery) webpush.Message {
	c := d.Notice.Content
	m := webpush.Message{ID: fmt.Sprintf("n%d-%s", d.Notice.ID, r.name), Title: c.Subject,
		Body:   strings.TrimSpace(c.Next + "\n" + c.Summary),
		Urgent: c.Serious && c.What != notice.Over}
	switch {
	case c.FaultID != 0:
		m.URL = fmt.Sprintf("/faults/%d", c.FaultID)
	case c.Site != "":
		m.URL = "/sites/" + c.Site
	default:
		m.URL = "/"
	}
	return m
}

// tryPush sends a test to each browser of a person.
func (r *Room) tryPush(ctx context.Context, person string, d store.Delivery) (t Trial, err error) {
	list, err := r.store.PushSubscriptions(ctx, person)
	if err != nil {
		return t, err
	}
	s, err := r.pusher(ctx)
	if err != nil {
		return t, err
	}
	t.Good = len(list) > 0
	for _, one := range list {
		step := mail.Step{Name: one.Label, Words: "its push service took the message", Good: true}
		m := r.pushed(d)
		m.ID = fmt.Sprintf("t%d-%d", one.ID, r.Now().Unix())
		if err := s.Send(ctx, subscription(one), m); err != nil {
			step.Words, step.Good, t.Good = err.Error(), false, false
		}
		t.Steps = append(t.Steps, step)
	}
	if t.Target = fmt.Sprintf("%d browsers of %s", len(list), person); len(list) == 1 {
		t.Target = list[0].Label
	}
	if len(list) == 0 {
		t.Steps = []mail.Step{{Name: "browser",
			Words: "no browser of " + person + " wants to be told: in the console, Notices, on that browser"}}
	}
	return t, nil
}

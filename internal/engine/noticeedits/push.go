package noticeedits

import (
	"context"
	"fmt"
	"net/url"
	"strings"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/webpush"
)

// PushKey returns the public key with which browsers subscribe. Error: that of the database.
func (e *NoticeEdits) PushKey(ctx context.Context) (contract.PushKey, error) {
	key, err := e.Rooms.Notices.PushKey(ctx)
	return contract.PushKey{Key: key}, err
}

// PushBrowsers lists the browsers of a person that want to be told. Error: that of the database.
func (e *NoticeEdits) PushBrowsers(ctx context.Context, person string) ([]contract.PushBrowser, error) {
	list, err := e.Rooms.Store.PushSubscriptions(ctx, person)
	out := make([]contract.PushBrowser, len(list))
	for i, s := range list {
		out[i] = browserView(s)
	}
	return out, err
}

func browserView(s store.PushSubscription) contract.PushBrowser {
	out := contract.PushBrowser{ID: s.ID, Label: s.Label, Created: s.Created}
	if u, err := url.Parse(s.Endpoint); err == nil {
		out.Service = u.Host
	}
	return out
}

// longestLabel is how many characters the name of a browser may have.
const longestLabel = 100

// Subscribe has a browser of a person be told. One that is on record already is taken over. Errors: site.Flaws, that of the database.
func (e *NoticeEdits) Subscribe(ctx context.Context, personID int64, in contract.PushInput) (contract.PushBrowser, error) {
	var f site.Flaws
	sub := webpush.Subscription{Endpoint: in.Endpoint, P256DH: strings.TrimRight(in.Keys.P256DH, "="),
		Auth: strings.TrimRight(in.Keys.Auth, "=")}
	f.Note("endpoint", sub.Check())
	if in.Label = strings.TrimSpace(in.Label); in.Label == "" || len([]rune(in.Label)) > longestLabel {
		f.Note("label", fmt.Errorf("say in 1 to %d characters which browser it is", longestLabel))
	}
	if err := f.Err(); err != nil {
		return contract.PushBrowser{}, err
	}
	s := store.PushSubscription{Endpoint: sub.Endpoint, P256DH: sub.P256DH, Auth: sub.Auth, Label: in.Label, Created: e.Rooms.Now()}
	var err error
	s.ID, err = e.Rooms.Store.AddPushSubscription(ctx, personID, s)
	return browserView(s), err
}

// Unsubscribe has a browser of a person no longer be told. Errors: store.Missing, that of the database.
func (e *NoticeEdits) Unsubscribe(ctx context.Context, personID, id int64) error {
	return e.Rooms.Store.RemovePushSubscription(ctx, personID, id)
}

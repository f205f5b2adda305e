// Package webpush sends short notices to browsers by their push services: RFC 8030, encrypted (RFC 8291), with proof of who sends
// (VAPID, RFC 8292).
package webpush

import (
	"context"
	"crypto/ecdh"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	push "github.com/SherClockHolmes/webpush-go"
)

// Subscription is a browser that wants to be told: where its push service is, and the keys that only the browser can read with.
type Subscription struct {
	Endpoint string
	P256DH   string // public key, an uncompressed point of P-256, base64url
	Auth     string // 16 bytes, base64url
}

// Message is what a browser shows. ID is the same when it is sent again; the push service replaces the one that it has not delivered yet,
// and the browser the one that it shows.
type Message struct {
	ID     string `json:"id"`
	Title  string `json:"title"`
	Body   string `json:"body"`
	URL    string `json:"url,omitempty"`
	Urgent bool   `json:"-"`
}

// Sender sends messages. Subscriber is how a push service reaches whoever runs this: an https URL or a mail address.
type Sender struct {
	Client          *http.Client
	Public, Private string
	Subscriber      string
	Patience        time.Duration // for one message; 10 s if 0
}

// Failed reports that a message was not taken. Gone says that the browser wants nothing more; Final that trying again is of no use.
type Failed struct {
	Words       string
	Status      int
	Final, Gone bool
}

func (e Failed) Error() string { return e.Words }

const (
	keepFor       = 24 * time.Hour // how long a push service keeps what it cannot deliver
	longestAnswer = 4096
	longestURL    = 2000
	longestBody   = 1500 // characters: a push service takes 4,096 bytes
)

// NewKeys makes the pair of keys by which push services know an installation (RFC 8292, section 3.2). Error: that of the source of
// randomness.
func NewKeys() (public, private string, err error) {
	private, public, err = push.GenerateVAPIDKeys()
	return public, private, err
}

// Check returns what is wrong with a subscription. Error: an endpoint that is none, or keys that no browser makes.
func (s Subscription) Check() error {
	u, err := url.Parse(s.Endpoint)
	switch {
	case len(s.Endpoint) > longestURL:
		return fmt.Errorf("the endpoint has %d characters; %d are allowed", len(s.Endpoint), longestURL)
	case err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Hostname() == "" || u.User != nil:
		return fmt.Errorf("%q is no endpoint of a push service", s.Endpoint)
	}
	point, err := base64.RawURLEncoding.DecodeString(s.P256DH)
	if err == nil {
		_, err = ecdh.P256().NewPublicKey(point)
	}
	if err != nil {
		return errors.New("p256dh is not the public key of a browser: 65 bytes in base64url")
	}
	if auth, err := base64.RawURLEncoding.DecodeString(s.Auth); err != nil || len(auth) != 16 {
		return errors.New("auth is not the secret of a browser: 16 bytes in base64url")
	}
	return nil
}

// Send sends a message once. Error: Failed.
func (s Sender) Send(ctx context.Context, to Subscription, m Message) error {
	if err := to.Check(); err != nil {
		return Failed{Words: err.Error(), Final: true}
	}
	if r := []rune(m.Body); len(r) > longestBody {
		m.Body = string(r[:longestBody-1]) + "…"
	}
	body, err := json.Marshal(m)
	if err != nil {
		return Failed{Words: err.Error(), Final: true}
	}
	patience := s.Patience
	if patience == 0 {
		patience = 10 * time.Second
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	options := &push.Options{HTTPClient: s.Client, Subscriber: s.Subscriber, Topic: m.ID, TTL: int(keepFor.Seconds()),
		Urgency:        push.UrgencyNormal,
		VAPIDPublicKey: s.Public, VAPIDPrivateKey: s.Private}
	if m.Urgent {
		options.Urgency = push.UrgencyHigh
	}
	r, err := push.SendNotificationWithContext(ctx, body, &push.Subscription{Endpoint: to.Endpoint,
		Keys: push.Keys{Auth: to.Auth, P256dh: to.P256DH}}, options)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) && u.Timeout() {
			return Failed{Words: "the push service does not answer"}
		}
		if errors.As(err, &u) {
			err = u.Err
		}
		return Failed{Words: err.Error()}
	}
	defer r.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(r.Body, longestAnswer))
	f := Failed{Status: r.StatusCode, Words: "the push service answered " + r.Status}
	switch code := r.StatusCode; {
	case code >= 200 && code < 300:
		return nil
	case code == http.StatusNotFound, code == http.StatusGone:
		f.Words, f.Final, f.Gone = "the browser wants nothing more", true, true
	case code >= 300 && code < 400, code == http.StatusRequestEntityTooLarge, code == http.StatusBadRequest,
		code == http.StatusUnauthorized,
		code == http.StatusForbidden:
		f.Words, f.Final = fmt.Sprintf("%s: %.200s", f.Words, said), true
	}
	return f
}

// Package hook delivers events to webhooks: CloudEvents 1.0 as structured JSON over HTTP, sealed with a secret that the receiver shares.
package hook

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"syscall"
	"time"

	"inkpost.example/inkpost/internal/core/wan"
)

// The headers that prove where a request comes from, and that it is a new one: the moment at which it was sealed, and the HMAC-SHA-256 of
// that moment, a line feed and the body, as base64.
const (
	SealedAtHeader = "Ink-Post-Sealed-At"
	SealHeader     = "Ink-Post-Seal"
)

// Event is a CloudEvent (CloudEvents 1.0.2, section 3).
type Event struct {
	SpecVersion string    `json:"specversion"`
	ID          string    `json:"id"` // the same when it is sent again
	Source      string    `json:"source"`
	Type        string    `json:"type"`
	Subject     string    `json:"subject,omitempty"`
	Time        time.Time `json:"time"`
	ContentType string    `json:"datacontenttype"`
	Data        any       `json:"data"`
}

// Sender sends events.
type Sender struct {
	// Allowed are prefixes of addresses that may be sent to although they are not public.
	Allowed  []netip.Prefix
	Patience time.Duration // for one request; 10 s if 0
	Now      func() time.Time
}

// Failed reports that an event was not taken. Final says that trying again is of no use.
type Failed struct {
	Words  string
	Status int // of the answer; 0 if there was none
	Final  bool
}

func (e Failed) Error() string { return e.Words }

// longestURL bounds where a webhook is.
const longestURL = 2000

// CheckURL returns what is wrong with where a webhook is. Error: a scheme, host or part that a webhook cannot have.
func CheckURL(text string) error {
	u, err := url.Parse(text)
	switch {
	case len(text) > longestURL:
		return fmt.Errorf("the URL has %d characters; %d are allowed", len(text), longestURL)
	case err != nil:
		return fmt.Errorf("%q is no URL", text)
	case u.Scheme != "https" && u.Scheme != "http":
		return fmt.Errorf("%q is neither https nor http", text)
	case u.Hostname() == "":
		return fmt.Errorf("%q names no host", text)
	case u.User != nil:
		return errors.New("a user and a password do not belong into the URL; the seal proves who sends")
	case u.Fragment != "":
		return fmt.Errorf("%q has a fragment, which is never sent", text)
	}
	return nil
}

// Seal makes the seal of a body that is sent at a moment.
func Seal(secret []byte, at string, body []byte) string {
	mac := hmac.New(sha256.New, secret)
	_, _ = io.WriteString(mac, at+"\n")
	_, _ = mac.Write(body)
	return base64.StdEncoding.EncodeToString(mac.Sum(nil))
}

// longestAnswer bounds what of an answer is read.
const longestAnswer = 4096

// Send sends an event once. Error: Failed.
func (s Sender) Send(ctx context.Context, target string, secret []byte, e Event) error {
	if err := CheckURL(target); err != nil {
		return Failed{Words: err.Error(), Final: true}
	}
	body, err := json.Marshal(e)
	if err != nil {
		return Failed{Words: err.Error(), Final: true}
	}
	patience := s.Patience
	if patience == 0 {
		patience = 10 * time.Second
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, target, bytes.NewReader(body))
	if err != nil {
		return Failed{Words: err.Error(), Final: true}
	}
	at := s.Now().UTC().Format(time.RFC3339)
	r.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	r.Header.Set(SealedAtHeader, at)
	r.Header.Set(SealHeader, Seal(secret, at, body))
	r.Header.Set("User-Agent", "inkpost")
	answer, err := s.Client().Do(r)
	if err != nil {
		return failed(err)
	}
	defer answer.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(answer.Body, longestAnswer))
	return judged(answer)
}

// Client connects to what may be sent to only, checked on the address that is really connected to: whatever a name resolved to before.
func (s Sender) Client() *http.Client {
	d := net.Dialer{Control: func(_, address string, _ syscall.RawConn) error { return s.check(address) }}
	return &http.Client{Transport: &http.Transport{DialContext: d.DialContext, DisableKeepAlives: true, Proxy: nil},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

// errForbidden reports an address that is not sent to.
type errForbidden struct {
	address netip.Addr
	class   wan.Class
}

func (e errForbidden) Error() string {
	return fmt.Sprintf("%s is a %s address, to which nothing is sent unless the operator allows it (serve --hook-allow PREFIX)", e.address,
		e.class)
}

func (s Sender) check(address string) error {
	to, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	a := embedded(to.Addr().Unmap().WithZone(""))
	if slices.ContainsFunc(s.Allowed, func(p netip.Prefix) bool { return p.Contains(a) }) {
		return nil
	}
	if class := wan.ClassOf(a); class != wan.ClassPublic {
		return errForbidden{a, class}
	}
	return nil
}

// translators are prefixes of IPv6 in which an IPv4 address is embedded that a gateway sends to: NAT64 (RFC 6052) and 6to4 (RFC 3056).
var translators = []struct {
	prefix netip.Prefix
	at     int
}{{netip.MustParsePrefix("64:ff9b::/96"), 12}, {netip.MustParsePrefix("2002::/16"), 2}}

func embedded(a netip.Addr) netip.Addr {
	for _, t := range translators {
		if t.prefix.Contains(a) {
			b := a.As16()
			return netip.AddrFrom4([4]byte(b[t.at : t.at+4]))
		}
	}
	return a
}

func failed(err error) error {
	var forbidden errForbidden
	var u *url.Error
	if errors.As(err, &forbidden) {
		return Failed{Words: forbidden.Error()}
	}
	if errors.As(err, &u) {
		if u.Timeout() {
			return Failed{Words: "no answer in time"}
		}
		err = u.Err
	}
	return Failed{Words: strings.TrimPrefix(err.Error(), "Post: ")}
}

func judged(answer *http.Response) error {
	f := Failed{Status: answer.StatusCode, Words: "it answered " + answer.Status}
	switch code := answer.StatusCode; {
	case code >= 200 && code < 300:
		return nil
	case code >= 300 && code < 400:
		f.Words += "; redirects are not followed: put the address it points to on record, if it is one that you know"
	case code == http.StatusGone:
		f.Words, f.Final = f.Words+": it wants nothing more", true
	}
	return f
}

// Package client is the typed client of the API. The command line, the agent and the demo use nothing else.
//
// Errors of all methods: *Error for what the server reported, *Unreachable if it did not answer, that of ctx. A method that reads or writes
// a stream also returns those of the stream.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/contract"
)

// Client speaks to one server. It may be used from many goroutines.
type Client struct {
	base string
	key  string
	http *http.Client
}

// Option of New.
type Option func(*Client)

// WithHTTP has requests go through h.
func WithHTTP(h *http.Client) Option { return func(c *Client) { c.http = h } }

// New makes a client of the server at base ("http://127.0.0.1:8460") with an access key; "" has none.
func New(base, key string, options ...Option) (*Client, error) {
	u, err := url.Parse(base)
	if err != nil || (u.Scheme != "http" && u.Scheme != "https") || u.Host == "" {
		return nil, fmt.Errorf("server %q is not an address; give one such as http://127.0.0.1:8460", base)
	}
	c := &Client{base: strings.TrimSuffix(base, "/"), key: key, http: &http.Client{Timeout: 30 * time.Second}}
	for _, o := range options {
		o(c)
	}
	return c, nil
}

// Base is the server's address.
func (c *Client) Base() string { return c.base }

// Error is a problem that the server reported.
type Error struct{ contract.Problem }

func (e *Error) Error() string { return e.Detail }

// Unreachable reports that the server did not answer.
type Unreachable struct {
	Base string
	Err  error
}

func (e *Unreachable) Error() string {
	return fmt.Sprintf("the server at %s does not answer: %v", e.Base, e.Err)
}

func (e *Unreachable) Unwrap() error { return e.Err }

// IsStatus reports whether err is a problem that the server reported with this HTTP status.
func IsStatus(err error, status int) bool {
	var e *Error
	return errors.As(err, &e) && e.Status == status
}

// nothing is what a reply without a document is read into.
type nothing struct{}

func call[T any](ctx context.Context, c *Client, method, path string, in any) (T, error) {
	var out T
	r, err := c.send(ctx, c.http, method, path, in, nil)
	if err != nil {
		return out, err
	}
	defer r.Body.Close()
	if r.StatusCode == http.StatusNoContent {
		return out, nil
	}
	if err := json.NewDecoder(r.Body).Decode(&out); err != nil {
		return out, fmt.Errorf("the reply to %s %s cannot be read: %w", method, path, err)
	}
	return out, nil
}

// send makes a request and turns every status above 299 into an *Error. A Reader is sent as it is,
// anything else as JSON.
func (c *Client) send(ctx context.Context, h *http.Client, method, path string, in any, header http.Header) (*http.Response, error) {
	body, file := in.(io.Reader)
	if in != nil && !file {
		doc, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(doc)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+"/api/v1"+path, body)
	if err != nil {
		return nil, err
	}
	for k, v := range header {
		req.Header[k] = v
	}
	if in != nil && !file {
		req.Header.Set("Content-Type", "application/json")
	}
	if tag, ok := ctx.Value(tagKey{}).(string); ok {
		req.Header.Set("If-Match", `"`+tag+`"`)
	}
	if c.key != "" {
		req.Header.Set("Authorization", "Bearer "+c.key)
	}
	r, err := h.Do(req)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
		return nil, &Unreachable{Base: c.base, Err: err}
	}
	if r.StatusCode < 300 {
		return r, nil
	}
	defer r.Body.Close()
	e := &Error{}
	if err := json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(&e.Problem); err != nil || e.Detail == "" {
		e.Problem = contract.Problem{Status: r.StatusCode, Title: r.Status, Detail: "the server answered " + r.Status}
	}
	return nil, e
}

type tagKey struct{}

// OnlyIf has an edit made with ctx carried out only where the resource is still the one with a tag, as its document's Tag gives it.
// Otherwise the edit fails with status 412, and the problem says who changed what meanwhile.
func OnlyIf(ctx context.Context, tag string) context.Context {
	return context.WithValue(ctx, tagKey{}, tag)
}

// at joins path elements, each escaped.
func at(elements ...string) string {
	var b strings.Builder
	for _, e := range elements {
		b.WriteByte('/')
		b.WriteString(url.PathEscape(e))
	}
	return b.String()
}

func query(pairs ...string) string {
	v := url.Values{}
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			v.Set(pairs[i], pairs[i+1])
		}
	}
	if len(v) == 0 {
		return ""
	}
	return "?" + v.Encode()
}

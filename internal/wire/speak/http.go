package speak

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"

	"inkpost.example/inkpost/internal/core/probe"
)

const (
	webHeaders   = 64 << 10
	webPage      = 256 << 10
	webRedirects = 5
)

// speakHTTP asks a web server for a page (RFC 9110, RFC 9112; over TLS for https). A redirect is followed only to a host and port of the
// same site; anything else ends the probe.
func speakHTTP(ctx context.Context, t *attempt) (reply, error) {
	r, scheme := t.request, "http"
	if r.Kind == probe.KindHTTPS {
		scheme = "https"
	}
	host := r.Name
	if host == "" {
		host = r.Target.Addr().String()
	}
	var h reply
	shaken := make(chan reply, webRedirects+2)
	first := t.conn
	dial := func(ctx context.Context, address string) (net.Conn, error) {
		if first != nil {
			c := first
			first = nil
			return c, nil
		}
		_, port, err := net.SplitHostPort(address)
		if err != nil {
			return nil, err
		}
		n, err := strconv.ParseUint(port, 10, 16)
		if err != nil {
			return nil, err
		}
		// The name in a redirect was found to be the site's own: its address is the one that is being probed.
		return t.dial(ctx, "tcp", netip.AddrPortFrom(r.Target.Addr(), uint16(n)))
	}
	transport := &http.Transport{DisableKeepAlives: true, DisableCompression: true, MaxResponseHeaderBytes: webHeaders,
		DialContext: func(ctx context.Context, _, address string) (net.Conn, error) { return dial(ctx, address) },
		DialTLSContext: func(ctx context.Context, _, address string) (net.Conn, error) {
			c, err := dial(ctx, address)
			if err != nil {
				return nil, err
			}
			secured, with, err := t.handshake(ctx, c)
			shaken <- with
			if err != nil {
				return nil, err
			}
			return secured, nil
		}}
	defer transport.CloseIdleConnections()
	left := ""
	client := http.Client{Transport: transport, CheckRedirect: func(next *http.Request, via []*http.Request) error {
		where := next.URL.Redacted()
		switch {
		case !t.own(next.URL):
			left = where + " is not one of the site's own names and ports"
		case len(via) > webRedirects:
			left = fmt.Sprintf("there were %d redirects already", webRedirects)
		default:
			t.step("redirect", "followed to %s", where)
			return nil
		}
		t.step("redirect", "not followed to %s: %s", where, left)
		return http.ErrUseLastResponse
	}}
	target := scheme + "://" + net.JoinHostPort(host, strconv.Itoa(int(r.Target.Port()))) + "/" + strings.TrimPrefix(r.Options.Path, "/")
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, target, nil)
	if err != nil {
		return h, protocolError("no request can be made from " + target)
	}
	req.Header.Set("User-Agent", "inkpost-probe")
	t.step("send", "GET %s", target)
	resp, err := client.Do(req)
	select {
	case h = <-shaken: // of the first server: those behind a redirect are others
	default:
	}
	if err != nil {
		var strange protocolError
		var bad *url.Error
		if errors.As(err, &strange) {
			return h, strange
		}
		if errors.As(err, &bad) {
			err = bad.Err
		}
		return h, err
	}
	defer resp.Body.Close()
	page, err := io.ReadAll(io.LimitReader(resp.Body, webPage))
	server := resp.Header.Get("Server")
	t.step("receive", "%s, %d octets%s", resp.Status, len(page), map[bool]string{true: ", from " + spoken([]byte(server))}[server != ""])
	if h.fingerprint == "" && resp.StatusCode < http.StatusInternalServerError { // an error page says little of who it is
		h.fingerprint = webPrint(resp, page)
	}
	h.words = resp.Proto + " " + resp.Status
	from, to, _ := probe.StatusRange(r.Options.Status)
	switch {
	case resp.StatusCode < from || resp.StatusCode > to:
		say := fmt.Sprintf("it answers %s; %s is expected", resp.Status, orDefault(r.Options.Status, "a status below 500"))
		if left != "" {
			say += "; a redirect was not followed: " + left
		}
		return h, protocolError(say)
	case r.Options.Text != "" && !strings.Contains(string(page), r.Options.Text):
		if err != nil {
			return h, fmt.Errorf("the page ended early: %w", err)
		}
		say := fmt.Sprintf("%q is not on the page", r.Options.Text)
		if left != "" {
			say += "; a redirect was not followed: " + left
		}
		return h, protocolError(say)
	}
	if left != "" {
		h.words += ", redirects to " + spoken([]byte(resp.Header.Get("Location"))) + " (not followed)"
	}
	return h, nil
}

func (t *attempt) own(u *url.URL) bool {
	if t.request.Own == nil || u.Scheme != "http" && u.Scheme != "https" {
		return false
	}
	port := map[string]uint64{"http": 80, "https": 443}[u.Scheme]
	if u.Port() != "" {
		port, _ = strconv.ParseUint(u.Port(), 10, 16)
	}
	return t.request.Own(strings.ToLower(u.Hostname()), uint16(port))
}

func orDefault(s, instead string) string {
	if s == "" {
		return instead
	}
	return s
}

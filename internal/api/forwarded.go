package api

import (
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"
)

// Ways in which a trusted proxy says whom it speaks for. One is believed and the others are not: a proxy passes on what it does not know,
// and whoever asks could write it.
const (
	ByXForwarded = "x-forwarded" // X-Forwarded-For and X-Forwarded-Proto
	ByForwarded  = "forwarded"   // Forwarded (RFC 7239)
)

// trust is which proxies are believed, and by which header.
type trust struct {
	proxies []netip.Prefix
	header  string // ByXForwarded or ByForwarded
}

func (t trust) has(a netip.Addr) bool {
	return slices.ContainsFunc(t.proxies, func(p netip.Prefix) bool { return p.Contains(a.Unmap()) })
}

// speaker is the address that the connection comes from; ok reports whether it is a proxy that is believed.
func (t trust) speaker(r *http.Request) (host string, ok bool) {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	a, err := netip.ParseAddr(host)
	return host, err == nil && t.has(a)
}

// hops are those that a request came by, as proxies say it: the client first.
func (t trust) hops(r *http.Request) (list []hop) {
	if t.header == ByForwarded {
		for _, element := range strings.Split(strings.Join(r.Header.Values("Forwarded"), ","), ",") {
			if strings.TrimSpace(element) != "" {
				list = append(list, forwarded(element))
			}
		}
		return list
	}
	for _, address := range strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",") {
		if address = strings.TrimSpace(address); address != "" {
			list = append(list, hop{address: bare(address)})
		}
	}
	return list
}

// hop is who asked a proxy, and by which protocol.
type hop struct{ address, proto string }

// forwarded reads one element of a Forwarded header (RFC 7239 section 4). What it does not understand is empty.
func forwarded(element string) (h hop) {
	for _, pair := range strings.Split(element, ";") {
		name, value, _ := strings.Cut(strings.TrimSpace(pair), "=")
		value = strings.Trim(value, `"`)
		switch strings.ToLower(name) {
		case "for":
			h.address = bare(value)
		case "proto":
			h.proto = strings.ToLower(value)
		}
	}
	return h
}

// bare is an address without its port and brackets.
func bare(node string) string {
	if a, err := netip.ParseAddrPort(node); err == nil {
		return a.Addr().String()
	}
	return strings.Trim(node, "[]")
}

// extractor finds the address of whoever asks: that of the connection, or the last one that a believed proxy names and that is no such
// proxy itself. What stands before that one anybody can have written.
func (t trust) extractor() echo.IPExtractor {
	return func(r *http.Request) string {
		host, believed := t.speaker(r)
		if !believed {
			return host
		}
		hops := t.hops(r)
		for i := len(hops) - 1; i >= 0; i-- {
			host = hops[i].address
			if a, err := netip.ParseAddr(host); err != nil || !t.has(a) {
				break
			}
		}
		return host
	}
}

// secure reports whether the browser speaks HTTPS to a proxy that is believed.
func (t trust) secure(r *http.Request) bool {
	if _, believed := t.speaker(r); !believed {
		return false
	}
	if t.header == ByForwarded {
		hops := t.hops(r)
		for i := len(hops) - 1; i >= 0; i-- {
			if hops[i].proto != "" {
				return hops[i].proto == "https"
			}
		}
		return false
	}
	return strings.EqualFold(r.Header.Get("X-Forwarded-Proto"), "https")
}

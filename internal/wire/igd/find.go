// Package igd asks a router for its external address as a UPnP Internet Gateway Device, version 1 or 2, and is notified when that changes.
// A gateway is found by SSDP and described in XML; nothing in either may lead to another host than the one that answered, and all of it is
// bounded.
package igd

import (
	"bufio"
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"time"
)

// Group is where searches go (UPnP Device Architecture 1.3.2).
var Group = netip.AddrPortFrom(netip.MustParseAddr("239.255.255.250"), 1900)

// ErrNoAnswer reports that no gateway was found.
var ErrNoAnswer = errors.New("no gateway answers UPnP IGD")

// Limits of what is read of a gateway.
const (
	maxReply       = 2 << 10 // octets of a reply to a search
	maxReplies     = 32      // replies to one search
	maxDescription = 256 << 10
	maxDepth       = 16
	requestLimit   = 3 * time.Second
)

// Gateway is the service of a device that knows the WAN connection.
type Gateway struct {
	Host       netip.Addr
	Service    string // its type, such as urn:schemas-upnp-org:service:WANIPConnection:2
	controlURL *url.URL
	eventURL   *url.URL
}

// Version is the IGD version that the service is of.
func (g Gateway) Version() string {
	if strings.HasSuffix(g.Service, ":2") {
		return "IGD v2"
	}
	return "IGD v1"
}

var services = []string{"urn:schemas-upnp-org:service:WANIPConnection:2", "urn:schemas-upnp-org:service:WANIPConnection:1",
	"urn:schemas-upnp-org:service:WANPPPConnection:1"}

// Find searches from one local address and gives the first gateway that describes itself well. At is the group to search in, or the address
// of one host to ask. Errors: ErrNoAnswer, ErrLeadsAway, those of the network.
func Find(ctx context.Context, local netip.Addr, at netip.AddrPort) (Gateway, error) {
	conn, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(netip.AddrPortFrom(local, 0)))
	if err != nil {
		return Gateway{}, err
	}
	defer conn.Close()
	defer context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Now()) })()
	for _, version := range []int{2, 1} {
		search := fmt.Sprintf("M-SEARCH * HTTP/1.1\r\nHOST: %s\r\nMAN: \"ssdp:discover\"\r\nMX: 1\r\nST: "+
			"urn:schemas-upnp-org:device:InternetGatewayDevice:%d\r\n\r\n", at, version)
		if _, err := conn.WriteToUDPAddrPort([]byte(search), at); err != nil {
			return Gateway{}, fmt.Errorf("%w: %w", ErrNoAnswer, err)
		}
	}
	until := time.Now().Add(requestLimit)
	if d, ok := ctx.Deadline(); ok && d.Before(until) {
		until = d
	}
	_ = conn.SetReadDeadline(until)
	buffer := make([]byte, maxReply)
	tried := map[string]bool{}
	err = ErrNoAnswer
	for range maxReplies {
		n, from, readErr := conn.ReadFromUDPAddrPort(buffer)
		if readErr != nil {
			break
		}
		location, ok := readReply(buffer[:n], from.Addr().Unmap())
		if !ok || tried[location.String()] {
			continue
		}
		tried[location.String()] = true
		g, describeErr := describe(ctx, location, from.Addr().Unmap())
		if describeErr == nil {
			return g, nil
		}
		err = describeErr
	}
	return Gateway{}, err
}

// readReply parses a reply to a search: it names where the description is, which has to be on the host that replied.
func readReply(packet []byte, from netip.Addr) (*url.URL, bool) {
	r, err := http.ReadResponse(bufio.NewReader(bytes.NewReader(packet)), nil)
	if err != nil || r.StatusCode != http.StatusOK {
		return nil, false
	}
	_ = r.Body.Close()
	if !strings.HasPrefix(r.Header.Get("ST"), "urn:schemas-upnp-org:device:InternetGatewayDevice:") {
		return nil, false
	}
	at, err := url.Parse(r.Header.Get("LOCATION"))
	if err != nil || !onHost(at, from) {
		return nil, false
	}
	return at, true
}

// onHost reports whether a URL is plain HTTP on one host, given by its address.
func onHost(at *url.URL, host netip.Addr) bool {
	a, err := netip.ParseAddr(at.Hostname())
	return err == nil && at.Scheme == "http" && at.User == nil && a.Unmap().WithZone("") == host.WithZone("")
}

// ErrLeadsAway reports a gateway whose description leads to another host.
var ErrLeadsAway = errors.New("the gateway's description leads to another host, and is not followed")

// plain follows no redirect and uses no proxy.
func plain() *http.Client {
	return &http.Client{Timeout: requestLimit, Transport: &http.Transport{DisableKeepAlives: true, Proxy: nil},
		CheckRedirect: func(*http.Request, []*http.Request) error { return ErrLeadsAway }}
}

func describe(ctx context.Context, location *url.URL, host netip.Addr) (Gateway, error) {
	body, err := get(ctx, location)
	if err != nil {
		return Gateway{}, err
	}
	return readDescription(body, location, host)
}

func get(ctx context.Context, at *url.URL) ([]byte, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, at.String(), nil)
	if err != nil {
		return nil, err
	}
	r, err := plain().Do(req)
	if err != nil {
		return nil, err
	}
	defer r.Body.Close()
	if r.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the gateway's description: HTTP %d", r.StatusCode)
	}
	return bounded(r.Body)
}

func bounded(r io.Reader) ([]byte, error) {
	body, err := io.ReadAll(io.LimitReader(r, maxDescription+1))
	if err != nil {
		return nil, err
	}
	if len(body) > maxDescription {
		return nil, fmt.Errorf("the gateway sends more than %d KiB of XML; that is not read", maxDescription>>10)
	}
	return body, nil
}

// readDescription finds the service that knows the WAN connection. The newest version is taken.
func readDescription(doc []byte, base *url.URL, host netip.Addr) (Gateway, error) {
	found := map[string]Gateway{}
	var leads error
	err := elements(doc, func(path []string, fields map[string]string) {
		if path[len(path)-1] != "service" {
			return
		}
		kind := fields["serviceType"]
		control, err := base.Parse(fields["controlURL"])
		if err != nil || fields["controlURL"] == "" {
			return
		}
		if !onHost(control, host) {
			leads = ErrLeadsAway
			return
		}
		g := Gateway{Host: host, Service: kind, controlURL: control}
		if event, err := base.Parse(fields["eventSubURL"]); err == nil && fields["eventSubURL"] != "" && onHost(event, host) {
			g.eventURL = event
		}
		if _, there := found[kind]; !there {
			found[kind] = g
		}
	})
	if err != nil {
		return Gateway{}, err
	}
	for _, kind := range services {
		if g, ok := found[kind]; ok {
			return g, nil
		}
	}
	if leads != nil {
		return Gateway{}, leads
	}
	return Gateway{}, errors.New("the gateway describes no WAN connection")
}

// elements walks XML and gives, at the end of each element, its path and the text of its children. A document type is refused: it
// is where entities come from, and no gateway needs one.
func elements(doc []byte, visit func(path []string, fields map[string]string)) error {
	d := xml.NewDecoder(bytes.NewReader(doc))
	d.Entity = map[string]string{}
	var path []string
	var fields []map[string]string
	var text strings.Builder
	for {
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("the gateway's XML: %w", err)
		}
		switch t := t.(type) {
		case xml.Directive:
			return errors.New("the gateway's XML has a document type; that is not read")
		case xml.StartElement:
			if len(path) >= maxDepth {
				return fmt.Errorf("the gateway's XML is nested more than %d deep; that is not read", maxDepth)
			}
			path, fields = append(path, t.Name.Local), append(fields, map[string]string{})
			text.Reset()
		case xml.CharData:
			text.Write(t)
		case xml.EndElement:
			last := len(path) - 1
			visit(path, fields[last])
			name := path[last]
			path, fields = path[:last], fields[:last]
			if last > 0 {
				fields[last-1][name] = strings.TrimSpace(text.String())
			}
			text.Reset()
		}
	}
}

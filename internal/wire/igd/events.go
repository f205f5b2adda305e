package igd

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"time"
)

// subscribedFor is how long a subscription lasts; it is renewed at half of that (UPnP Device Architecture 4.1).
const subscribedFor = 30 * time.Minute

// Notice is what a gateway announces of its WAN connection. Gateways also send one for each mapping that comes or goes, with the address
// unchanged.
type Notice struct {
	External netip.Addr // zero if it names none
	Status   string     // of the connection, such as Connected; "" if it does not say
}

// Watch has the gateway tell of changes and calls heard for each, until ctx ends or the gateway no longer takes the subscription. What the
// gateway says is a hint only: whoever is told compares it with what is known, and asks. Error: why it cannot listen or subscribe; that of
// ctx when it ends.
func (g Gateway) Watch(ctx context.Context, local netip.Addr, heard func(Notice)) error {
	if g.eventURL == nil {
		return errors.New("the gateway does not report changes")
	}
	listener, err := net.ListenTCP("tcp", net.TCPAddrFromAddrPort(netip.AddrPortFrom(local, 0)))
	if err != nil {
		return err
	}
	notices := http.Server{ReadTimeout: requestLimit, WriteTimeout: requestLimit, MaxHeaderBytes: 8 << 10,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			from, err := netip.ParseAddrPort(r.RemoteAddr)
			if r.Method != "NOTIFY" || err != nil || from.Addr().Unmap() != g.Host {
				w.WriteHeader(http.StatusForbidden)
				return
			}
			body, err := bounded(r.Body)
			if err != nil {
				w.WriteHeader(http.StatusRequestEntityTooLarge)
				return
			}
			if n, ok := readNotice(body); ok {
				heard(n)
			}
		})}
	defer notices.Close()
	go func() { _ = notices.Serve(listener) }()
	callback := "http://" + listener.Addr().String() + "/"
	id, err := g.subscribe(ctx, "", callback)
	if err != nil {
		return err
	}
	defer g.unsubscribe(id)
	renew := time.NewTicker(subscribedFor / 2)
	defer renew.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-renew.C:
			if id, err = g.subscribe(ctx, id, callback); err != nil {
				return err
			}
		}
	}
}

// readNotice parses a notice. ok is false if it speaks neither of the external address nor of the connection's state.
func readNotice(body []byte) (n Notice, ok bool) {
	_ = elements(body, func(_ []string, fields map[string]string) {
		if text, there := fields["ExternalIPAddress"]; there {
			n.External, _ = netip.ParseAddr(text)
			ok = true
		}
		if text, there := fields["ConnectionStatus"]; there {
			n.Status, ok = text, true
		}
	})
	return n, ok
}

func (g Gateway) subscribe(ctx context.Context, id, callback string) (string, error) {
	req, err := http.NewRequestWithContext(ctx, "SUBSCRIBE", g.eventURL.String(), nil)
	if err != nil {
		return "", err
	}
	req.Header.Set("TIMEOUT", fmt.Sprintf("Second-%d", int(subscribedFor.Seconds())))
	if id != "" {
		req.Header.Set("SID", id)
	} else {
		req.Header.Set("CALLBACK", "<"+callback+">")
		req.Header.Set("NT", "upnp:event")
	}
	r, err := plain().Do(req)
	if err != nil {
		return "", err
	}
	_ = r.Body.Close()
	if r.StatusCode != http.StatusOK || !strings.HasPrefix(r.Header.Get("SID"), "uuid:") {
		return "", fmt.Errorf("the gateway refuses the subscription: HTTP %d", r.StatusCode)
	}
	return r.Header.Get("SID"), nil
}

func (g Gateway) unsubscribe(id string) {
	ctx, cancel := context.WithTimeout(context.Background(), requestLimit)
	defer cancel()
	if req, err := http.NewRequestWithContext(ctx, "UNSUBSCRIBE", g.eventURL.String(), nil); err == nil {
		req.Header.Set("SID", id)
		if r, err := plain().Do(req); err == nil {
			_ = r.Body.Close()
		}
	}
}

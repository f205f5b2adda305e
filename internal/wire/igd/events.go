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

// Watch has the gateway tell of changes and calls changed for each, until ctx ends or the gateway no longer takes the
// subscription. What the gateway says is a hint only: whoever is told asks again.
func (g Gateway) Watch(ctx context.Context, local netip.Addr, changed func()) error {
	if g.eventURL == nil {
		return errors.New("the gateway tells of no changes")
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
			if tells(body) {
				changed()
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

// tells says whether a notice speaks of the external address or the connection's state.
func tells(body []byte) (yes bool) {
	_ = elements(body, func(_ []string, fields map[string]string) {
		_, address := fields["ExternalIPAddress"]
		_, status := fields["ConnectionStatus"]
		yes = yes || address || status
	})
	return yes
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
		return "", fmt.Errorf("the gateway takes no subscription: HTTP %d", r.StatusCode)
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

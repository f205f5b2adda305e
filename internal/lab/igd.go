package lab

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"
)

// plug is the UPnP IGD side of a simulated router: it is found by a search at its LAN address, tells its WAN address, and tells
// whoever subscribed when that changes.
type plug struct {
	search   *net.UDPConn
	server   *http.Server
	at       netip.Addr
	external func() netip.Addr

	mu        sync.Mutex
	callbacks map[string]string // by subscription
	next      int
}

const plugDescription = `<?xml version="1.0"?><root xmlns="urn:schemas-upnp-org:device-1-0"><device><serviceList><service>` +
	`<serviceType>urn:schemas-upnp-org:service:WANIPConnection:1</serviceType><controlURL>/control</controlURL>` +
	`<eventSubURL>/events</eventSubURL>` +
	`</service></serviceList></device></root>`

func openPlug(at netip.Addr, external func() netip.Addr) (*plug, error) {
	search, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(at, 1900)))
	if err != nil {
		return nil, fmt.Errorf("the router's UPnP: %w", err)
	}
	l, err := net.Listen("tcp4", netip.AddrPortFrom(at, 0).String())
	if err != nil {
		_ = search.Close()
		return nil, fmt.Errorf("the router's UPnP: %w", err)
	}
	p := &plug{search: search, at: at, external: external, callbacks: map[string]string{}}
	mux := http.NewServeMux()
	mux.HandleFunc("/description.xml", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(plugDescription)) })
	mux.HandleFunc("/control", func(w http.ResponseWriter, _ *http.Request) {
		_, _ = fmt.Fprintf(w, `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body>`+
			`<u:GetExternalIPAddressResponse xmlns:u="urn:schemas-upnp-org:service:WANIPConnection:1">`+
			`<NewExternalIPAddress>%s</NewExternalIPAddress></u:GetExternalIPAddressResponse></s:Body></s:Envelope>`, external())
	})
	mux.HandleFunc("/events", p.subscribe)
	p.server = &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	go func() { _ = p.server.Serve(l) }()
	location := "http://" + l.Addr().String() + "/description.xml"
	go func() {
		buffer := make([]byte, 1500)
		for {
			n, from, err := search.ReadFromUDPAddrPort(buffer)
			if err != nil {
				return
			}
			if strings.HasPrefix(string(buffer[:n]), "M-SEARCH") {
				_, _ = search.WriteToUDPAddrPort([]byte("HTTP/1.1 200 OK\r\nST: "+
					"urn:schemas-upnp-org:device:InternetGatewayDevice:1\r\nLOCATION: "+location+"\r\n\r\n"), from)
			}
		}
	}()
	return p, nil
}

func (p *plug) subscribe(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch id := r.Header.Get("SID"); {
	case r.Method == "SUBSCRIBE" && id == "":
		p.next++
		id = fmt.Sprintf("uuid:%d", p.next)
		p.callbacks[id] = strings.Trim(r.Header.Get("CALLBACK"), "<>")
		w.Header().Set("SID", id)
	case r.Method == "SUBSCRIBE":
		w.Header().Set("SID", id)
	case r.Method == "UNSUBSCRIBE":
		delete(p.callbacks, id)
	default:
		w.WriteHeader(http.StatusMethodNotAllowed)
	}
}

// tell tells whoever subscribed of the WAN address.
func (p *plug) tell() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for id, at := range p.callbacks {
		body := fmt.Sprintf(`<e:propertyset xmlns:e="urn:schemas-upnp-org:event-1-0"><e:property>`+
			`<ExternalIPAddress>%s</ExternalIPAddress></e:property></e:propertyset>`, p.external())
		go func() {
			ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
			defer cancel()
			req, err := http.NewRequestWithContext(ctx, "NOTIFY", at, strings.NewReader(body))
			if err != nil {
				return
			}
			req.Header.Set("SID", id)
			d := net.Dialer{LocalAddr: &net.TCPAddr{IP: p.at.AsSlice()}}
			c := http.Client{Transport: &http.Transport{DialContext: d.DialContext, DisableKeepAlives: true}}
			if res, err := c.Do(req); err == nil {
				_ = res.Body.Close()
			}
		}()
	}
}

func (p *plug) close() {
	_ = p.search.Close()
	_ = p.server.Close()
}

package lab

import (
	"context"
	"encoding/xml"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
)

// plug is the UPnP IGD side of a simulated router: it is found by a search at its LAN address, tells its WAN address, and tells
// whoever subscribed when that changes.
type plug struct {
	search   *net.UDPConn
	server   *http.Server
	at       netip.Addr
	external func() netip.Addr
	lists    func(door) (netip.AddrPort, bool)
	began    time.Time

	mu        sync.Mutex
	callbacks map[string]string // by subscription
	next      int
}

const plugDescription = `<?xml version="1.0"?><root xmlns="urn:schemas-upnp-org:device-1-0"><device><serviceList><service>` +
	`<serviceType>urn:schemas-upnp-org:service:WANIPConnection:1</serviceType><controlURL>/control</controlURL>` +
	`<eventSubURL>/events</eventSubURL>` +
	`</service></serviceList></device></root>`

func openPlug(at netip.Addr, external func() netip.Addr, lists func(door) (netip.AddrPort, bool)) (*plug, error) {
	search, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(at, 1900)))
	if err != nil {
		return nil, fmt.Errorf("the router's UPnP: %w", err)
	}
	l, err := net.Listen("tcp4", netip.AddrPortFrom(at, 0).String())
	if err != nil {
		_ = search.Close()
		return nil, fmt.Errorf("the router's UPnP: %w", err)
	}
	p := &plug{search: search, at: at, external: external, lists: lists, began: time.Now(), callbacks: map[string]string{}}
	mux := http.NewServeMux()
	mux.HandleFunc("/description.xml", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(plugDescription)) })
	mux.HandleFunc("/control", p.control)
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

// control carries out an action. The router lists what a person has entered; mappings that machines ask for are switched off.
func (p *plug) control(w http.ResponseWriter, r *http.Request) {
	_, action, _ := strings.Cut(strings.Trim(r.Header.Get("SOAPAction"), `"`), "#")
	answer := func(fields string) {
		_, _ = fmt.Fprintf(w, `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><u:%sResponse `+
			`xmlns:u="urn:schemas-upnp-org:service:WANIPConnection:1">%s</u:%sResponse></s:Body></s:Envelope>`, action, fields, action)
	}
	refuse := func(code int, words string) {
		w.WriteHeader(http.StatusInternalServerError)
		_, _ = fmt.Fprintf(w, `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><s:Fault><detail><UPnPError>`+
			`<errorCode>%d</errorCode><errorDescription>%s</errorDescription></UPnPError></detail></s:Fault></s:Body></s:Envelope>`,
			code, words)
	}
	switch action {
	case "GetExternalIPAddress":
		answer(fmt.Sprintf("<NewExternalIPAddress>%s</NewExternalIPAddress>", p.external()))
	case "GetStatusInfo":
		answer("<NewConnectionStatus>Connected</NewConnectionStatus><NewLastConnectionError>ERROR_NONE</NewLastConnectionError>" +
			fmt.Sprintf("<NewUptime>%d</NewUptime>", int(time.Since(p.began).Seconds())))
	case "GetSpecificPortMappingEntry":
		var in struct {
			Port      uint16 `xml:"Body>GetSpecificPortMappingEntry>NewExternalPort"`
			Transport string `xml:"Body>GetSpecificPortMappingEntry>NewProtocol"`
		}
		if err := xml.NewDecoder(io.LimitReader(r.Body, 4<<10)).Decode(&in); err != nil {
			refuse(402, "Invalid Args")
			return
		}
		to, ok := p.lists(door{probe.Transport(strings.ToLower(in.Transport)), in.Port})
		if !ok {
			refuse(714, "NoSuchEntryInArray")
			return
		}
		answer(fmt.Sprintf("<NewInternalPort>%d</NewInternalPort><NewInternalClient>%s</NewInternalClient><NewEnabled>1</NewEnabled>"+
			"<NewPortMappingDescription></NewPortMappingDescription><NewLeaseDuration>0</NewLeaseDuration>", to.Port(), to.Addr()))
	case "AddPortMapping":
		refuse(606, "Action not authorized")
	default:
		refuse(401, "Invalid Action")
	}
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

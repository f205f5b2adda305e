package igd

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

const description = `<?xml version="1.0"?><root xmlns="urn:schemas-upnp-org:device-1-0"><device><deviceList><device><deviceList>` +
	`<device><serviceList>
<service><serviceType>urn:schemas-upnp-org:service:WANIPConnection:1</serviceType><controlURL>/one</controlURL>` +
	`<eventSubURL>/events</eventSubURL></service>
<service><serviceType>urn:schemas-upnp-org:service:WANIPConnection:2</serviceType><controlURL>/two</controlURL>` +
	`<eventSubURL>/events</eventSubURL></service>
</serviceList></device></deviceList></device></deviceList></device></root>`

// router is a gateway that answers searches, on loopback.
type router struct {
	external atomic.Value
	callback chan string
	search   netip.AddrPort
	http     *httptest.Server
}

func newRouter(t *testing.T, describe http.HandlerFunc) *router {
	t.Helper()
	r := &router{callback: make(chan string, 4)}
	r.external.Store("198.51.100.7")
	mux := http.NewServeMux()
	if describe == nil {
		describe = func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(description)) }
	}
	mux.HandleFunc("/description.xml", describe)
	mux.HandleFunc("/two", func(w http.ResponseWriter, req *http.Request) {
		if !strings.HasSuffix(req.Header.Get("SOAPAction"), `WANIPConnection:2#GetExternalIPAddress"`) {
			w.WriteHeader(http.StatusInternalServerError)
			return
		}
		_, _ = fmt.Fprintf(w, `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body>`+
			`<u:GetExternalIPAddressResponse xmlns:u="x"><NewExternalIPAddress>%s</NewExternalIPAddress>`+
			`</u:GetExternalIPAddressResponse></s:Body></s:Envelope>`, r.external.Load())
	})
	mux.HandleFunc("/events", func(w http.ResponseWriter, req *http.Request) {
		if req.Method == "SUBSCRIBE" {
			r.callback <- strings.Trim(req.Header.Get("CALLBACK"), "<>")
			w.Header().Set("SID", "uuid:1")
		}
	})
	r.http = httptest.NewServer(mux)
	t.Cleanup(r.http.Close)
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close() })
	r.search = conn.LocalAddr().(*net.UDPAddr).AddrPort()
	go func() {
		buffer := make([]byte, 1500)
		for {
			n, from, err := conn.ReadFromUDPAddrPort(buffer)
			if err != nil {
				return
			}
			if !strings.HasPrefix(string(buffer[:n]), "M-SEARCH") {
				continue
			}
			for _, reply := range []string{"rubbish",
				"HTTP/1.1 200 OK\r\nST: upnp:rootdevice\r\nLOCATION: " + r.http.URL + "/description.xml\r\n\r\n",
				"HTTP/1.1 200 OK\r\nST: urn:schemas-upnp-org:device:InternetGatewayDevice:1\r\nLOCATION: " +
					"http://203.0.113.9/description.xml\r\n\r\n",
				"HTTP/1.1 200 OK\r\nST: urn:schemas-upnp-org:device:InternetGatewayDevice:1\r\nLOCATION: " + r.http.URL +
					"/description.xml\r\n\r\n"} {
				_, _ = conn.WriteToUDPAddrPort([]byte(reply), from)
			}
		}
	}()
	return r
}

var loopback = netip.MustParseAddr("127.0.0.1")

func TestAGatewayIsFoundAskedAndHeard(t *testing.T) {
	r := newRouter(t, nil)
	g, err := Find(t.Context(), loopback, r.search)
	require.NoError(t, err)
	require.Equal(t, "IGD v2", g.Version(), "the newest version is taken")
	a, err := g.External(t.Context())
	require.NoError(t, err)
	require.Equal(t, "198.51.100.7", a.String())
	for said, words := range map[string]string{"": "not connected", "198.51.100": "is not an address", "<b/>": "not connected"} {
		r.external.Store(said)
		_, err = g.External(t.Context())
		require.ErrorContains(t, err, words)
	}
	changed := make(chan Notice, 4)
	go func() { _ = g.Watch(t.Context(), loopback, func(n Notice) { changed <- n }) }()
	callback := <-r.callback
	notify := func(body string) int {
		req, err := http.NewRequest("NOTIFY", callback, strings.NewReader(body))
		require.NoError(t, err)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		return res.StatusCode
	}
	require.Equal(t, 200, notify(`<e:propertyset xmlns:e="x"><e:property>`+
		`<PortMappingNumberOfEntries>1</PortMappingNumberOfEntries></e:property></e:propertyset>`))
	require.Empty(t, changed)
	require.Equal(t, 200, notify(`<e:propertyset xmlns:e="x"><e:property><ExternalIPAddress>198.51.100.8</ExternalIPAddress>`+
		`</e:property></e:propertyset>`))
	select {
	case n := <-changed:
		require.Equal(t, Notice{External: netip.MustParseAddr("198.51.100.8")}, n)
	case <-time.After(2 * time.Second):
		t.Fatal("a notice of another address is not passed on")
	}
	require.Equal(t, http.StatusRequestEntityTooLarge, notify(strings.Repeat("x", maxDescription+1)))
}

func TestAGatewayLeadsNowhereElse(t *testing.T) {
	huge := strings.Replace(description, "<device>", "<device><!--"+strings.Repeat("x", maxDescription)+"-->", 1)
	for name, c := range map[string]struct {
		describe http.HandlerFunc
		words    string
	}{
		"a redirect to another host": {func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://203.0.113.9/description.xml", http.StatusFound)
		}, "leads to another host"},
		"a control address on another host": {func(w http.ResponseWriter, _ *http.Request) {
			_, _ = w.Write([]byte(strings.NewReplacer("/one", "http://203.0.113.9/one", "/two",
				"http://203.0.113.9/two").Replace(description)))
		}, "leads to another host"},
		"an external entity": {func(w http.ResponseWriter, _ *http.Request) {
			_, _ = w.Write([]byte(`<!DOCTYPE r [<!ENTITY x SYSTEM "file:///etc/passwd">]>` +
				strings.Replace(description, "/two", "&x;", 1)))
		}, "document type"},
		"an entity without a document type": {func(w http.ResponseWriter, _ *http.Request) {
			_, _ = w.Write([]byte(strings.Replace(description, "/two", "&x;", 1)))
		}, "the gateway's XML"},
		"huge XML": {func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(huge)) }, "KiB of XML"},
		"deep XML": {func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(strings.Repeat("<a>", 1000))) },
			"nested more than"},
		"no WAN":   {func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("<root/>")) }, "no WAN connection"},
		"an error": {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNotFound) }, "HTTP 404"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel() // each waits for what else might be there
			r := newRouter(t, c.describe)
			ctx, cancel := context.WithTimeout(t.Context(), 1500*time.Millisecond)
			defer cancel()
			_, err := Find(ctx, loopback, r.search)
			require.ErrorContains(t, err, c.words)
		})
	}
}

func FuzzDescription(f *testing.F) {
	f.Add([]byte(description))
	f.Add([]byte(`<a><b/></a>`))
	base, err := url.Parse("http://192.0.2.1/d.xml")
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, doc []byte) {
		if g, err := readDescription(doc, base, netip.MustParseAddr("192.0.2.1")); err == nil {
			require.Equal(t, "192.0.2.1", g.controlURL.Hostname())
		}
		_, _ = readAnswer("GetExternalIPAddress", doc, 200)
		_, _ = readReply(doc, netip.MustParseAddr("192.0.2.1"))
		_, _ = readNotice(doc)
	})
}

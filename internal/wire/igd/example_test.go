package igd_test

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"

	"inkpost.example/inkpost/internal/wire/igd"
)

// A gateway is found by a search, describes itself in XML, and tells its external address.
func Example() {
	router := http.NewServeMux()
	router.HandleFunc("/description.xml", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, `<root><device><serviceList><service><serviceType>urn:schemas-upnp-org:service:WANIPConnection:1</serviceType>
			<controlURL>/control</controlURL></service></serviceList></device></root>`)
	})
	router.HandleFunc("/control", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, `<Envelope><Body><GetExternalIPAddressResponse><NewExternalIPAddress>198.51.100.7</NewExternalIPAddress>
			</GetExternalIPAddressResponse></Body></Envelope>`)
	})
	page := httptest.NewServer(router)
	defer page.Close()
	search, err := net.ListenPacket("udp4", "127.0.0.1:0")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer search.Close()
	go func() {
		question := make([]byte, 1500)
		if _, from, err := search.ReadFrom(question); err == nil {
			_, _ = search.WriteTo([]byte("HTTP/1.1 200 OK\r\nST: urn:schemas-upnp-org:device:InternetGatewayDevice:1\r\n"+
				"LOCATION: "+page.URL+"/description.xml\r\n\r\n"), from)
		}
	}()

	ctx := context.Background()
	gateway, err := igd.Find(ctx, netip.MustParseAddr("127.0.0.1"), netip.MustParseAddrPort(search.LocalAddr().String()))
	if err != nil {
		fmt.Println(err)
		return
	}
	external, err := gateway.External(ctx)
	fmt.Println(gateway.Version(), external, err)
	// Output: IGD v1 198.51.100.7 <nil>
}

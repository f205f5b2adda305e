package pcp_test

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"

	"inkpost.example/inkpost/internal/wire/pcp"
)

// A gateway that has run out of room refuses in words (RFC 6887 section 7.4).
func ExampleOpen() {
	gateway, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer gateway.Close()
	go func() {
		request := make([]byte, 1100)
		n, from, err := gateway.ReadFrom(request)
		if err == nil {
			request[1] |= 0x80 // an answer
			request[3] = 8     // NO_RESOURCES
			_, _ = gateway.WriteTo(request[:n], from)
		}
	}()

	ctx := context.Background()
	dial := func(ctx context.Context, network, address string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, address)
	}
	mapping, err := pcp.Open(ctx, dial, "udp4", netip.MustParseAddrPort(gateway.LocalAddr().String()))
	if err != nil {
		fmt.Println(err)
		return
	}
	defer mapping.Close()
	_, _, err = mapping.External(ctx)
	var refused pcp.Refused
	fmt.Println(errors.As(err, &refused), err)
	// Output: true PCP: it is out of resources
}

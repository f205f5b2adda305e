package stun_test

import (
	"context"
	"fmt"
	"net"

	"inkpost.example/inkpost/internal/wire/stun"
)

// A responder says where a question comes from (RFC 8489 section 14.2).
func ExampleAsk() {
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	responder, err := stun.Listen("127.0.0.1:0")
	if err != nil {
		fmt.Println(err)
		return
	}
	go func() { _ = responder.Serve(ctx) }()
	at, err := stun.Ask(ctx, (&net.Dialer{}).DialContext, "udp4", responder.Addr(), stun.Credential{})
	fmt.Println(at.Addr(), err)
	// Output: 127.0.0.1 <nil>
}

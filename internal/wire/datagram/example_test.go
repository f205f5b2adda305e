package datagram_test

import (
	"context"
	"fmt"
	"net"
	"time"

	"inkpost.example/inkpost/internal/wire/datagram"
)

// The first packet is lost: the question is asked again.
func ExampleAsk() {
	server, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer server.Close()
	go func() {
		question := make([]byte, 100)
		for heard := 1; ; heard++ {
			_, from, err := server.ReadFrom(question)
			if err != nil {
				return
			}
			if heard == 2 {
				_, _ = server.WriteTo([]byte("noon"), from)
			}
		}
	}()

	conn, err := net.Dial("udp", server.LocalAddr().String())
	if err != nil {
		fmt.Println(err)
		return
	}
	defer conn.Close()
	err = datagram.Ask(context.Background(), conn, []byte("time?"), 20*time.Millisecond, 6, func(packet []byte) (bool, error) {
		fmt.Println(string(packet))
		return true, nil
	})
	fmt.Println(err)
	// Output:
	// noon
	// <nil>
}

package speak_test

import (
	"context"
	"fmt"
	"net"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/wire/speak"
)

// An attempt says what was heard; the core says what that means.
func ExampleTo() {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer l.Close()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			_, _ = fmt.Fprint(conn, "SSH-2.0-harbour\r\n")
			_ = conn.Close()
		}
	}()
	reply := speak.To(context.Background(), speak.Request{Kind: probe.KindTCP, Transport: probe.TCP,
		Target: l.Addr().(*net.TCPAddr).AddrPort(), Deadline: time.Second})
	fmt.Println(probe.Judge(reply.Result, ""))
	// Output: opened
}

package dnsask_test

import (
	"context"
	"fmt"
	"net"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/wire/dnsask"
)

// A name server is asked for both families at once.
func ExampleAddresses() {
	socket, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		fmt.Println(err)
		return
	}
	started := make(chan struct{})
	server := &dns.Server{PacketConn: socket, NotifyStartedFunc: func() { close(started) },
		Handler: dns.HandlerFunc(func(w dns.ResponseWriter, m *dns.Msg) {
			reply := new(dns.Msg).SetReply(m)
			if m.Question[0].Qtype == dns.TypeA {
				a, _ := dns.NewRR(m.Question[0].Name + " 30 A 198.51.100.7")
				reply.Answer = []dns.RR{a}
			}
			_ = w.WriteMsg(reply)
		})}
	go func() { _ = server.ActivateAndServe() }()
	<-started
	defer func() { _ = server.Shutdown() }()

	pair, err := dnsask.Addresses(context.Background(), socket.LocalAddr().String(), dnsask.Authoritative, "ket-07.isles.saltmarsh.example")
	fmt.Println(pair, err)
	// Output: 198.51.100.7 <nil>
}

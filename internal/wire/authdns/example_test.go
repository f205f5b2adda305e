package authdns_test

import (
	"context"
	"fmt"
	"log/slog"
	"net"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/wire/authdns"
	"inkpost.example/inkpost/internal/wire/dnsask"
)

// A zone's content can change while it is answered.
func ExampleListen() {
	soa := &dns.SOA{Hdr: dns.RR_Header{Name: "isles.saltmarsh.example.", Rrtype: dns.TypeSOA, Class: dns.ClassINET, Ttl: 300},
		Ns: "ns1.saltmarsh.example.", Mbox: "hostmaster.saltmarsh.example.", Serial: 1}
	address, err := authdns.NewRRset(&dns.A{Hdr: dns.RR_Header{Name: "ket-07.isles.saltmarsh.example.", Rrtype: dns.TypeA,
		Class: dns.ClassINET, Ttl: 60}, A: net.IPv4(198, 51, 100, 7)})
	if err != nil {
		fmt.Println(err)
		return
	}
	zone, err := authdns.NewZone(soa, authdns.Names{"ket-07.isles.saltmarsh.example.": {address}})
	if err != nil {
		fmt.Println(err)
		return
	}
	directory := &authdns.Directory{}
	directory.Put(zone)
	server, err := authdns.Listen("127.0.0.1:0", directory, slog.New(slog.DiscardHandler))
	if err != nil {
		fmt.Println(err)
		return
	}
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	go func() { _ = server.Serve(ctx) }()
	answer, err := dnsask.Addresses(ctx, server.Addr(), dnsask.Authoritative, "ket-07.isles.saltmarsh.example")
	fmt.Println(answer, err)
	// Output: 198.51.100.7 <nil>
}

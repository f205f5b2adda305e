package site_test

import (
	"fmt"
	"net/netip"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
)

func ExampleParsePorts() {
	from, to, err := site.ParsePorts("8443-8445")
	fmt.Println(from, to, err, site.Ports(from, to))
	// Output: 8443 8445 <nil> 8443-8445
}

// A card says what to type into which box of the router.
func ExampleCards() {
	service := site.Service{Name: "page", Transport: probe.TCP, ExternalFrom: 8443, ExternalTo: 8443, InternalFrom: 443}
	device := site.Device{Name: "recorder", Address: netip.MustParseAddr("192.168.7.20")}
	for _, card := range site.Cards(service, device, site.Link{}, wan.NAT{}) {
		fmt.Println(card.Title)
		for _, f := range card.Fields {
			fmt.Printf("%s: %s\n", f.Label, f.Value)
		}
	}
	// Output:
	// Port forward
	// Name: page
	// Protocol: TCP
	// External port: 8443
	// Internal address: 192.168.7.20
	// Internal port: 443
	// From: any address
}

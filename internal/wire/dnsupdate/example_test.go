package dnsupdate_test

import (
	"fmt"
	"strings"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/wire/dnsupdate"
)

func ExampleCompose() {
	name := names.Name("ket-07.isles.saltmarsh.example")
	update, err := dnsupdate.Compose("isles.saltmarsh.example", name, nil,
		[]names.Record{{Name: name, Type: "A", TTL: 60, Data: "198.51.100.7"}})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, rr := range update.Ns {
		fmt.Println(strings.Join(strings.Fields(rr.String()), " "))
	}
	// Output:
	// ket-07.isles.saltmarsh.example. 0 CLASS255 A
	// ket-07.isles.saltmarsh.example. 60 IN A 198.51.100.7
}

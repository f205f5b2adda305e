package zonefile_test

import (
	"fmt"
	"strings"

	"inkpost.example/inkpost/internal/wire/zonefile"
)

func ExampleRead() {
	file, err := zonefile.Read(strings.NewReader("$TTL 300\nket-07 IN A 198.51.100.7\nmuseum IN CNAME ket-07\n"), "isles.saltmarsh.example")
	for _, r := range file.Records {
		fmt.Println(r.Name, r.TTL, r.Type, r.Data)
	}
	fmt.Println(err)
	// Output:
	// ket-07.isles.saltmarsh.example 300 A 198.51.100.7
	// museum.isles.saltmarsh.example 300 CNAME ket-07.isles.saltmarsh.example.
	// <nil>
}

// An error says where it is.
func ExampleFault() {
	_, err := zonefile.Read(strings.NewReader("$TTL 300\nket-07 IN A 198.51.100.700\n"), "isles.saltmarsh.example")
	fmt.Println(err)
	// Output: line 2, column 13: bad A A: "198.51.100.700"
}

package natpmp_test

import (
	"fmt"

	"inkpost.example/inkpost/internal/wire/natpmp"
)

// What a gateway answers is read without a network, too (RFC 6886 section 3.2).
func ExampleRead() {
	external, epoch, err := natpmp.Read([]byte{0, 128, 0, 0, 0, 0, 1, 44, 198, 51, 100, 7})
	fmt.Println(external, epoch, err)
	// Output: 198.51.100.7 300 <nil>
}

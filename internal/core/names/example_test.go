package names_test

import (
	"fmt"

	"inkpost.example/inkpost/internal/core/names"
)

func ExampleParse() {
	name, err := names.Parse("KET-07.Isles.Saltmarsh.Example.")
	fmt.Println(name, err)
	// Output: ket-07.isles.saltmarsh.example <nil>
}

func ExampleZoneFor() {
	zone, ok := names.ZoneFor("ket-07.isles.saltmarsh.example", []names.Name{"saltmarsh.example", "isles.saltmarsh.example"})
	fmt.Println(zone, ok)
	// Output: isles.saltmarsh.example true
}

// Serials count in a circle (RFC 1982): after the largest comes the smallest.
func ExampleNextSerial() {
	last := names.NextSerial(4294967294)
	fmt.Println(last, names.SerialAfter(1, last))
	// Output: 4294967295 true
}

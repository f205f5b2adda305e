package pace_test

import (
	"fmt"
	"time"

	"inkpost.example/inkpost/internal/core/pace"
)

func ExampleLength() {
	fmt.Println(pace.Length(1300*time.Microsecond), pace.Length(90*time.Second), pace.Length(36*time.Hour))
	// Output: 1.3 ms 90 s 36 h
}

// The wait doubles from try to try, up to a bound. The spread, from 0 to 1, keeps many who wait apart.
func ExampleBackoff() {
	for n := range 4 {
		fmt.Println(pace.Backoff(n, time.Second, 5*time.Second, 1))
	}
	// Output:
	// 500ms
	// 1s
	// 2s
	// 2.5s
}

// Package bench measures: answering, announcing, probing. Everything is compared in one run with a bare peer on the same machine, and
// reported as a ratio: machines are noisy.
//
//	go test -run xxx -bench . ./bench
//	make bench-peers
//	go run ./bench/noticing
//	go run ./bench/scale
//	go run ./bench/keeping
//	go run ./bench/alarms
package bench

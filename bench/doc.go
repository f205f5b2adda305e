// Package bench measures: answering, announcing, probing, pages. Everything is compared in one run with a bare peer on the same machine
// where there is one, and reported as a ratio: machines are noisy.
//
//	make bench
//	make bench PARTS="answers,updates"
//
// The programs below it and the benchmarks in it can be run one by one, too; bench/all lists them.
package bench

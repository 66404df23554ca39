// Package bench measures Mullein against a baseline and a floor, both written
// by hand, in one interleaved run. It holds benchmarks only; `make bench` runs
// them and docs/operations.md says what they printed.
package bench

// Package timeformat reads times by POSIX strftime patterns.
//
// It lives apart because two readers share it: file names (core/filename) and
// cells (core/tabular). It knows nothing of time zones by name: the caller
// hands in the location of times that carry no offset. Start at [Compile].
package timeformat

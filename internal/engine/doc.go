// Package engine is the work itself: it notices files, decides what is new,
// and brings each arrival from its landing into its target, once.
//
// The life of a file, in the order of the code:
//
//	notice.go    a name at the landing becomes an arrival, and ready when it is still
//	worker.go    one goroutine a feed takes what is ready, in order, as runs
//	arrival.go   one arrival: open, stage, lock, merge, mark, commit, or why not
//	read.go      the bytes of a file become typed rows and rejects
//	schedule.go  runs by the clock
//
// Start at [New] and [Engine.Run].
package engine

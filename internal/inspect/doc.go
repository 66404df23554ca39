// Package inspect looks at what was loaded and mends it: rehearsals, rows and where
// they came from, files held against the table, recalls, rebuilds, rejects that were
// put right, and the ledger held against the markers. It also does by hand what
// suppliers do: looks which files a feed takes, delivers them, accepts one for a
// slot.
//
// Nothing here is a run; what changes a target locks it as a load does. Start at
// [Inspector].
package inspect

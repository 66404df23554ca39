// Package load is one attempt at one delivery: it opens the files that were
// noticed, finds out what they are, reads them into the target's staging table,
// judges them, and commits rows, journal, marker and balance together, or says
// why not.
//
// What an attempt has to know is a [Recipe], a value that is complete when it is
// made and never changes. The attempts of a run share a [Session]. Start at
// [Session.Load]; the life of an attempt is, file by file: attempt.go, open.go,
// identify.go, then group.go for small files or stream.go for larger ones,
// judge.go, commit.go, and mishap.go where something goes wrong.
package load

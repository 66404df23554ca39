// Package intake notices what lies at the landings and finds out when it is whole:
// one watcher and one timetable of listings for all feeds of a service.
//
// A name that is new becomes an arrival; one that was still long enough, or whose
// marker is there, becomes ready. Membership in the ledger, and nothing else,
// decides what is new. What many feeds ask of the ledger at a time is asked
// together. Start at [Intake.Run] and, for the way of a name, at lookout.go.
package intake

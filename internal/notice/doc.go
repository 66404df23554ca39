// Package notice tells people and programs what happened and what did not.
//
// A [Teller] follows the ledger: it finds what is wrong, writes notices of it, each addressed by
// the routes of feeds and settings, and hands them to outlets: a mail server, a web hook, a
// program of the host. Of several services, one tells. What kinds of news there are and when a thing is told again
// is in core/news; where notices lie until they are sent, in ledger. Start at [Teller.Run];
// what a mail says is in letter.go.
package notice

// Package engine keeps feeds at work: it leases those that fall to this service,
// gives each its turn when there is something to do, and does its runs.
//
// feeds.go leases feeds and gives them back; turns.go says whose turn it is;
// turn.go is one turn, run.go one run, next.go what is loaded next; takeover.go
// brings in order what an earlier holder left behind; schedule.go begins runs by the
// clock; follow.go hears what others did; upkeep.go drops what is kept too long.
//
// What a landing holds is intake's business, what is due is calendar's, and one
// attempt at a delivery is load's. Start at [New] and [Engine.Run].
package engine

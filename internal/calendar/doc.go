// Package calendar keeps the delivery calendars of feeds: it makes slots as they
// fall due, links files to them, says how each stands, and finds names that almost
// are what was expected. What a calendar is, and how a slot is judged, is core/due's
// business.
//
// One keeper keeps the calendars of all feeds of a service, and asks the ledger for
// all of them together. Start at [Keeper.Run] and [Keeper.keep].
package calendar

// Package due is the delivery calendar: which deliveries are expected when,
// and what to think of what came.
//
// It is pure: it is handed times and counts and returns slots and verdicts. Its
// [Times] are also what runs by cron go by, since both must be right across
// the hours that a clock change drops or doubles. Start at [Calendar].
package due

// Package reading turns the bytes of a file into typed, checked rows and hands
// them to a receiver: it decodes records, converts cells to values, computes derived
// columns, holds rows against the checks of rows, and keeps what was rejected.
//
// It knows nothing of landings, records or tables. What all files of a kind have
// in common is a [Plan], which is complete when it is made; what is known of one
// file before it is read is a [Subject]. Start at [Plan.Open] and, for the way of
// a row, at [File.Fill].
package reading

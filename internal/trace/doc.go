// Package trace tells of arrivals as traces of OpenTelemetry, sent by OTLP over HTTP: a span an
// arrival, with its steps as spans below it. Start with [New] and [Of].
//
// Spans are made when an arrival has ended, from the times that the ledger knows. The number of a
// trace follows from the arrival, so that events and log lines name it without having seen it.
package trace

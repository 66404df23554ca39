package api

import "time"

// Volume is work done in a span.
type Volume struct {
	At        *time.Time `json:"at" doc:"Where the span begins; null for all of it"`
	Feed      string     `json:"feed" doc:"Empty for all"`
	Files     int64      `json:"files" doc:"That were loaded"`
	Refused   int64      `json:"refused" doc:"Files that were refused"`
	Bytes     int64      `json:"bytes" doc:"Of the files that were loaded"`
	Seconds   float64    `json:"seconds" doc:"Of work, from the opening of files to their end"`
	DBSeconds float64    `json:"db_seconds" doc:"Of which the database had the rows"`
	Requests  int64      `json:"requests" doc:"That were made of places"`
	Lag       Spread     `json:"lag" doc:"From the coming of files to their being visible"`
	Late      Spread     `json:"late" doc:"From when slots were due to the coming of their files, of those that came after it"`
	Balance   Balance    `json:"balance"`
	Cost      *float64   `json:"cost" doc:"By the price of the settings; null where they have none"`
	Supplier  string     `json:"supplier" doc:"Where work is asked for apart by supplier; empty for feeds without one"`
}

// Spread says below how many seconds shares of files stayed: powers of four; null where there are
// no files.
type Spread struct {
	P50 *float64 `json:"p50"`
	P95 *float64 `json:"p95"`
	P99 *float64 `json:"p99"`
}

// VolumeList is work by spans of time, in order, each perhaps apart by supplier, or by feed, those with the most seconds first.
type VolumeList struct {
	Items    []Volume  `json:"items" nullable:"false"`
	Total    Volume    `json:"total" doc:"Of the whole span"`
	From     time.Time `json:"from"`
	To       time.Time `json:"to"`
	Currency string    `json:"currency" doc:"Of cost"`
}

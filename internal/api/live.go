package api

import (
	"time"
)

// Event says that something changed. Followers read the record for the rest.
type Event struct {
	ID      int64      `json:"id"`
	At      time.Time  `json:"at"`
	Kind    string     `json:"kind" enum:"arrival,run,load,feed,slot,notice,problem,rollup,extract"`
	Feed    string     `json:"feed"`
	Arrival int64      `json:"arrival"`
	Run     int64      `json:"run"`
	State   string     `json:"state"`
	Path    string     `json:"path,omitempty" doc:"Of the file, below the landing"`
	Reason  string     `json:"reason,omitempty" doc:"Why, as long as the arrival, the slot or the feed is in that state"`
	Table   string     `json:"table,omitempty" doc:"Where the feed's rows end"`
	Slot    *EventSlot `json:"slot,omitempty" doc:"Of events of slots; of arrivals, the time in their names"`
	Say     string     `json:"say,omitempty" doc:"What the feed's owner says about files that do not come"`
	Rollup  string     `json:"rollup,omitempty" doc:"Of a rollup that was computed: which"`
	Keys    int64      `json:"keys,omitempty" doc:"Of a rollup that was computed: for how many keys"`
	Extract string     `json:"extract,omitempty" doc:"Of an extract: which"`
	Balance *Balance   `json:"balance,omitempty" doc:"Where the rows went, once the arrival has ended in that state"`
}

// EventSlot is the slot that an event is about.
type EventSlot struct {
	ID  int64             `json:"id,omitempty" doc:"0 for one that is not expected"`
	At  *time.Time        `json:"at,omitempty" doc:"When it is due; of arrivals, the time in the name"`
	Per map[string]string `json:"per,omitempty"`
}

// Hello begins a stream, and keeps it open when nothing happens.
type Hello struct {
	At time.Time `json:"at"`
}

// Commit tells of a commit into a target, as a CloudEvents 1.0 event in its JSON
// format.
type Commit struct {
	SpecVersion string     `json:"specversion" enum:"1.0"`
	ID          string     `json:"id"`
	Source      string     `json:"source"`
	Type        string     `json:"type" enum:"mullein.load,mullein.recall"`
	Subject     string     `json:"subject" doc:"The path of the file"`
	Time        time.Time  `json:"time"`
	ContentType string     `json:"datacontenttype"`
	TraceParent string     `json:"traceparent" doc:"The trace of the arrival, as W3C's Trace Context has it"`
	Data        CommitData `json:"data"`
}

// Range is the least and the greatest of some values.
type Range struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// Computed tells of a rollup that was computed, as a CloudEvents 1.0 event in its JSON
// format.
type Computed struct {
	SpecVersion string       `json:"specversion" enum:"1.0"`
	ID          string       `json:"id"`
	Source      string       `json:"source"`
	Type        string       `json:"type" enum:"mullein.rollup"`
	Subject     string       `json:"subject" doc:"The rollup"`
	Time        time.Time    `json:"time"`
	ContentType string       `json:"datacontenttype"`
	Data        ComputedData `json:"data"`
}

// ComputedData is what was computed.
type ComputedData struct {
	Rollup string `json:"rollup"`
	Table  string `json:"table" doc:"Where its rows are; empty where the rollup was removed since"`
	Keys   int64  `json:"keys" doc:"How many keys were computed; rows, where it was computed as a whole"`
}

// CommitData is what was committed.
type CommitData struct {
	Feed       string  `json:"feed"`
	Arrival    int64   `json:"arrival"`
	Generation int     `json:"generation"`
	Run        *int64  `json:"run"`
	SHA256     string  `json:"sha256"`
	Balance    Balance `json:"balance"`
	// What follows is told where it is known.
	Table   string     `json:"table,omitempty" doc:"Where the rows are"`
	Slot    *time.Time `json:"slot,omitempty" doc:"The time in the name of the file"`
	Written int64      `json:"written" doc:"Rows that were inserted or updated"`
	// KeyRange is that of the rows of the file, whether they changed anything or not.
	KeyRange map[string]Range `json:"key_range,omitempty" doc:"By column of the key, the least and the greatest value of the rows of the file. Not told to those who may see no data"`
	Rollups  []string         `json:"rollups,omitempty" doc:"Derived tables that follow; mullein.rollup tells when they are computed"`
	Link     string           `json:"link,omitempty" doc:"The page of the arrival in the console"`
}

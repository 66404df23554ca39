// Package api is what goes over the wire: the types of the API's answers and
// questions, shared by the service and its client. The OpenAPI document is made
// from them.
package api

import (
	"time"

	"mullein/internal/engine"
	"mullein/internal/ledger"
)

// Session says who is signed in, and where.
type Session struct {
	Name    string `json:"name"`
	Service string `json:"service" doc:"The machine"`
	Version string `json:"version"`
}

// FeedView is a feed with what it is and what it does.
type FeedView struct {
	ledger.Feed
	About    string             `json:"about"`
	Owner    string             `json:"owner"`
	Supplier string             `json:"supplier"`
	Contact  string             `json:"contact"`
	Landing  string             `json:"landing"`
	Files    string             `json:"files" doc:"The file pattern"`
	Table    string             `json:"table"`
	Key      []string           `json:"key" nullable:"false"`
	Newest   string             `json:"newest"`
	Settle   float64            `json:"settle" doc:"Seconds"`
	Arrival  bool               `json:"on_arrival"`
	Cron     string             `json:"cron"`
	NextRun  *time.Time         `json:"next_run_at" doc:"By the schedule"`
	Tolerate string             `json:"tolerate"`
	Counts   *ledger.FeedCounts `json:"counts"`
}

// FeedList is all feeds.
type FeedList struct {
	Items []FeedView `json:"items" nullable:"false"`
}

// FeedText is a feed file.
type FeedText struct {
	File       string `json:"file" doc:"Its name, for errors" maxLength:"1000"`
	Definition string `json:"definition" doc:"Its text, YAML" maxLength:"1048576"`
}

// FeedChecked says what a good feed file would do.
type FeedChecked struct {
	Feed  string `json:"feed"`
	Table string `json:"table"`
	Files string `json:"files"`
}

// FeedPut says what putting a feed did.
type FeedPut struct {
	Feed    string `json:"feed"`
	Version int    `json:"version"`
	Changed bool   `json:"changed" doc:"false when it is word for word the present version"`
}

// VersionList is all wordings of a feed.
type VersionList struct {
	Items []ledger.FeedVersion `json:"items" nullable:"false"`
}

// RejectList is a page of rejects.
type RejectList struct {
	Items []ledger.NotableReject `json:"items" nullable:"false"`
	More  bool                   `json:"more" doc:"There are more; ask for those after the last of these"`
}

// RunList is a page of runs.
type RunList struct {
	Items []ledger.Run `json:"items" nullable:"false"`
	Next  int64        `json:"next" doc:"The before of the next page; 0 when there is none"`
}

// ArrivalList is a page of arrivals.
type ArrivalList struct {
	Items []ledger.Arrival `json:"items" nullable:"false"`
	Next  int64            `json:"next" doc:"The before of the next page; 0 when there is none"`
}

// Working is what is being loaded now.
type Working struct {
	Loads []engine.Progress `json:"loads" nullable:"false"`
}

// Hello begins a stream, and keeps it open when nothing happens.
type Hello struct {
	At time.Time `json:"at"`
}

// Status is what the command line and the console begin with.
type Status struct {
	Service string            `json:"service"`
	Version string            `json:"version"`
	Roots   []string          `json:"landing_roots" nullable:"false"`
	Feeds   []FeedView        `json:"feeds" nullable:"false"`
	Loads   []engine.Progress `json:"loads" nullable:"false" doc:"What is being loaded now"`
}

// Day is the last 24 hours and the next few.
type Day struct {
	From  time.Time        `json:"from"`
	Now   time.Time        `json:"now"`
	To    time.Time        `json:"to"`
	Feeds []DayLine        `json:"feeds" nullable:"false"`
	Needs []ledger.Arrival `json:"needs" nullable:"false" doc:"Arrivals that need a person, the newest first"`
}

// DayLine is a feed's line on the ruler.
type DayLine struct {
	Feed   string      `json:"feed"`
	Paused bool        `json:"paused"`
	Runs   []time.Time `json:"runs" nullable:"false" doc:"Times of the schedule"`
	Marks  []DayMark   `json:"marks" nullable:"false"`
}

// DayMark is an arrival on the ruler.
type DayMark struct {
	Arrival int64        `json:"arrival"`
	At      time.Time    `json:"at"`
	State   ledger.State `json:"state"`
	Path    string       `json:"path"`
	Rows    int64        `json:"rows" doc:"Read"`
}

package api

import (
	"time"
)

// Event says that something changed. Followers read the record for the rest.
type Event struct {
	ID      int64     `json:"id"`
	At      time.Time `json:"at"`
	Kind    string    `json:"kind" enum:"arrival,run,load,feed,slot"`
	Feed    string    `json:"feed"`
	Arrival int64     `json:"arrival"`
	Run     int64     `json:"run"`
	State   string    `json:"state"`
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
	Data        CommitData `json:"data"`
}

// CommitData is what was committed.
type CommitData struct {
	Feed       string  `json:"feed"`
	Arrival    int64   `json:"arrival"`
	Generation int     `json:"generation"`
	Run        *int64  `json:"run"`
	SHA256     string  `json:"sha256"`
	Balance    Balance `json:"balance"`
}

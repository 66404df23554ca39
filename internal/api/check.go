package api

import (
	"time"
)

// FeedCheck is a check of a feed, and what it saw last.
type FeedCheck struct {
	Name  string       `json:"check"`
	Scope string       `json:"scope" enum:"file,row,delivery"`
	Else  string       `json:"else" enum:"reject,refuse,warn"`
	Must  string       `json:"must"`
	Last  *CheckResult `json:"last" doc:"null before the first load"`
}

// FeedCheckList is the checks of a feed.
type FeedCheckList struct {
	Items []FeedCheck `json:"items" nullable:"false"`
}

// CheckResult is what a check saw of an arrival.
type CheckResult struct {
	ID        int64     `json:"id"`
	Feed      string    `json:"feed"`
	ArrivalID int64     `json:"arrival"`
	Name      string    `json:"check"`
	Scope     string    `json:"scope" enum:"file,row,delivery"`
	Otherwise string    `json:"else" enum:"reject,refuse,warn"`
	Held      bool      `json:"held"`
	Saw       string    `json:"saw" doc:"What it looked at and found"`
	Value     *float64  `json:"value" doc:"The number behind it, for its history; null where there is none"`
	Failed    int64     `json:"failed" doc:"Rows that broke it"`
	At        time.Time `json:"at"`
	Low       *float64  `json:"low" doc:"What the value had to be at least; null where that is not one number"`
	High      *float64  `json:"high" doc:"What the value had to be at most; null where that is not one number"`
}

// CheckResultList is a page of what checks saw.
type CheckResultList struct {
	Items []CheckResult `json:"items" nullable:"false"`
	Next  int64         `json:"next" doc:"The before of the next page; 0 when there is none"`
}

// CheckOutcome is what a check saw.
type CheckOutcome struct {
	Name   string   `json:"check"`
	Scope  string   `json:"scope" enum:"file,row,delivery"`
	Else   string   `json:"else" enum:"reject,refuse,warn"`
	Held   bool     `json:"held"`
	Saw    string   `json:"saw" doc:"What it looked at and found"`
	Value  *float64 `json:"value" doc:"The number behind it, for its history; null where there is none"`
	Failed int64    `json:"failed" doc:"Rows that broke it"`
	Low    *float64 `json:"low" doc:"What the value had to be at least; null where that is not one number"`
	High   *float64 `json:"high" doc:"What the value had to be at most; null where that is not one number"`
}

// Reject is a row that was left out, with why.
type Reject struct {
	ArrivalID  int64  `json:"arrival"`
	Number     int    `json:"number" doc:"From 1, within the arrival"`
	Line       int64  `json:"line" doc:"In the unpacked file, from 1"`
	ColumnName string `json:"column" doc:"Empty when the row as a whole is at fault"`
	Reason     string `json:"reason"`
	Value      string `json:"value" doc:"The cell, shortened"`
	Original   string `json:"original" doc:"The row as it stands in the file, shortened"`
	Rule       string `json:"rule" doc:"What it broke: reading, cells, type, a constraint such as maximum, derive, or the name of a check"`
	MarkFrom   int    `json:"mark_from" doc:"The first character of the cell at fault in the original, from 0"`
	MarkTo     int    `json:"mark_to" doc:"The character after its last; 0 where it is not known"`
	Masked     bool   `json:"masked" doc:"Its private values are not kept"`
	MendedIn   *int64 `json:"mended_in" doc:"The arrival in which it was handed in again"`
}

// NotableReject is a reject with the name of the file it came from.
type NotableReject struct {
	Reject
	Path string `json:"path"`
}

// RejectList is a page of rejects.
type RejectList struct {
	Items []NotableReject `json:"items" nullable:"false"`
	More  bool            `json:"more" doc:"There are more; ask for those after the last of these"`
}

// RejectGroup is rejects of one kind.
type RejectGroup struct {
	Feed       string    `json:"feed"`
	Rule       string    `json:"rule"`
	ColumnName string    `json:"column"`
	Reason     string    `json:"reason" doc:"Of one of them"`
	Count      int64     `json:"count"`
	Open       int64     `json:"open" doc:"Not mended"`
	Kept       int64     `json:"kept" doc:"Those that can be looked at and mended; the others are counted only"`
	Arrivals   int64     `json:"arrivals"`
	Last       time.Time `json:"last" doc:"When the newest came"`
	Example    string    `json:"example" doc:"A value"`
}

// RejectGroupList is rejects by what they broke.
type RejectGroupList struct {
	Items []RejectGroup `json:"items" nullable:"false"`
}

// Mend hands rejects in again that were put right.
type Mend struct {
	Rows    []MendedRow `json:"rows" minItems:"1" maxItems:"1000" nullable:"false"`
	Because string      `json:"because" minLength:"1" maxLength:"1000" doc:"Why; it is kept with who and when"`
}

// MendedRow is a reject that a person put right.
type MendedRow struct {
	Number int    `json:"number" minimum:"1" doc:"Of the reject, within its arrival"`
	Text   string `json:"text" maxLength:"8192" doc:"The whole row as it ought to be, in the form of the file"`
}

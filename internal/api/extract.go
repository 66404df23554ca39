package api

import "time"

// Extract is rows of a database that are written as files into a landing.
type Extract struct {
	Name       string         `json:"extract"`
	About      string         `json:"about"`
	Owner      string         `json:"owner"`
	Connection string         `json:"connection" doc:"The database, as the settings name it"`
	From       string         `json:"from" doc:"The table; or the select"`
	By         string         `json:"by" doc:"The column by which rows are new; empty where all are written each time"`
	Daily      bool           `json:"daily" doc:"A window is a whole day"`
	Landing    string         `json:"landing"`
	Files      string         `json:"files" doc:"The names of its files"`
	Version    int            `json:"version"`
	PutBy      string         `json:"put_by"`
	PutAt      time.Time      `json:"put_at"`
	Mark       string         `json:"mark" doc:"How far it has come, as its database writes the value; empty before the first window"`
	Runs       int64          `json:"runs" doc:"Windows that were begun"`
	State      string         `json:"state" enum:"waiting,working,again,paused,failed" doc:"again: an attempt failed, and another follows"`
	Written    int64          `json:"written" doc:"Of one that is at work at this service: rows that were written"`
	NextAt     *time.Time     `json:"next_at" doc:"When its schedule begins the next run"`
	TryAfter   *time.Time     `json:"try_after" doc:"When an attempt that failed is followed by another"`
	Attempts   int            `json:"attempts"`
	Problem    string         `json:"problem"`
	ProblemAt  *time.Time     `json:"problem_at"`
	Last       *ExtractWindow `json:"last" doc:"The last window; without what was loaded of it"`
	Feeds      []string       `json:"feeds" nullable:"false" doc:"That take its files"`
	Definition string         `json:"definition,omitempty" doc:"Its file; of one extract only"`
}

// ExtractList is all extracts.
type ExtractList struct {
	Items []Extract `json:"items" nullable:"false"`
}

// ExtractPut carries the file of an extract.
type ExtractPut struct {
	File       string `json:"file,omitempty" doc:"Its name, for errors"`
	Definition string `json:"definition" maxLength:"1048576"`
}

// ExtractChecked is what came of putting an extract.
type ExtractChecked struct {
	Extract string   `json:"extract"`
	Version int      `json:"version"`
	Changed bool     `json:"changed"`
	Notes   []string `json:"notes" nullable:"false" doc:"What to know of it"`
}

// ExtractWindow is one working of an extract.
type ExtractWindow struct {
	Run        int64         `json:"run"`
	Low        string        `json:"low"`
	High       string        `json:"high"`
	Bounds     string        `json:"bounds" doc:"Which ends belong to it, as ranges are written: (], [], [) or ]; empty for all rows"`
	Window     string        `json:"window" doc:"The same, for people"`
	MarkBefore string        `json:"mark_before"`
	MarkAfter  string        `json:"mark_after"`
	State      string        `json:"state" enum:"running,done,failed,cancelled"`
	Reason     string        `json:"reason"`
	Cause      string        `json:"cause" enum:"schedule,after,hand,again"`
	By         string        `json:"by"`
	Source     *int64        `json:"source" doc:"Rows that the database counts in it"`
	Rows       int64         `json:"rows" doc:"Rows in its files"`
	Bytes      int64         `json:"bytes" doc:"Of its files"`
	Files      []ExtractFile `json:"files" nullable:"false"`
	Placed     int           `json:"placed" doc:"Files that are in the landing"`
	Ahead      int64         `json:"ahead" doc:"Rows that are later than the database's clock, and wait"`
	Blank      int64         `json:"blank" doc:"Rows without a value in the column, which are in no window; counted in the first"`
	Attempts   int           `json:"attempts"`
	StartedAt  time.Time     `json:"started_at"`
	ReadAt     *time.Time    `json:"read_at" doc:"When its files were whole, aside"`
	FinishedAt *time.Time    `json:"finished_at"`
	Loads      []ExtractLoad `json:"loads" nullable:"false" doc:"What feeds made of its files"`
	Adds       bool          `json:"adds" doc:"The rows at the source, in the files and read by the feeds are as many"`
	Line       string        `json:"line" doc:"The same, as one line for people"`
}

// ExtractFile is a file of a window.
type ExtractFile struct {
	Name   string `json:"name" doc:"Below the landing"`
	Rows   int64  `json:"rows"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
}

// ExtractLoad is what a feed made of the files of a window.
type ExtractLoad struct {
	Feed    string  `json:"feed"`
	Loaded  int     `json:"loaded" doc:"Files that are loaded"`
	Waiting int     `json:"waiting" doc:"Files that are not, or not yet"`
	Balance Balance `json:"balance" doc:"Of those that are loaded"`
}

// ExtractWindowList is a page of windows, the newest first.
type ExtractWindowList struct {
	Items []ExtractWindow `json:"items" nullable:"false"`
	Next  int64           `json:"next" doc:"The before of the next page; 0 when there is none"`
}

// ExtractRehearsal is what a run would write now.
type ExtractRehearsal struct {
	Extract string          `json:"extract"`
	Mark    string          `json:"mark"`
	Window  string          `json:"window"`
	Rows    int64           `json:"rows"`
	Empty   bool            `json:"empty" doc:"Nothing is new; or, by days, the next day is not over"`
	Ahead   int64           `json:"ahead"`
	Blank   int64           `json:"blank"`
	Columns []ExtractColumn `json:"columns" nullable:"false"`
	Names   []string        `json:"names" nullable:"false" doc:"Of the first file, and of the list"`
}

// ExtractColumn is a column that is written.
type ExtractColumn struct {
	Name string `json:"name"`
	Type string `json:"type" doc:"As Table Schema calls it"`
}

// ExtractMark sets how far an extract has come.
type ExtractMark struct {
	Mark    string `json:"mark,omitempty" maxLength:"200" doc:"What was written up to there; empty for nothing"`
	Run     int64  `json:"run,omitempty" minimum:"0" doc:"Instead: back to where this run began, so that its rows are written again"`
	Because string `json:"because" minLength:"1" maxLength:"2000"`
}

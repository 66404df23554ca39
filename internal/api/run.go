package api

import (
	"time"
)

// Run is one working of a feed over a set of arrivals.
type Run struct {
	ID         int64      `json:"id"`
	Feed       string     `json:"feed"`
	Version    int        `json:"version" doc:"Of the feed"`
	Cause      string     `json:"cause" enum:"arrival,schedule,after,hand,rebuild"`
	By         string     `json:"by" doc:"Who asked for it"`
	State      string     `json:"state" enum:"queued,running,done,failed,cancelled"`
	Reason     string     `json:"reason" doc:"Why it failed"`
	QueuedAt   time.Time  `json:"queued_at"`
	StartedAt  *time.Time `json:"started_at"`
	FinishedAt *time.Time `json:"finished_at"`
	Loaded     int64      `json:"loaded" doc:"Arrivals loaded"`
	Refused    int64      `json:"refused" doc:"Arrivals refused"`
	Failed     int64      `json:"failed" doc:"Arrivals that failed"`
	Skipped    int64      `json:"skipped" doc:"Arrivals skipped"`
	Balance    Balance    `json:"balance" doc:"The sum over its arrivals"`
	Wanted     Wanted     `json:"wanted" doc:"To what it is narrowed"`
	Told       RunSlots   `json:"told" doc:"What a run over slots came across"`
	CancelBy   string     `json:"cancel_by" doc:"Who asked for it to end"`
}

// RunList is a page of runs.
type RunList struct {
	Items []Run `json:"items" nullable:"false"`
	Next  int64 `json:"next" doc:"The before of the next page; 0 when there is none"`
}

// RunWanted narrows a run.
type RunWanted struct {
	Wanted
}

// Wanted narrows a run. Its zero value wants everything that waits.
type Wanted struct {
	From  string   `json:"from,omitempty" doc:"The first slot: a year, month, day, hour or number, or yesterday"`
	To    string   `json:"to,omitempty" doc:"The last slot"`
	Paths []string `json:"paths,omitempty" maxItems:"1000" doc:"Only these files"`
}

// RunSlots is what a run over slots came across.
type RunSlots struct {
	Slots int64    `json:"slots,omitempty" doc:"Slots gone through"`
	At    string   `json:"at,omitempty" doc:"The slot it is at, or ended at"`
	Empty int64    `json:"empty,omitempty" doc:"Slots without files"`
	Named []string `json:"named,omitempty" doc:"The first of the slots without files"`
}

// Progress is how far a load has come, or other work of that kind.
type Progress struct {
	Work    string    `json:"work" enum:"load,rebuild,recall,preview,verify,rehearsal" doc:"A preview is of a recall"`
	Feed    string    `json:"feed"`
	Arrival int64     `json:"arrival"`
	Run     int64     `json:"run"`
	BeganAt time.Time `json:"began_at"`
	Path    string    `json:"path"`
	Files   int       `json:"files" doc:"That are loaded together"`
	Step    string    `json:"step" enum:"claimed,opened,staged,locked,merged,marked,committed,listed,reread,compared"`
	Bytes   int64     `json:"bytes" doc:"Read so far, of the packed file"`
	Size    int64     `json:"size"`
	Rows    int64     `json:"rows" doc:"Read so far"`
	Waits   string    `json:"waits" doc:"Who holds the target, when the load waits for somebody"`
}

// Working is what is being done now.
type Working struct {
	Loads []Progress `json:"loads" nullable:"false"`
}

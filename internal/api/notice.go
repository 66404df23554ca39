package api

import "time"

// Notice is a message to people or programs.
type Notice struct {
	ID       int64      `json:"id"`
	At       time.Time  `json:"at" doc:"When it was written"`
	Outlet   string     `json:"outlet"`
	Whom     string     `json:"whom" doc:"Mail addresses; empty for whom the outlet names. A supplier's begins with supplier:"`
	Kind     string     `json:"kind" doc:"Of what it is, such as missing; empty for a summary or a test"`
	Occasion string     `json:"occasion" enum:"begins,lasts,healed,happened,summary,rehearsed"`
	Problem  *int64     `json:"problem"`
	Feed     string     `json:"feed" doc:"Empty where it is of none, or of several"`
	Subject  string     `json:"subject"`
	State    string     `json:"state" enum:"waiting,sent,failed" doc:"failed: it is not tried any more"`
	Attempts int        `json:"attempts"`
	TryAfter time.Time  `json:"try_after" doc:"While it waits: when it is tried"`
	SentAt   *time.Time `json:"sent_at"`
	Answer   string     `json:"answer" doc:"What the other side said last"`
}

// NoticeList is a page of notices, the newest first.
type NoticeList struct {
	Items []Notice `json:"items" nullable:"false"`
	Next  int64    `json:"next" doc:"The before of the next page; 0 when there is none"`
}

// NoticeWhole is a notice with what it says.
type NoticeWhole struct {
	Notice
	To    []string `json:"to" nullable:"false" doc:"Mail addresses; none for whom the outlet names"`
	Text  string   `json:"text" doc:"What people read"`
	HTML  string   `json:"html" doc:"The same, as HTML"`
	Event any      `json:"event" doc:"What programs read: a CloudEvent"`
}

// Problem is what is told as one: all that is wrong of a kind for one cause.
type Problem struct {
	ID      int64         `json:"id"`
	Kind    string        `json:"kind"`
	Cause   string        `json:"cause" doc:"What its parts have in common: a supplier, a feed, a table"`
	BeganAt time.Time     `json:"began_at"`
	OverAt  *time.Time    `json:"over_at" doc:"null while it lasts"`
	Parts   []ProblemPart `json:"parts" nullable:"false" doc:"What belongs to it, up to 20"`
}

// ProblemPart is one thing that is wrong.
type ProblemPart struct {
	Feed    string     `json:"feed"`
	Arrival int64      `json:"arrival" doc:"0 where it is of none"`
	Slot    int64      `json:"slot" doc:"0 where it is of none"`
	What    string     `json:"what"`
	Since   time.Time  `json:"since"`
	OverAt  *time.Time `json:"over_at"`
}

// ProblemList is a page of problems, the newest first.
type ProblemList struct {
	Items []Problem `json:"items" nullable:"false"`
	Next  int64     `json:"next" doc:"The before of the next page; 0 when there is none"`
}

// Outlet is a named way out of the service.
type Outlet struct {
	Name    string     `json:"outlet"`
	Way     string     `json:"way" enum:"mail,hook,command,lineage"`
	To      string     `json:"to" doc:"The server, the address, the program or the file"`
	Waiting int64      `json:"waiting" doc:"Notices that wait to be sent"`
	Failed  int64      `json:"failed" doc:"Notices that were given up within the last seven days"`
	SentAt  *time.Time `json:"sent_at" doc:"When the last was sent"`
	Problem string     `json:"problem" doc:"Why it does not take messages; empty when it does"`
}

// OutletList is all outlets.
type OutletList struct {
	Items []Outlet `json:"items" nullable:"false"`
}

// Rehearsed asks for notices as if something had happened.
type Rehearsed struct {
	As string `json:"as" enum:"late,missing,refused,failed,held,rejects,warning,table,landing,database,disk,stopped,loaded,changed" doc:"As what"`
}

// NoticeCount is how many notices were written.
type NoticeCount struct {
	Items []Notice `json:"items" nullable:"false"`
}

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
	Lasting int64         `json:"lasting" doc:"How many of its parts last"`
	Feeds   int64         `json:"feeds" doc:"Of how many feeds these are"`
	Parts   []ProblemPart `json:"parts" nullable:"false" doc:"What belongs to it, up to 20; those that last first"`
	Cures   []Cure        `json:"cures" nullable:"false" doc:"What may be done about its parts at once, the likeliest first"`
}

// Cure is what may be done about parts of a problem.
type Cure struct {
	Verb string `json:"verb" enum:"accept,release,redo,excuse,skip" doc:"accept takes the file whose name comes closest"`
	Of   int64  `json:"of" doc:"Of how many parts"`
}

// DoCure has a cure done.
type DoCure struct {
	Verb    string `json:"verb" enum:"accept,release,redo,excuse,skip"`
	Because string `json:"because" minLength:"1" maxLength:"1000"`
}

// Cured is what a cure did.
type Cured struct {
	Done int64    `json:"done" doc:"Of how many parts it was done; up to 1000 at a time"`
	Left []string `json:"left" nullable:"false" doc:"Of which it could not be done, with why"`
}

// ProblemPart is one thing that is wrong.
type ProblemPart struct {
	Feed    string     `json:"feed"`
	Arrival int64      `json:"arrival" doc:"0 where it is of none"`
	State   string     `json:"state" doc:"Of the arrival by now; empty where it is of none"`
	Slot    int64      `json:"slot" doc:"0 where it is of none"`
	Due     *SlotView  `json:"due,omitempty" doc:"The slot by now, where it is of one"`
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

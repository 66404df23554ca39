package api

import (
	"encoding/json"
	"time"
)

// Arrival is one version of one file at a landing.
type Arrival struct {
	ID         int64          `json:"id"`
	Feed       string         `json:"feed"`
	Path       string         `json:"path" doc:"Below the landing"`
	Size       int64          `json:"size" doc:"Bytes"`
	Modified   time.Time      `json:"modified" doc:"The file's own time"`
	SHA256     string         `json:"sha256" doc:"Of the file's bytes, hexadecimal; empty until it was read"`
	State      string         `json:"state" enum:"noticed,settling,ready,loading,loaded,refused,failed,skipped,held,gone,recalled"`
	Reason     string         `json:"reason" doc:"Why it is in this state, for people"`
	Captures   map[string]any `json:"captures" doc:"What the name says"`
	Slot       *time.Time     `json:"slot"`
	SlotNumber *int64         `json:"slot_number" doc:"Where names count instead of telling a time"`
	Delivery   string         `json:"delivery" doc:"What it belongs to: a list or a slot; empty when it stands alone"`
	IsList     bool           `json:"is_list" doc:"It lists the files of a delivery, and holds no rows"`
	Forced     bool           `json:"forced" doc:"A person wants it loaded: it is no copy and no reissue"`
	Backlog    bool           `json:"backlog" doc:"It lay there before the feed"`
	Waivable   bool           `json:"waivable" doc:"It was refused only for its rejects or a check of the delivery: a person may release it"`
	Waived     bool           `json:"waived" doc:"A person released it: its rejects and the checks of the delivery do not stand against it"`
	Mends      *int64         `json:"mends" doc:"The arrival of which it holds mended rejects"`
	CameAt     *time.Time     `json:"came_at" doc:"When it came, as far as is known: where nobody looked for a while, by the file's own time"`
	DueSlot    *int64         `json:"due_slot" doc:"The slot that it fills"`
	Away       string         `json:"away" enum:",wanted,done,failed" doc:"Whether it was moved from the landing, or deleted"`
	AwayTo     string         `json:"away_to" doc:"Where it lies now, below the landing's root; empty when it was deleted"`
	Version    int            `json:"version" doc:"Of the feed, when it was worked; 0 before"`
	Generation int            `json:"generation" doc:"1 for the first load of these bytes under this path, then 2"`
	RunID      *int64         `json:"run"`
	CopyOf     *int64         `json:"copy_of" doc:"The arrival that this one is a copy of"`
	Attempts   int            `json:"attempts"`
	TryAfter   *time.Time     `json:"try_after" doc:"When a failed load is tried again"`
	NoticedAt  time.Time      `json:"noticed_at"`
	SettlingAt *time.Time     `json:"settling_at"`
	ReadyAt    *time.Time     `json:"ready_at"`
	OpenedAt   *time.Time     `json:"opened_at"`
	StagedAt   *time.Time     `json:"staged_at" doc:"When all rows were read"`
	FinishedAt *time.Time     `json:"finished_at"`
	Balance    Balance        `json:"balance"`
}

// ArrivalList is a page of arrivals.
type ArrivalList struct {
	Items []Arrival `json:"items" nullable:"false"`
	Next  int64     `json:"next" doc:"The before of the next page; 0 when there is none"`
}

// Balance counts the rows of one arrival, or the sum over several. Every row
// that was read is in exactly one of the other counts; Removed stands beside
// the sum, because those rows were never in the file.
type Balance struct {
	Read      int64 `json:"read" doc:"Rows found in the file"`
	Inserted  int64 `json:"inserted" doc:"Rows with a key that the target did not have"`
	Updated   int64 `json:"updated" doc:"Rows that changed an existing row of the target"`
	Unchanged int64 `json:"unchanged" doc:"Rows that the target held already, alike in every column"`
	Outdated  int64 `json:"outdated" doc:"Rows older than what the target holds for their key"`
	Kept      int64 `json:"kept" doc:"Rows whose key exists and is left alone by the feed's mode"`
	Deleted   int64 `json:"deleted" doc:"Rows of the target that are gone because rows of the file said so"`
	Duplicate int64 `json:"duplicate" doc:"Rows that lost against another row of the delivery with the same key"`
	Rejected  int64 `json:"rejected" doc:"Rows that could not be read or broke a row check"`
	LeftOut   int64 `json:"left_out" doc:"Rows that the feed leaves out"`
	Withheld  int64 `json:"withheld" doc:"Good rows of an arrival that was refused"`
	Removed   int64 `json:"removed" doc:"Rows of the target that went because of this load; not part of the sum"`
}

// Verdict asks for something to be done to arrivals: to those that are named
// by their numbers, or to those of a feed that the other fields select.
type Verdict struct {
	Verb     string  `json:"verb" enum:"redo,skip,hold,release"`
	Because  string  `json:"because" minLength:"1" maxLength:"1000" doc:"Why; it is kept"`
	Arrivals []int64 `json:"arrivals,omitempty" maxItems:"10000"`
	Feed     string  `json:"feed,omitempty" maxLength:"63"`
	Text     string  `json:"text,omitempty" maxLength:"200" doc:"Part of the path; * and ? stand for any text and one character"`
	Day      string  `json:"day,omitempty" doc:"The day of their slots, as 2026-07-01; in UTC"`
	State    string  `json:"state,omitempty"`
	Backlog  bool    `json:"backlog,omitempty" doc:"What lay there before the feed and was skipped for it"`
}

// Decided says to what something was done.
type Decided struct {
	Arrivals int64     `json:"arrivals" doc:"How many"`
	Items    []Arrival `json:"items" nullable:"false" doc:"The first hundred of them"`
}

// Decision is what a person decided about an arrival or a slot, and why.
type Decision struct {
	ID      int64     `json:"id"`
	At      time.Time `json:"at"`
	By      string    `json:"by"`
	What    string    `json:"what" enum:"redo,skip,hold,release,accept,excuse,recall,mend,rebuild"`
	Because string    `json:"because"`
	Feed    string    `json:"feed"`
	Arrival *int64    `json:"arrival"`
	Slot    *int64    `json:"slot"`
}

// DecisionList is what people decided, oldest first.
type DecisionList struct {
	Items []Decision `json:"items" nullable:"false"`
}

// Because returns the reason for a decision.
type Because struct {
	Because string `json:"because" minLength:"1" maxLength:"1000"`
}

// Recall takes out what an arrival loaded.
type Recall struct {
	Because string `json:"because,omitempty" maxLength:"1000" doc:"Why; it is kept with who and when. A preview needs none"`
	Preview bool   `json:"preview,omitempty" doc:"Only say what would become of the rows"`
	Back    bool   `json:"back,omitempty" doc:"Put back what was recalled"`
}

// Recalled says what a recall does, or would do.
type Recalled struct {
	Feed     string         `json:"feed"`
	Table    string         `json:"table"`
	Key      []string       `json:"key" nullable:"false" doc:"The columns of its key"`
	Preview  bool           `json:"preview" doc:"Nothing was done"`
	Arrivals []int64        `json:"arrivals" nullable:"false" doc:"Whose loads are taken out"`
	Back     []int64        `json:"back" nullable:"false" doc:"Whose loads are put back"`
	Outcome  *RecallOutcome `json:"outcome"`
	Later    []Reread       `json:"later" nullable:"false" doc:"Loads since then that may have left rows alone because of them"`
}

// RecallOutcome is what a recall does to the target.
type RecallOutcome struct {
	Removed  int64       `json:"removed" doc:"Rows that go from the target"`
	Restored int64       `json:"restored" doc:"Rows that become what they were, or what later loads make of them"`
	Returned int64       `json:"returned" doc:"Rows that come back"`
	Same     int64       `json:"same" doc:"Rows that later loads have written wholly anew; only their history changes"`
	Left     int64       `json:"left" doc:"Rows that somebody else has changed since; they are left as they are"`
	Samples  []RecallRow `json:"samples" nullable:"false"`
}

// RecallRow is a row as it is and as it becomes.
type RecallRow struct {
	What   string          `json:"what" enum:"removed,restored,returned,left"`
	Before json.RawMessage `json:"before" doc:"The row as it is; null where there is none"`
	After  json.RawMessage `json:"after" doc:"The row as it becomes; null where it goes"`
}

// Reread is a later load whose file is held against the keys of what is undone.
type Reread struct {
	LoadEntry
	Rows int64  `json:"rows" doc:"Of its file that have one of the keys, or that lack in it"`
	Why  string `json:"why" doc:"Why its file could not be read again; what it left alone stays as it is"`
}

// Original is a record as it stands in its file.
type Original struct {
	Text string `json:"text"`
	Why  string `json:"why" doc:"Why it cannot be shown"`
}

// Verified is what a comparison of a file with the table found.
type Verified struct {
	Same      int64       `json:"same" doc:"Rows of the file that the table holds as they are"`
	Later     int64       `json:"later" doc:"Rows whose key a later load has written"`
	Newer     int64       `json:"newer" doc:"Rows whose key an earlier load keeps, because it is newer"`
	Gone      int64       `json:"gone" doc:"Rows whose key another load has removed, or a newer one does not have"`
	Different int64       `json:"different" doc:"Rows that the table holds otherwise, although no later load wrote them"`
	Missing   int64       `json:"missing" doc:"Rows whose key the table does not have"`
	Repeated  int64       `json:"repeated" doc:"Rows that lost against another row of the file with the same key"`
	Columns   []string    `json:"columns"`
	Samples   []SampleRow `json:"samples" nullable:"false" doc:"Of the rows that are different or missing"`
}

// Rehearsal is what a load of a file would do.
type Rehearsal struct {
	Feed     string         `json:"feed"`
	Path     string         `json:"path"`
	Waits    bool           `json:"waits" doc:"false when nothing would be loaded next: the file is the newest that came"`
	Refused  string         `json:"refused" doc:"Why the file would be refused; empty when it would be loaded"`
	Known    string         `json:"known" doc:"What became of this very file already; empty when the ledger does not know it, or when it waits"`
	Balance  Balance        `json:"balance"`
	Checks   []CheckOutcome `json:"checks"`
	Shape    []string       `json:"shape" doc:"What would be made or does not fit"`
	Columns  []string       `json:"columns" doc:"Of the samples"`
	Samples  []SampleRow    `json:"samples"`
	Rejects  []Reject       `json:"rejects" doc:"The first of them"`
	Deep     bool           `json:"deep" doc:"The statements were executed and rolled back"`
	Traces   string         `json:"traces" doc:"What the rehearsal leaves behind; empty for nothing"`
	Warnings []string       `json:"warnings" doc:"What a person should look at although the file would be loaded"`
	Took     float64        `json:"took" doc:"Seconds"`
}

// SampleRow is a row that a load would write.
type SampleRow struct {
	What    string    `json:"what" enum:"inserted,updated,deleted,outdated,removed,missing,different"`
	Line    int64     `json:"line"`
	Values  []*string `json:"values" doc:"As texts, in the order of the columns; null is no value"`
	Before  []*string `json:"before" doc:"What the target holds for its key; empty where it holds nothing"`
	Changed []int     `json:"changed" doc:"Which of the values are not as before"`
}

package api

import (
	"time"
)

// Feed is the record of a feed; its content is in its versions.
type Feed struct {
	Name       string     `json:"name"`
	Version    int        `json:"version"`
	Paused     bool       `json:"paused"`
	CreatedAt  time.Time  `json:"created_at"`
	Problem    string     `json:"problem" doc:"Why it is not working; empty when it is"`
	ListedAt   *time.Time `json:"listed_at" doc:"When its landing was last listed"`
	ListedOnly bool       `json:"listed_only" doc:"No events come from its landing, so it is only listed now and then"`
	Waits      string     `json:"waits" doc:"What a delivery still waits for; empty when none does"`
	DueFrom    *time.Time `json:"due_from" doc:"Where its calendar begins"`
}

// FeedCounts is what waits and what became of a feed's arrivals.
type FeedCounts struct {
	Feed         string           `json:"feed"`
	Waiting      int64            `json:"waiting" doc:"Arrivals that are noticed, settling, ready or loading"`
	OldestAt     *time.Time       `json:"oldest_waiting_at"`
	LastNoticed  *time.Time       `json:"last_noticed_at"`
	LastLoaded   *time.Time       `json:"last_loaded_at"`
	LagSeconds   float64          `json:"lag_seconds" doc:"From the coming of the file that was loaded last to its load"`
	States       map[string]int64 `json:"states" doc:"Arrivals by state"`
	RowsToday    int64            `json:"rows_today" doc:"Rows inserted or updated in the last 24 hours"`
	NeedsPerson  int64            `json:"needs_person" doc:"Arrivals of the last seven days that are refused, failed for good, or held, and slots that are missing or refused"`
	Missing      int64            `json:"missing" doc:"Slots of the last seven days that are missing or refused"`
	Late         int64            `json:"late" doc:"Slots that are late, and not here yet"`
	LastProblem  string           `json:"last_problem" doc:"The reason of the newest arrival that needs a person"`
	LastProblemA int64            `json:"last_problem_arrival"`
}

// FeedVersion is one wording of a feed. All are kept.
type FeedVersion struct {
	Feed       string    `json:"feed"`
	Version    int       `json:"version"`
	Definition string    `json:"definition" doc:"The feed file, as it was put"`
	PutAt      time.Time `json:"put_at"`
	PutBy      string    `json:"put_by"`
}

// FeedView is a feed with what it is and what it does.
type FeedView struct {
	Feed
	About    string      `json:"about"`
	Owner    string      `json:"owner"`
	Supplier string      `json:"supplier"`
	Contact  string      `json:"contact"`
	Landing  string      `json:"landing"`
	Files    string      `json:"files" doc:"The file pattern"`
	Table    string      `json:"table"`
	Key      []string    `json:"key" nullable:"false"`
	Newest   string      `json:"newest" doc:"By what the newest row of a key wins: a column, slot, modified or arrival"`
	Wins     string      `json:"wins" doc:"Which row wins for a key, and why"`
	Settle   float64     `json:"settle" doc:"Seconds"`
	Arrival  bool        `json:"on_arrival"`
	Cron     string      `json:"cron"`
	After    []string    `json:"after" nullable:"false" doc:"The feeds that it comes after"`
	NextRun  *time.Time  `json:"next_run_at" doc:"By the schedule"`
	Due      string      `json:"due" doc:"When deliveries are expected, in words; empty when none are"`
	Say      string      `json:"say" doc:"What to say when a slot is missing"`
	NextDue  *time.Time  `json:"next_due_at"`
	Delivery string      `json:"delivery" enum:"file,list,slot"`
	Tolerate string      `json:"tolerate"`
	Counts   *FeedCounts `json:"counts"`
}

// FeedList is a page of feeds, by name.
type FeedList struct {
	Items []FeedView `json:"items" nullable:"false"`
	Total int64      `json:"total" doc:"How many there are, on all pages"`
	Next  string     `json:"next" doc:"The after of the next page; empty when there is none"`
}

// StoppedFeed is a feed that does not work, and why.
type StoppedFeed struct {
	Feed    string `json:"feed"`
	Problem string `json:"problem"`
}

// FeedText is a feed file.
type FeedText struct {
	File       string `json:"file" doc:"Its name, for errors" maxLength:"1000"`
	Definition string `json:"definition" doc:"Its text, YAML" maxLength:"1048576"`
}

// FeedChecked says what a good feed file would do.
type FeedChecked struct {
	Feed  string   `json:"feed"`
	Table string   `json:"table"`
	Files string   `json:"files"`
	DDL   []string `json:"ddl" nullable:"false" doc:"The statements that make its tables"`
}

// Sample is the beginning of a file as a feed reads it; no table was asked.
type Sample struct {
	File     string         `json:"file"`
	Captures map[string]any `json:"captures" doc:"What the file's name says"`
	Unnamed  string         `json:"unnamed" doc:"Why the feed would not take a file of that name; empty where it would"`
	Refused  string         `json:"refused" doc:"Why the file cannot be read; empty where it can"`
	Wrong    []WrongAt      `json:"wrong" nullable:"false" doc:"What is wrong with the feed file; then nothing was read"`
	Header   []string       `json:"header" nullable:"false" doc:"The names of the file's columns"`
	Columns  []SampleColumn `json:"columns" nullable:"false"`
	Rows     []ReadRow      `json:"rows" nullable:"false"`
	Rejects  []Reject       `json:"rejects" nullable:"false" doc:"The first of them"`
	Read     int64          `json:"read" doc:"Rows"`
	Rejected int64          `json:"rejected" doc:"Rows"`
	LeftOut  int64          `json:"left_out" doc:"Rows"`
	Whole    bool           `json:"whole" doc:"All of the file was read"`
}

// WrongAt is what is wrong at a place of a feed file.
type WrongAt struct {
	Line    int    `json:"line" doc:"From 1"`
	Column  int    `json:"column" doc:"From 1"`
	Message string `json:"message"`
}

// SampleColumn is a column of the rows that a feed reads.
type SampleColumn struct {
	Name    string `json:"name"`
	Source  string `json:"source" doc:"The column's name in the file, where it is another"`
	Type    string `json:"type" doc:"Of a field; empty for a derived column"`
	Format  string `json:"format"`
	Key     bool   `json:"key"`
	Derived bool   `json:"derived"`
}

// ReadRow is a row as a feed reads it.
type ReadRow struct {
	Line    int64     `json:"line"`
	Values  []*string `json:"values" nullable:"false" doc:"As texts, in the order of the columns; null is no value"`
	Deletes bool      `json:"deletes" doc:"It deletes its key"`
}

// DraftWanted says from what feeds are to be proposed.
type DraftWanted struct {
	At         string `json:"at" minLength:"1" maxLength:"1000" doc:"A folder below a landing root, or place:NAME/FOLDER, with sample files"`
	Into       string `json:"into,omitempty" maxLength:"200" doc:"Draft for this table, schema.table, which is there already"`
	Connection string `json:"connection,omitempty" default:"main" maxLength:"63" doc:"With into: the table's database, by the name that feeds know it by"`
}

// Drafts are feeds that are proposed, and files that none is proposed for.
type Drafts struct {
	Feeds   []DraftedFeed `json:"feeds" nullable:"false"`
	LeftOut []LeftFile    `json:"left_out" nullable:"false"`
}

// DraftedFeed is a feed that is proposed.
type DraftedFeed struct {
	Feed       string   `json:"feed"`
	Definition string   `json:"definition" doc:"The feed file"`
	Files      []string `json:"files" nullable:"false" doc:"That it is for"`
	Rows       int      `json:"rows" doc:"That were looked at"`
	Sure       []string `json:"sure" nullable:"false"`
	Unsure     []string `json:"unsure" nullable:"false"`
}

// LeftFile is a file that no feed is proposed for.
type LeftFile struct {
	File string `json:"file"`
	Why  string `json:"why"`
	Data bool   `json:"data" doc:"It may be data, but cannot be read"`
}

// FeedPut says what putting a feed did.
type FeedPut struct {
	Feed    string `json:"feed"`
	Version int    `json:"version"`
	Changed bool   `json:"changed" doc:"false when it is word for word the present version"`
	Wins    string `json:"wins" doc:"Which row wins for a key, and why"`

	Misfit  []string `json:"misfit" nullable:"false" doc:"Why nothing can be loaded into the table as it is, and the ways out; empty when it fits"`
	Changes []string `json:"changes" nullable:"false" doc:"What the next load changes in the table first"`
	Notes   []string `json:"notes" nullable:"false" doc:"What the schema allows and the table does not take"`
}

// VersionList is all wordings of a feed.
type VersionList struct {
	Items []FeedVersion `json:"items" nullable:"false"`
}

// SeenFile is a file at a landing, and whether a feed takes it.
type SeenFile struct {
	Path     string         `json:"path"`
	Size     int64          `json:"size"`
	Modified time.Time      `json:"modified"`
	Taken    bool           `json:"taken"`
	Why      string         `json:"why" doc:"Why it is left out, or what has become of it"`
	Captures map[string]any `json:"captures" doc:"What its name says"`
	Arrival  int64          `json:"arrival" doc:"Its newest arrival, 0 for none"`
	State    string         `json:"state" doc:"Of its newest arrival"`
}

// FileList is the files at a landing.
type FileList struct {
	Items []SeenFile `json:"items" nullable:"false"`
	More  bool       `json:"more" doc:"There are more than were asked for"`
}

// Delivered says where a file lies that was delivered.
type Delivered struct {
	Feed     string         `json:"feed"`
	Path     string         `json:"path"`
	Size     int64          `json:"size"`
	Captures map[string]any `json:"captures"`
}

// Difference is where the ledger and the target's markers do not say the same.
type Difference struct {
	Arrival int64  `json:"arrival"`
	Path    string `json:"path"`
	What    string `json:"what"`
	Safe    bool   `json:"safe" doc:"It can be mended without a person"`
	Mended  bool   `json:"mended"`
	Way     string `json:"way" doc:"What mends it"`
}

// DifferenceList is where ledger and markers differ.
type DifferenceList struct {
	Items []Difference `json:"items" nullable:"false"`
}

// Rebuild loads all arrivals of a feed afresh.
type Rebuild struct {
	Because       string `json:"because" minLength:"1" maxLength:"1000" doc:"Why; it is kept with who and when"`
	Without       bool   `json:"without,omitempty" doc:"Do without arrivals whose files are not to be had any more"`
	WithoutOthers bool   `json:"without_others,omitempty" doc:"Lose the rows that no arrival brought"`
}

// Rebuilding says what a rebuild would do.
type Rebuilding struct {
	Feed       string        `json:"feed"`
	Table      string        `json:"table"`
	There      bool          `json:"there" doc:"The table; else it would be made"`
	Rows       int64         `json:"rows" doc:"Of the table now"`
	RowsAfter  int64         `json:"rows_after" doc:"As far as the balances of the loads tell"`
	Others     int64         `json:"others" doc:"Rows that no arrival brought: they would be lost"`
	Changed    int64         `json:"changed" doc:"Rows that somebody else changed: they become what the files say"`
	Arrivals   int64         `json:"arrivals" doc:"That would be loaded afresh"`
	Missing    []GoneArrival `json:"missing" nullable:"false"`
	Superseded []int64       `json:"superseded" nullable:"false" doc:"Arrivals whose files are gone, and that later versions took the place of"`
}

// GoneArrival is an arrival whose file is not to be had any more.
type GoneArrival struct {
	Arrival int64  `json:"arrival"`
	Path    string `json:"path"`
	Why     string `json:"why"`
}

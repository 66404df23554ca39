package ledger

import (
	"strings"
	"time"
	"unicode/utf8"

	"mullein/internal/core/balance"
	"mullein/internal/core/filename"
)

// State is the state of an arrival.
type State string

// The states of an arrival, in the order of a file's life, then the ends.
const (
	Noticed  State = "noticed"
	Settling State = "settling"
	Ready    State = "ready"
	Loading  State = "loading"
	Loaded   State = "loaded"
	Refused  State = "refused"
	Failed   State = "failed" // with TryAfter: it is tried again; without: it needs a person
	Skipped  State = "skipped"
	Held     State = "held"
	Gone     State = "gone"
	Recalled State = "recalled"
)

// States lists them all.
func States() []State {
	return []State{Noticed, Settling, Ready, Loading, Loaded, Refused, Failed, Skipped, Held, Gone, Recalled}
}

// Arrival is one version of one file at a landing.
type Arrival struct {
	ID          int64           `json:"id" gorm:"primaryKey"`
	Feed        string          `json:"feed"`
	Path        string          `json:"path" doc:"Below the landing"`
	Size        int64           `json:"size" doc:"Bytes"`
	Modified    time.Time       `json:"modified" doc:"The file's own time"`
	Inode       int64           `json:"-"`
	SHA256      string          `json:"sha256" gorm:"column:sha256" doc:"Of the file's bytes, hexadecimal; empty until it was read"`
	State       State           `json:"state" enum:"noticed,settling,ready,loading,loaded,refused,failed,skipped,held,gone,recalled"`
	Reason      string          `json:"reason" doc:"Why it is in this state, for people"`
	Captures    map[string]any  `json:"captures" gorm:"serializer:json" doc:"What the name says"`
	Slot        *time.Time      `json:"slot"`
	SlotNumber  *int64          `json:"slot_number" doc:"Where names count instead of telling a time"`
	Delivery    string          `json:"delivery" doc:"What it belongs to: a list or a slot; empty when it stands alone"`
	IsList      bool            `json:"is_list" doc:"It lists the files of a delivery, and holds no rows"`
	Forced      bool            `json:"forced" doc:"A person wants it loaded: it is no copy and no reissue"`
	Backlog     bool            `json:"backlog" doc:"It lay there before the feed"`
	Waivable    bool            `json:"waivable" doc:"It was refused only for its rejects or a check of the delivery: a person may release it"`
	Waived      bool            `json:"waived" doc:"A person released it: its rejects and the checks of the delivery do not stand against it"`
	Mends       *int64          `json:"mends" doc:"The arrival of which it holds mended rejects"`
	MendedLines []int64         `json:"-" gorm:"serializer:json"`
	Columns     []string        `json:"-" gorm:"serializer:json"`
	CameAt      *time.Time      `json:"came_at" doc:"When it came, as far as is known: where nobody looked for a while, by the file's own time"`
	DueSlot     *int64          `json:"due_slot" doc:"The slot that it fills"`
	Away        Away            `json:"away" enum:",wanted,done,failed" doc:"Whether it was moved from the landing, or deleted"`
	AwayTo      string          `json:"away_to" doc:"Where it lies now, below the landing's root; empty when it was deleted"`
	Version     int             `json:"version" doc:"Of the feed, when it was worked; 0 before"`
	Generation  int             `json:"generation" doc:"1 for the first load of these bytes under this path, then 2"`
	RunID       *int64          `json:"run"`
	CopyOf      *int64          `json:"copy_of" doc:"The arrival that this one is a copy of"`
	Attempts    int             `json:"attempts"`
	TryAfter    *time.Time      `json:"try_after" doc:"When a failed load is tried again"`
	NoticedAt   time.Time       `json:"noticed_at" gorm:"default:now()"`
	SettlingAt  *time.Time      `json:"settling_at"`
	ReadyAt     *time.Time      `json:"ready_at"`
	OpenedAt    *time.Time      `json:"opened_at"`
	StagedAt    *time.Time      `json:"staged_at" doc:"When all rows were read"`
	FinishedAt  *time.Time      `json:"finished_at"`
	Balance     balance.Balance `json:"balance" gorm:"serializer:json"`
}

// Name records what an arrival's name says.
func (a *Arrival) Name(captures filename.Captures) {
	a.Captures = captures
	if slot, ok := captures.Slot(); ok {
		a.Slot = &slot
	}
	if n, ok := captures["slot"].(int64); ok {
		a.SlotNumber = &n
	}
}

// Away is whether a file was put away.
type Away string

// The steps of putting a file away.
const (
	AwayNot    Away = ""
	AwayWanted Away = "wanted"
	AwayDone   Away = "done"
	AwayFailed Away = "failed" // the reason says why; a person has to look
)

// RunState is the state of a run.
type RunState string

// The states of a run.
const (
	RunQueued    RunState = "queued"
	RunRunning   RunState = "running"
	RunDone      RunState = "done"
	RunFailed    RunState = "failed"
	RunCancelled RunState = "cancelled"
)

// Run is one working of a feed over a set of arrivals.
type Run struct {
	ID         int64           `json:"id" gorm:"primaryKey"`
	Feed       string          `json:"feed"`
	Version    int             `json:"version" doc:"Of the feed"`
	Cause      string          `json:"cause" enum:"arrival,schedule,after,hand"`
	By         string          `json:"by" doc:"Who asked for it"`
	State      RunState        `json:"state" enum:"queued,running,done,failed,cancelled"`
	Reason     string          `json:"reason" doc:"Why it failed"`
	QueuedAt   time.Time       `json:"queued_at" gorm:"default:now()"`
	StartedAt  *time.Time      `json:"started_at"`
	FinishedAt *time.Time      `json:"finished_at"`
	Loaded     int64           `json:"loaded" doc:"Arrivals loaded"`
	Refused    int64           `json:"refused" doc:"Arrivals refused"`
	Failed     int64           `json:"failed" doc:"Arrivals that failed"`
	Skipped    int64           `json:"skipped" doc:"Arrivals skipped"`
	Balance    balance.Balance `json:"balance" gorm:"serializer:json" doc:"The sum over its arrivals"`
	Wanted     Wanted          `json:"wanted" gorm:"serializer:json" doc:"To what it is narrowed"`
	Told       Told            `json:"told" gorm:"serializer:json" doc:"What a run over slots came across"`
	CancelBy   string          `json:"cancel_by" doc:"Who asked for it to end"`
}

// Wanted narrows a run. Its zero value wants everything that waits.
type Wanted struct {
	From  string   `json:"from,omitempty" doc:"The first slot: a year, month, day, hour or number, or yesterday"`
	To    string   `json:"to,omitempty" doc:"The last slot"`
	Paths []string `json:"paths,omitempty" maxItems:"1000" doc:"Only these files"`
}

// IsZero reports whether nothing is narrowed.
func (w Wanted) IsZero() bool { return w.From == "" && w.To == "" && len(w.Paths) == 0 }

// Told is what a run over slots came across.
type Told struct {
	Slots int64    `json:"slots,omitempty" doc:"Slots gone through"`
	At    string   `json:"at,omitempty" doc:"The slot it is at, or ended at"`
	Empty int64    `json:"empty,omitempty" doc:"Slots without files"`
	Named []string `json:"named,omitempty" doc:"The first of the slots without files"`
}

// Feed is the record of a feed; its content is in its versions.
type Feed struct {
	Name        string           `json:"name" gorm:"primaryKey"`
	Version     int              `json:"version"`
	Paused      bool             `json:"paused"`
	RemovedAt   *time.Time       `json:"-"`
	CreatedAt   time.Time        `json:"created_at" gorm:"default:now()"`
	Problem     string           `json:"problem" doc:"Why it is not working; empty when it is"`
	ListedAt    *time.Time       `json:"listed_at" doc:"When its landing was last listed"`
	ListedOnly  bool             `json:"listed_only" doc:"No events come from its landing, so it is only listed now and then"`
	Supplier    string           `json:"-"`
	Folder      string           `json:"-"` // of its landing
	Target      string           `json:"-"` // schema.table, which may have captures in it
	HasDue      bool             `json:"-"` // something is due at times
	Described   int              `json:"-"` // the version from which these were taken
	Waits       string           `json:"waits" doc:"What a delivery still waits for; empty when none does"`
	FiredAt     *time.Time       `json:"-"`
	DueFrom     *time.Time       `json:"due_from" doc:"Where its calendar begins"`
	DueAfter    int64            `json:"-"` // arrivals up to this one have found their slots
	Loads       int64            `json:"-"` // loads so far, for the feeds that come after
	AfterSeen   map[string]int64 `json:"-" gorm:"serializer:json;default:'{}'"`
	Fence       int64            `json:"-"`
	LeaseHolder *string          `json:"-"`
}

// FeedVersion is one wording of a feed. All are kept.
type FeedVersion struct {
	Feed       string    `json:"feed" gorm:"primaryKey"`
	Version    int       `json:"version" gorm:"primaryKey"`
	Definition string    `json:"definition" doc:"The feed file, as it was put"`
	PutAt      time.Time `json:"put_at" gorm:"default:now()"`
	PutBy      string    `json:"put_by"`
}

// Reject is a row that was left out, with why.
type Reject struct {
	ArrivalID  int64  `json:"arrival" gorm:"primaryKey"`
	Number     int    `json:"number" gorm:"primaryKey" doc:"From 1, within the arrival"`
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

// Mark says which bytes of a row are the cell at fault, where they are among the
// first of them, which are kept.
func (r *Reject) Mark(row []byte, from, to, kept int) {
	if to > min(kept, len(row)) {
		return
	}
	characters := func(b []byte) int { return utf8.RuneCountInString(strings.ToValidUTF8(string(b), "\uFFFD")) }
	r.MarkFrom = characters(row[:from])
	r.MarkTo = r.MarkFrom + characters(row[from:to])
}

// CheckResult is what a check saw of an arrival.
type CheckResult struct {
	ID        int64     `json:"id" gorm:"primaryKey"`
	Feed      string    `json:"feed"`
	ArrivalID int64     `json:"arrival"`
	Name      string    `json:"check"`
	Scope     string    `json:"scope" enum:"file,row,delivery"`
	Otherwise string    `json:"else" enum:"reject,refuse,warn"`
	Held      bool      `json:"held"`
	Saw       string    `json:"saw" doc:"What it looked at and found"`
	Value     *float64  `json:"value" doc:"The number behind it, for its history; null where there is none"`
	Failed    int64     `json:"failed" doc:"Rows that broke it"`
	At        time.Time `json:"at" gorm:"default:now()"`
}

// Event says that something changed. Followers read the record for the rest.
type Event struct {
	ID      int64     `json:"id" gorm:"primaryKey"`
	At      time.Time `json:"at" gorm:"default:now()"`
	Kind    string    `json:"kind" enum:"arrival,run,load,feed,slot"`
	Feed    string    `json:"feed"`
	Arrival int64     `json:"arrival"`
	Run     int64     `json:"run"`
	State   string    `json:"state"`
}

// WorkWanted is the state in the event of a feed when somebody decided something by
// which there may be work for it.
const WorkWanted = "wanted"

// wanted is the event that there may be work for a feed.
func wanted(feed string) Event { return Event{Kind: "feed", Feed: feed, State: WorkWanted} }

// Decision is what a person decided about an arrival or a slot, and why.
type Decision struct {
	ID      int64     `json:"id" gorm:"primaryKey"`
	At      time.Time `json:"at" gorm:"default:now()"`
	By      string    `json:"by"`
	What    string    `json:"what" enum:"redo,skip,hold,release,accept,excuse,recall,mend,rebuild"`
	Because string    `json:"because"`
	Feed    string    `json:"feed"`
	Arrival *int64    `json:"arrival"`
	Slot    *int64    `json:"slot"`
}

// TableName keeps GORM from making plurals.
func (Decision) TableName() string { return "decision" }

// TableName keeps GORM from making plurals.
func (Arrival) TableName() string { return "arrival" }

// TableName keeps GORM from making plurals.
func (Run) TableName() string { return "run" }

// TableName keeps GORM from making plurals.
func (Feed) TableName() string { return "feed" }

// TableName keeps GORM from making plurals.
func (FeedVersion) TableName() string { return "feed_version" }

// TableName keeps GORM from making plurals.
func (Reject) TableName() string { return "reject" }

// TableName keeps GORM from making plurals.
func (Event) TableName() string { return "event" }

// TableName keeps GORM from making plurals.
func (CheckResult) TableName() string { return "check_result" }

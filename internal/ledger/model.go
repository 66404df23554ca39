package ledger

import (
	"strings"
	"time"
	"unicode/utf8"

	"mullein/internal/core/balance"
	"mullein/internal/core/filename"
	"mullein/internal/core/tabular"
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
	ID          int64 `gorm:"primaryKey"`
	Feed        string
	Path        string    // below the landing
	Size        int64     // bytes
	Modified    time.Time // the file's own time
	Inode       int64
	Changed     *time.Time // the file's change time; nil where it is not known
	SHA256      string     `gorm:"column:sha256"` // of the file's bytes, hexadecimal; empty until it was read
	State       State
	Reason      string         // why it is in this state, for people
	Captures    map[string]any `gorm:"serializer:json"` // what the name says
	Slot        *time.Time
	SlotNumber  *int64     // where names count instead of telling a time
	Delivery    string     // what it belongs to: a list or a slot; empty when it stands alone
	IsList      bool       // it lists the files of a delivery, and holds no rows
	Forced      bool       // a person wants it loaded: it is no copy and no reissue
	Backlog     bool       // it lay there before the feed
	Waivable    bool       // it was refused only for its rejects or a check of the delivery: a person may release it
	Waived      bool       // a person released it: its rejects and the checks of the delivery do not stand against it
	Mends       *int64     // the arrival of which it holds mended rejects
	MendedLines []int64    `gorm:"serializer:json"`
	Columns     []string   `gorm:"serializer:json"`
	CameAt      *time.Time // when it came, as far as is known: where nobody looked for a while, by the file's own time
	DueSlot     *int64     // the slot that it fills
	Away        Away       // whether it was moved from the landing, or deleted
	AwayTo      string     // where it lies now, below the landing's root; empty when it was deleted
	Version     int        // of the feed, when it was worked; 0 before
	Generation  int        // 1 for the first load of these bytes under this path, then 2
	RunID       *int64
	CopyOf      *int64 // the arrival that this one is a copy of
	Attempts    int
	TryAfter    *time.Time // when a failed load is tried again
	NoticedAt   time.Time  `gorm:"default:now()"`
	SettlingAt  *time.Time
	ReadyAt     *time.Time
	OpenedAt    *time.Time
	StagedAt    *time.Time // when all rows were read
	FinishedAt  *time.Time
	Balance     balance.Balance          `gorm:"serializer:json"`
	KeyRange    map[string]tabular.Range `gorm:"serializer:json"` // of a load, by column of the key; nil where it is not known
	Earlier     []EarlierLoad            `gorm:"serializer:json"` // generations, the oldest first; the last 50
}

// EarlierLoad is the steps of a generation of an arrival that was loaded again since.
type EarlierLoad struct {
	Generation int        `json:"generation"`
	ReadyAt    *time.Time `json:"ready_at"`
	OpenedAt   *time.Time `json:"opened_at"`
	StagedAt   *time.Time `json:"staged_at"`
}

// withEarlier is the SQL of the earlier generations of an arrival (a) that is loaded again.
const withEarlier = `(CASE WHEN jsonb_array_length(coalesce(a.earlier, '[]')) >= 50 THEN a.earlier - 0
	ELSE coalesce(a.earlier, '[]') END ||
	jsonb_build_object('generation', a.generation, 'ready_at', a.ready_at, 'opened_at', a.opened_at, 'staged_at',
	a.staged_at))`

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
	ID         int64 `gorm:"primaryKey"`
	Feed       string
	Version    int // of the feed
	Cause      string
	By         string // who asked for it
	State      RunState
	Reason     string    // why it failed
	QueuedAt   time.Time `gorm:"default:now()"`
	StartedAt  *time.Time
	FinishedAt *time.Time
	Loaded     int64           // arrivals loaded
	Refused    int64           // arrivals refused
	Failed     int64           // arrivals that failed
	Skipped    int64           // arrivals skipped
	Balance    balance.Balance `gorm:"serializer:json"` // the sum over its arrivals
	Wanted     Wanted          `gorm:"serializer:json"` // to what it is narrowed
	Told       RunSlots        `gorm:"serializer:json"` // what a run over slots came across
	CancelBy   string          // who asked for it to end
}

// Wanted narrows a run. Its zero value wants everything that waits.
type Wanted struct {
	From  string   `json:"from,omitempty"`  // the first slot: a year, month, day, hour or number, or yesterday
	To    string   `json:"to,omitempty"`    // the last slot
	Paths []string `json:"paths,omitempty"` // only these files

	Rebuild *Rebuilding `json:"rebuild,omitempty"` // all that is loaded is loaded afresh instead; nil where not
}

// Rebuilding is what a rebuild is to do without.
type Rebuilding struct {
	WithoutMissing bool   `json:"without_missing,omitempty"` // arrivals whose files are gone
	WithoutOthers  bool   `json:"without_others,omitempty"`  // rows that no arrival brought
	Because        string `json:"because"`
}

// IsZero reports whether all that waits is wanted.
func (w Wanted) IsZero() bool {
	return w.From == "" && w.To == "" && len(w.Paths) == 0 && w.Rebuild == nil
}

// RunSlots is what a run over slots came across.
type RunSlots struct {
	Slots int64    `json:"slots,omitempty"` // slots gone through
	At    string   `json:"at,omitempty"`    // the slot it is at, or ended at
	Empty int64    `json:"empty,omitempty"` // slots without files
	Named []string `json:"named,omitempty"` // the first of the slots without files
}

// Feed is the record of a feed; its content is in its versions.
type Feed struct {
	Name        string `gorm:"primaryKey"`
	Version     int
	Paused      bool
	RemovedAt   *time.Time
	CreatedAt   time.Time  `gorm:"default:now()"`
	Problem     string     // why it is not working; empty when it is
	ListedAt    *time.Time // when its landing was last listed
	ListedOnly  bool       // no events come from its landing, so it is only listed now and then
	Owner       string     // who answers for it, as its feed file says
	Supplier    string
	Folder      string   // of its landing
	Target      string   // schema.table, which may have captures in it
	HasDue      bool     // something is due at times
	Connection  string   // of its target
	ComesAfter  []string `gorm:"serializer:json;default:'[]'"` // the feeds after which it runs
	Described   int      // the version from which these were taken
	Waits       string   // what a delivery still waits for; empty when none does
	FiredAt     *time.Time
	DueFrom     *time.Time       // where its calendar begins
	DueAfter    int64            // arrivals up to this one have found their slots
	Loads       int64            // loads so far, for the feeds that come after
	AfterSeen   map[string]int64 `gorm:"serializer:json;default:'{}'"`
	Fence       int64
	LeaseHolder *string
}

// FeedVersion is one wording of a feed. All are kept.
type FeedVersion struct {
	Feed       string    `gorm:"primaryKey"`
	Version    int       `gorm:"primaryKey"`
	Definition string    // the feed file, as it was put
	PutAt      time.Time `gorm:"default:now()"`
	PutBy      string
}

// Reject is a row that was left out, with why.
type Reject struct {
	ArrivalID  int64  `gorm:"primaryKey"`
	Number     int    `gorm:"primaryKey"` // from 1, within the arrival
	Line       int64  // in the unpacked file, from 1
	ColumnName string // empty when the row as a whole is at fault
	Reason     string
	Value      string // the cell, shortened
	Original   string // the row as it stands in the file, shortened
	Rule       string // what it broke: reading, cells, type, a constraint such as maximum, derive, or the name of a check
	MarkFrom   int    // the first character of the cell at fault in the original, from 0
	MarkTo     int    // the character after its last; 0 where it is not known
	Masked     bool   // its private values are not kept
	MendedIn   *int64 // the arrival in which it was handed in again
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
	ID        int64 `gorm:"primaryKey"`
	Feed      string
	ArrivalID int64
	Name      string
	Scope     string
	Otherwise string
	Held      bool
	Saw       string    // what it looked at and found
	Value     *float64  // the number behind it, for its history; null where there is none
	Failed    int64     // rows that broke it
	At        time.Time `gorm:"default:now()"`
	Low       *float64  // what the value had to lie between; null where that is not one number
	High      *float64
}

// Event says that something changed. Followers read the record for the rest.
type Event struct {
	ID      int64     `json:"id" gorm:"primaryKey"`
	At      time.Time `json:"at" gorm:"default:now()"`
	Kind    string    `json:"kind"`
	Feed    string    `json:"feed"`
	Arrival int64     `json:"arrival"`
	Run     int64     `json:"run"`
	Slot    int64     `json:"slot"`
	State   string    `json:"state"`
	Rollup  string    `json:"rollup"`  // of kind rollup: which was computed
	Keys    int64     `json:"keys"`    // of kind rollup: how many keys, or rows where it was computed as a whole
	Extract string    `json:"extract"` // of kind extract: which one
}

// WorkWanted is the state in the event of a feed when somebody decided something by
// which there may be work for it.
const WorkWanted = "wanted"

// wanted is the event that there may be work for a feed.
func wanted(feed string) Event { return Event{Kind: "feed", Feed: feed, State: WorkWanted} }

// Decision is what a person decided about an arrival or a slot, and why.
type Decision struct {
	ID      int64     `gorm:"primaryKey"`
	At      time.Time `gorm:"default:now()"`
	By      string
	What    string
	Because string
	Feed    string
	Arrival *int64
	Slot    *int64
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

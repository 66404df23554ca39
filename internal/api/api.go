// Package api is what goes over the wire: the types of the API's answers and
// questions, shared by the service and its client. The OpenAPI document is made
// from them.
package api

import (
	"time"

	"mullein/internal/core/balance"
	"mullein/internal/core/check"
	"mullein/internal/core/feed"
	"mullein/internal/inspect"
	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/table"
)

// Session says who is signed in, and where.
type Session struct {
	Name    string `json:"name"`
	Service string `json:"service" doc:"The machine"`
	Version string `json:"version"`
}

// FeedView is a feed with what it is and what it does.
type FeedView struct {
	ledger.Feed
	About    string             `json:"about"`
	Owner    string             `json:"owner"`
	Supplier string             `json:"supplier"`
	Contact  string             `json:"contact"`
	Landing  string             `json:"landing"`
	Files    string             `json:"files" doc:"The file pattern"`
	Table    string             `json:"table"`
	Key      []string           `json:"key" nullable:"false"`
	Newest   string             `json:"newest"`
	Settle   float64            `json:"settle" doc:"Seconds"`
	Arrival  bool               `json:"on_arrival"`
	Cron     string             `json:"cron"`
	After    []string           `json:"after" nullable:"false" doc:"The feeds that it comes after"`
	NextRun  *time.Time         `json:"next_run_at" doc:"By the schedule"`
	Due      string             `json:"due" doc:"When deliveries are expected, in words; empty when none are"`
	Say      string             `json:"say" doc:"What to say when a slot is missing"`
	NextDue  *time.Time         `json:"next_due_at"`
	Delivery string             `json:"delivery" enum:"file,list,slot"`
	Tolerate string             `json:"tolerate"`
	Counts   *ledger.FeedCounts `json:"counts"`
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
	Feed  string `json:"feed"`
	Table string `json:"table"`
	Files string `json:"files"`
}

// FeedPut says what putting a feed did.
type FeedPut struct {
	Feed    string `json:"feed"`
	Version int    `json:"version"`
	Changed bool   `json:"changed" doc:"false when it is word for word the present version"`
	Shape   string `json:"shape" doc:"What stands between the feed and its table as it is; empty when nothing does"`
}

// VersionList is all wordings of a feed.
type VersionList struct {
	Items []ledger.FeedVersion `json:"items" nullable:"false"`
}

// RejectList is a page of rejects.
type RejectList struct {
	Items []ledger.NotableReject `json:"items" nullable:"false"`
	More  bool                   `json:"more" doc:"There are more; ask for those after the last of these"`
}

// FeedCheck is a check of a feed, and what it saw last.
type FeedCheck struct {
	Name  string              `json:"check"`
	Scope check.Scope         `json:"scope" enum:"file,row,delivery"`
	Else  check.Else          `json:"else" enum:"reject,refuse,warn"`
	Must  string              `json:"must"`
	Last  *ledger.CheckResult `json:"last" doc:"null before the first load"`
}

// FeedCheckList is the checks of a feed.
type FeedCheckList struct {
	Items []FeedCheck `json:"items" nullable:"false"`
}

// CheckResultList is a page of what checks saw.
type CheckResultList struct {
	Items []ledger.CheckResult `json:"items" nullable:"false"`
	Next  int64                `json:"next" doc:"The before of the next page; 0 when there is none"`
}

// RejectGroupList is rejects by what they broke.
type RejectGroupList struct {
	Items []ledger.RejectGroup `json:"items" nullable:"false"`
}

// Mend hands rejects in again that were put right.
type Mend struct {
	Rows    []ledger.MendedRow `json:"rows" minItems:"1" maxItems:"1000" nullable:"false"`
	Because string             `json:"because" minLength:"1" maxLength:"1000" doc:"Why; it is kept with who and when"`
}

// Recall takes out what an arrival loaded.
type Recall struct {
	Because string `json:"because,omitempty" maxLength:"1000" doc:"Why; it is kept with who and when. A preview needs none"`
	Preview bool   `json:"preview,omitempty" doc:"Only say what would become of the rows"`
	Back    bool   `json:"back,omitempty" doc:"Put back what was recalled"`
}

// Rebuild loads all arrivals of a feed afresh.
type Rebuild struct {
	Because string `json:"because" minLength:"1" maxLength:"1000" doc:"Why; it is kept with who and when"`
	Without bool   `json:"without,omitempty" doc:"Do without arrivals whose files are not to be had any more"`
}

// Collapsed says what collapsing did.
type Collapsed struct {
	Rows int64 `json:"rows" doc:"That went"`
}

// Original is a record as it stands in its file.
type Original struct {
	Text string `json:"text"`
	Why  string `json:"why" doc:"Why it cannot be shown"`
}

// TargetView is a target and the feeds that end in it.
type TargetView struct {
	table.Described
	Feeds []string `json:"feeds" nullable:"false"`
	Mode  string   `json:"mode"`
	Key   []string `json:"key" nullable:"false"`
	Kept  string   `json:"kept" doc:"How long the journal is kept"`
	DDL   []string `json:"ddl" nullable:"false" doc:"The statements that make the table"`
}

// RunList is a page of runs.
type RunList struct {
	Items []ledger.Run `json:"items" nullable:"false"`
	Next  int64        `json:"next" doc:"The before of the next page; 0 when there is none"`
}

// ArrivalList is a page of arrivals.
type ArrivalList struct {
	Items []ledger.Arrival `json:"items" nullable:"false"`
	Next  int64            `json:"next" doc:"The before of the next page; 0 when there is none"`
}

// RunWanted narrows a run.
type RunWanted struct {
	ledger.Wanted
}

// Verdict asks for something to be done to arrivals: to those that are named
// by their numbers, or to those of a feed that the other fields select.
type Verdict struct {
	Verb     ledger.Verb  `json:"verb" enum:"redo,skip,hold,release"`
	Because  string       `json:"because" minLength:"1" maxLength:"1000" doc:"Why; it is kept"`
	Arrivals []int64      `json:"arrivals,omitempty" maxItems:"10000"`
	Feed     string       `json:"feed,omitempty" maxLength:"63"`
	Text     string       `json:"text,omitempty" maxLength:"200" doc:"Part of the path; * and ? stand for any text and one character"`
	Day      string       `json:"day,omitempty" doc:"The day of their slots, as 2026-07-01; in UTC"`
	State    ledger.State `json:"state,omitempty"`
	Backlog  bool         `json:"backlog,omitempty" doc:"What lay there before the feed and was skipped for it"`
}

// Decided says to what something was done.
type Decided struct {
	Arrivals int64            `json:"arrivals" doc:"How many"`
	Items    []ledger.Arrival `json:"items" nullable:"false" doc:"The first hundred of them"`
}

// DecisionList is what people decided, oldest first.
type DecisionList struct {
	Items []ledger.Decision `json:"items" nullable:"false"`
}

// Because returns the reason for a decision.
type Because struct {
	Because string `json:"because" minLength:"1" maxLength:"1000"`
}

// AcceptFile takes a file for a slot.
type AcceptFile struct {
	Path    string `json:"path" minLength:"1" maxLength:"4096" doc:"Below the landing"`
	Because string `json:"because" minLength:"1" maxLength:"1000"`
}

// FileList is the files at a landing.
type FileList struct {
	Items []inspect.Seen `json:"items" nullable:"false"`
	More  bool           `json:"more" doc:"There are more than were asked for"`
}

// Delivered says where a file lies that was delivered.
type Delivered struct {
	Feed     string         `json:"feed"`
	Path     string         `json:"path"`
	Size     int64          `json:"size"`
	Captures map[string]any `json:"captures"`
}

// SlotView is a slot with what its files would be called.
type SlotView struct {
	ledger.Slot
	Expected string `json:"expected" doc:"The name that is expected, of a slot that is not complete; * where any text may stand"`
	Say      string `json:"say"`
}

// SlotList is slots, in order.
type SlotList struct {
	Items []SlotView `json:"items" nullable:"false"`
	More  bool       `json:"more" doc:"There are more; ask for a shorter span"`
}

// SlotCountList is counts of slots, in order of time.
type SlotCountList struct {
	Items []ledger.SlotCount `json:"items" nullable:"false"`
}

// SlotDetail is a slot, what came for it, and what people decided.
type SlotDetail struct {
	SlotView
	Arrivals  []ledger.Arrival  `json:"arrivals" nullable:"false"`
	Decisions []ledger.Decision `json:"decisions" nullable:"false"`
}

// Plan is what a calendar will have in a span.
type Plan struct {
	Zone  string             `json:"zone"`
	Items []feed.PlannedSlot `json:"items" nullable:"false"`
}

// DifferenceList is where ledger and markers differ.
type DifferenceList struct {
	Items []inspect.Difference `json:"items" nullable:"false"`
}

// ServiceView is a service and what it does.
type ServiceView struct {
	ledger.Service
	Loads []load.Progress `json:"loads" nullable:"false"`
}

// Working is what is being loaded now.
type Working struct {
	Loads []load.Progress `json:"loads" nullable:"false"`
}

// Hello begins a stream, and keeps it open when nothing happens.
type Hello struct {
	At time.Time `json:"at"`
}

// Status is what the command line and the console begin with.
type Status struct {
	Service  string           `json:"service"`
	Version  string           `json:"version"`
	Roots    []string         `json:"landing_roots" nullable:"false"`
	Totals   ledger.Totals    `json:"totals"`
	Stopped  []StoppedFeed    `json:"stopped" nullable:"false" doc:"Feeds that do not work: the first of them"`
	Wrong    []SlotView       `json:"wrong" nullable:"false" doc:"Slots of the last seven days that are missing, refused, or late and not here yet; the newest first"`
	Needs    []ledger.Arrival `json:"needs" nullable:"false" doc:"Arrivals that need a person, the newest first"`
	Feeds    []FeedView       `json:"feeds" nullable:"false" doc:"Those that files came for lately, the latest first"`
	Loads    []load.Progress  `json:"loads" nullable:"false" doc:"What is being loaded now, by all services"`
	Services []ServiceView    `json:"services" nullable:"false"`
}

// Day is the last 24 hours and the next few, a page of feeds of it.
type Day struct {
	From  time.Time    `json:"from"`
	Now   time.Time    `json:"now"`
	To    time.Time    `json:"to"`
	Feeds []DayLine    `json:"feeds" nullable:"false" doc:"Those with something to see, the most first"`
	Next  string       `json:"next" doc:"The after of the next page; empty when there is none"`
	Quiet []QuietFeeds `json:"quiet" nullable:"false" doc:"Those without anything to see, folded"`
}

// QuietFeeds are feeds of one supplier, or in one folder, without anything to see.
type QuietFeeds struct {
	Of    string `json:"of" doc:"The supplier, or else the folder"`
	Feeds int64  `json:"feeds"`
	Only  string `json:"only" doc:"The feed, where it is one"`
}

// DayLine is a feed's line on the ruler.
type DayLine struct {
	Feed   string      `json:"feed"`
	Paused bool        `json:"paused"`
	Runs   []time.Time `json:"runs" nullable:"false" doc:"Times of the schedule"`
	Marks  []DayMark   `json:"marks" nullable:"false"`
	Slots  []DaySlot   `json:"slots" nullable:"false"`
}

// DayMark is an arrival on the ruler, or several of a few minutes.
type DayMark = ledger.Mark

// DaySlot is what is due at a time, on the ruler.
type DaySlot = ledger.DaySlot

// RollupList is all rollups.
type RollupList struct {
	Items []table.RollupState `json:"items" nullable:"false"`
}

// RollupPut is a rollup's file.
type RollupPut struct {
	File       string `json:"file" maxLength:"1000" doc:"Its name, for errors"`
	Definition string `json:"definition" maxLength:"65536"`
}

// RollupChecked says what a rollup's file describes.
type RollupChecked struct {
	Rollup string `json:"rollup"`
	Table  string `json:"table"`
}

// RollupRebuilt says how a rollup was computed as a whole.
type RollupRebuilt struct {
	Rows int64 `json:"rows" doc:"Of the rollup"`
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
	Feed       string          `json:"feed"`
	Arrival    int64           `json:"arrival"`
	Generation int             `json:"generation"`
	Run        *int64          `json:"run"`
	SHA256     string          `json:"sha256"`
	Balance    balance.Balance `json:"balance"`
}

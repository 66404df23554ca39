package api

import (
	"encoding/json"
	"time"
)

// TableShape is a table as the database has it.
type TableShape struct {
	Table      string        `json:"table"`
	There      bool          `json:"there" doc:"It exists"`
	About      string        `json:"about" doc:"Its comment"`
	Columns    []TableColumn `json:"columns" nullable:"false"`
	Unique     [][]string    `json:"unique" nullable:"false" doc:"The columns of its unique indexes beside the primary key"`
	Rows       int64         `json:"rows" doc:"As far as loads and recalls know; others may have added some"`
	Bytes      int64         `json:"bytes" doc:"Of the table"`
	IndexBytes int64         `json:"index_bytes"`
	Partitions int64         `json:"partitions"`
	Entries    int64         `json:"entries" doc:"Of the journal"`
	Loads      []LoadEntry   `json:"loads" nullable:"false" doc:"The last ones, the newest first"`
	Recalls    []RecallEntry `json:"recalls" nullable:"false" doc:"The last ones, the newest first"`
	Next       int64         `json:"next" doc:"The before of the next page of loads; 0 when there is none"`
}

// TableColumn is a column of a table.
type TableColumn struct {
	Name    string `json:"name"`
	Type    string `json:"type"`
	Key     bool   `json:"key" doc:"Part of the primary key"`
	NotNull bool   `json:"not_null"`
	About   string `json:"about"`
}

// LoadEntry is a load as the target's database knows it.
type LoadEntry struct {
	Nth         int64     `json:"nth" doc:"Its place in the order of all loads"`
	Feed        string    `json:"feed"`
	Path        string    `json:"path"`
	Arrival     int64     `json:"arrival"`
	Generation  int       `json:"generation"`
	Run         int64     `json:"run"`
	SHA256      string    `json:"sha256"`
	Balance     Balance   `json:"balance"`
	Active      bool      `json:"active" doc:"In force: neither recalled nor replaced"`
	Journal     bool      `json:"journal" doc:"What it changed is kept"`
	RowsBefore  *int64    `json:"rows_before" doc:"Of the target"`
	RowsAfter   *int64    `json:"rows_after"`
	CommittedAt time.Time `json:"committed_at"`

	ReadyAt  *time.Time `json:"ready_at" doc:"When its turn began, as far as the ledger knows"`
	OpenedAt *time.Time `json:"opened_at" doc:"When its file was opened, as far as the ledger knows"`
	ReadAt   *time.Time `json:"read_at" doc:"When all of its rows were read, as far as the ledger knows"`
}

// LoadList is loads, the oldest first.
type LoadList struct {
	Items []LoadEntry `json:"items" nullable:"false"`
}

// RecallEntry is a recall as the target's database knows it.
type RecallEntry struct {
	Nth     int64   `json:"nth"`
	Feed    string  `json:"feed"`
	Off     []int64 `json:"off" nullable:"false" doc:"The places of the loads that it took out"`
	On      []int64 `json:"on" nullable:"false" doc:"The places of the loads that it put back"`
	By      string  `json:"by"`
	Because string  `json:"because"`
}

// TargetView is a target and the feeds that end in it.
type TargetView struct {
	TableShape
	Feeds []string `json:"feeds" nullable:"false"`
	Mode  string   `json:"mode"`
	Key   []string `json:"key" nullable:"false"`
	Kept  string   `json:"kept" doc:"How long the journal is kept"`
	DDL   []string `json:"ddl" nullable:"false" doc:"The statements that make the table"`
}

// Collapsed says what collapsing did.
type Collapsed struct {
	Rows int64 `json:"rows" doc:"That went"`
}

// TableRows is a page of a target table.
type TableRows struct {
	Table   string   `json:"table"`
	Key     []string `json:"key" nullable:"false" doc:"The columns of its key"`
	Columns []string `json:"columns"`
	Rows    [][]any  `json:"rows" nullable:"false" doc:"Each value as text, as PostgreSQL writes it, or null"`
	More    bool     `json:"more" doc:"There are others after these"`
}

// RowHistory is what is known of a row.
type RowHistory struct {
	Table string          `json:"table"`
	Key   []string        `json:"key" nullable:"false" doc:"The columns of the key"`
	Now   json.RawMessage `json:"now" doc:"The row as it stands in the target; null for none"`
	Hand  bool            `json:"hand" doc:"Somebody else has written it last"`
	Steps []RowStep       `json:"steps" nullable:"false" doc:"The oldest first, as far back as the journal goes"`
}

// RowStep is one thing that happened to a row.
type RowStep struct {
	What   string          `json:"what" enum:"inserted,updated,deleted,marked,changed by hand" doc:"marked: as absent from a delivery"`
	Load   *LoadEntry      `json:"load" doc:"The load that did it; null when it was none, or is not known any more"`
	Line   int64           `json:"line" doc:"Of the file; 0 where it is not known"`
	At     *time.Time      `json:"at"`
	Before json.RawMessage `json:"before" doc:"The row before, null for none"`
	After  json.RawMessage `json:"after" doc:"The row after, null for none"`
}

// RollupState is a rollup and how it stands.
type RollupState struct {
	Name       string     `json:"rollup"`
	About      string     `json:"about"`
	Table      string     `json:"table"`
	Key        []string   `json:"key" nullable:"false"`
	Sources    []string   `json:"sources" nullable:"false" doc:"The tables that it reads"`
	Definition string     `json:"definition"`
	PutBy      string     `json:"put_by"`
	PutAt      time.Time  `json:"put_at"`
	Filled     bool       `json:"filled" doc:"It was computed as a whole since it was put"`
	ComputedAt *time.Time `json:"computed_at" doc:"When keys were recomputed last"`
	Waiting    int64      `json:"waiting" doc:"Notes of keys that wait to be recomputed"`
	Problem    string     `json:"problem" doc:"Why it is not kept; empty when it is"`
}

// RollupList is all rollups.
type RollupList struct {
	Items []RollupState `json:"items" nullable:"false"`
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

// RollupVerified is what a comparison of a rollup with a full computation found.
type RollupVerified struct {
	Rows    int64             `json:"rows" doc:"Of the rollup"`
	Same    int64             `json:"same"`
	Wrong   int64             `json:"wrong" doc:"Rows that the select gives otherwise"`
	Missing int64             `json:"missing" doc:"Rows that the select gives and the rollup lacks"`
	Surplus int64             `json:"surplus" doc:"Rows that the select does not give"`
	Samples []json.RawMessage `json:"samples" nullable:"false" doc:"Keys of rows that are not the same"`
}

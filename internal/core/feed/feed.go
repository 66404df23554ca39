package feed

import (
	"time"

	"mullein/internal/core/check"
	"mullein/internal/core/expression"
	"mullein/internal/core/filename"
	"mullein/internal/core/tabular"
)

// Feed is a standing order: which files, where, how to read them, what must be
// true, and which table they end in. A Feed that [Parse] gave is complete: all
// defaults are filled in and all parts fit each other.
type Feed struct {
	Name     string
	About    string
	Owner    string
	Supplier Supplier
	Landing  Landing
	Dialect  tabular.Dialect
	Schema   tabular.Schema
	Zone     *time.Location // of times in the data that carry none
	Derive   []Derived
	Tolerate check.Tolerance
	Target   Target
	When     When
}

// Supplier is who sends the files.
type Supplier struct{ Name, Contact string }

// Landing is where the files arrive and which of them belong.
type Landing struct {
	At     string // a folder below one of the service's landing roots
	Files  *filename.Pattern
	Except []*filename.Pattern
	Zone   *time.Location // of times in names
	Settle time.Duration  // a file is whole when its size and time were still for so long
}

// Derived is a column that the file does not have.
type Derived struct {
	Name       string
	Expression string
	Kind       tabular.Kind
}

// Target is the table that rows end in.
type Target struct {
	Schema, Table string
	Newest        string // the field by which the newest row of a key wins; "" for file order
	Lineage       Lineage
}

// Lineage names the columns that say where a row came from; "" leaves one out.
type Lineage struct {
	FromFile, FromLine, FromArrival, LoadedRun, LoadedAt, RowDigest string
}

// StandardLineage is what `lineage: standard` means.
var StandardLineage = Lineage{"from_file", "from_line", "from_arrival", "loaded_run", "loaded_at", "row_digest"}

// Names lists the lineage columns that are kept, in order.
func (l Lineage) Names() []string {
	var names []string
	for _, n := range []string{l.FromFile, l.FromLine, l.FromArrival, l.LoadedRun, l.LoadedAt, l.RowDigest} {
		if n != "" {
			names = append(names, n)
		}
	}
	return names
}

// When says what starts a run.
type When struct {
	Arrival  bool   // as soon as a file is whole
	Cron     string // five fields; "" for none
	Zone     *time.Location
	Attempts int           // how often a load that fails by chance is tried, 1 or more
	Pause    time.Duration // before the second attempt; it doubles
}

// Belongs tells whether a path below the landing belongs to the feed, and what
// its name says.
func (l *Landing) Belongs(path string) (filename.Captures, bool) {
	if filename.AlwaysLeftOut(path) {
		return nil, false
	}
	captures, ok := l.Files.Match(path, l.Zone)
	if !ok {
		return nil, false
	}
	for _, e := range l.Except {
		if _, excepted := e.Match(path, l.Zone); excepted {
			return nil, false
		}
	}
	return captures, true
}

// Scope declares what the feed's expressions may read.
func (f *Feed) Scope() (*expression.Scope, error) {
	columns, err := f.Schema.Compile(f.Zone)
	if err != nil {
		return nil, err
	}
	kinds := map[string]tabular.Kind{
		"file.name": tabular.Text, "file.path": tabular.Text, "file.size": tabular.Integer,
		"file.modified": tabular.Instant, "file.digest": tabular.Text,
		"run.id": tabular.Integer, "run.by": tabular.Text, "run.cause": tabular.Text, "run.started": tabular.Instant,
		"feed.name": tabular.Text, "feed.version": tabular.Integer, "service": tabular.Text,
	}
	for _, c := range columns {
		kinds["row."+c.Field.Name] = c.Kind
	}
	for name, kind := range f.Landing.Files.Kinds() {
		kinds["file.captures."+name] = map[byte]tabular.Kind{'t': tabular.Text, '#': tabular.Integer, '%': tabular.Instant}[kind]
	}
	return expression.NewScope(kinds)
}

// OwnColumns are the names of the columns of the target that are not lineage:
// the fields and the derived ones, sorted as they stand in the feed.
func (f *Feed) OwnColumns() []string {
	var names []string
	for i := range f.Schema.Fields {
		names = append(names, f.Schema.Fields[i].Name)
	}
	for _, d := range f.Derive {
		names = append(names, d.Name)
	}
	return names
}

package feed

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"mullein/internal/core/check"
	"mullein/internal/core/decode"
	"mullein/internal/core/due"
	"mullein/internal/core/expression"
	"mullein/internal/core/filename"
	"mullein/internal/core/news"
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
	Format   decode.Format
	Encoding string // an IANA name; "" is UTF-8
	Dialect  tabular.Dialect
	Each     string         // the path of the elements that are rows; "" for none
	Widths   []decode.Width // of the fields of a fixed-width file
	Schema   tabular.Schema
	By       string           // the capture that chooses among ByKind; "" for none
	ByKind   map[string]*Feed // the feed with the schema of each kind
	Zone     *time.Location   // of times in the data that carry none
	Derive   []Derived
	LeaveOut string // an expression; "" for none
	// DeleteWhen is an expression that says which rows delete their key; "" for
	// none.
	DeleteWhen string
	Checks     Checks
	Private    []string // fields whose values are never kept or shown in rejects
	Tolerate   check.Tolerance
	Target     Target
	When       When
	Due        *due.Calendar // nil when nothing is expected at any time
	Tell       []news.Route  // who is told of what; of kinds that are not in it, the service's settings say
}

// Supplier is who sends the files.
type Supplier struct{ Name, Contact string }

// Landing is where the files arrive and which of them belong.
type Landing struct {
	At        string // a folder below one of the service's landing roots, or of a place
	Files     *filename.Pattern
	Except    []*filename.Pattern
	SizeFrom  int64          // bytes
	SizeTo    int64          // bytes; 0 is no limit
	WithCount int            // of columns that a file has; 0 for any
	WithNames []string       // of columns that a file has, among others
	Zone      *time.Location // of times in names
	Settle    time.Duration  // a file is whole when its size and time were still for so long

	WholeWhen *filename.Template // the marker that says so instead; nil for none
	ListedIn  *filename.Pattern  // of the lists of deliveries; nil for none
	Delivery  Delivery

	SkipBacklog bool
	Reissue     Reissue
	LoadCopies  bool
	StrictOrder bool
	Delete      bool               // loaded files
	PutAway     *filename.Template // the folder that loaded files are moved to; nil for none
	Quarantine  *filename.Template // the folder that refused files are moved to; nil for none
}

// Delivery is what belongs together.
type Delivery string

// The deliveries.
const (
	ByFile Delivery = "file"
	ByList Delivery = "list"
	BySlot Delivery = "slot"
)

// Reissue is what becomes of other content under a loaded path.
type Reissue string

// The ways to take a reissue.
const (
	ReissueLoad    Reissue = "load"
	ReissueReplace Reissue = "replace"
	ReissueHold    Reissue = "hold"
	ReissueSkip    Reissue = "skip"
)

// Derived is a column that the file does not have.
type Derived struct {
	Name       string
	Expression string
	Kind       tabular.Kind
	Reads      []string // the names that the expression reads, such as "row.level_m"
}

// OfRun reports whether the column says something of the run, not of the row: the
// same row of two runs would not be the same.
func (d Derived) OfRun() bool {
	return slices.ContainsFunc(d.Reads, func(name string) bool {
		return strings.HasPrefix(name, "run.") || name == "feed.version" || name == "service"
	})
}

// ReadsDigest reports whether a derived column reads the digest of the file, which
// then has to be known before the first row.
func (f *Feed) ReadsDigest() bool {
	return slices.ContainsFunc(f.Derive, func(d Derived) bool { return slices.Contains(d.Reads, "file.digest") })
}

// Checks are what must be true beyond the constraints of fields.
type Checks struct {
	RowsFrom, RowsTo int64              // of a file; RowsTo 0 is no limit
	MayBeEmpty       bool               // a file with a header alone is loaded, with nothing in it
	Checksum         *filename.Template // the file that holds a file's checksum; nil for none
	Trailer          *regexp.Regexp     // the last line, which is no row; nil for none
	Row, Delivery    []check.Check
}

// How says how to read the feed's files.
func (f *Feed) How() decode.How {
	return decode.How{Format: f.Format, Charset: f.Encoding, Dialect: f.Dialect, Each: f.Each, Widths: f.Widths,
		Limits: decode.DefaultLimits}
}

// When says what starts a run.
type When struct {
	Arrival   bool          // as soon as a file is whole
	Times     *due.Times    // nil for none
	AfterAll  []string      // feeds that all must have loaded something new
	AfterAny  []string      // feeds of which one must have
	Attempts  int           // how often a load that fails by chance is tried, 1 or more
	Pause     time.Duration // before the second attempt; it doubles
	TimeLimit time.Duration // of a run; 0 is none
}

// Taken is whether a name at a landing belongs to a feed.
type Taken struct {
	Captures filename.Captures
	List     bool   // it lists the files of a delivery
	Why      string // why it is left out; "" when it is not
}

// Look reports whether a file below the landing belongs to the feed, and what its
// name says.
func (l *Landing) Look(path string, size int64) Taken {
	if why := filename.LeftOut(path, size); why != "" {
		return Taken{Why: why}
	}
	for _, folder := range []*filename.Template{l.PutAway, l.Quarantine} {
		if inside := l.inside(folder); inside != "" && strings.HasPrefix(path, inside+"/") {
			return Taken{Why: "in the folder " + folder.Fixed() + ", where files are put away"}
		}
	}
	if l.ListedIn != nil {
		if captures, ok := l.ListedIn.Match(path, l.Zone); ok {
			return Taken{Captures: captures, List: true}
		}
	}
	if l.WholeWhen != nil {
		if end := l.WholeWhen.End(); end != "" && strings.HasSuffix(path, end) {
			return Taken{Why: "a marker that says that a file is whole"}
		}
	}
	captures, ok := l.Files.Match(path, l.Zone)
	if !ok && l.InZip() && strings.HasSuffix(strings.ToLower(path), ".zip/") {
		return Taken{Captures: filename.Captures{}} // a zip that cannot be read is said
	}
	if !ok {
		return Taken{Why: "does not fit the pattern " + l.Files.String()}
	}
	for _, e := range l.Except {
		if _, excepted := e.Match(path, l.Zone); excepted {
			return Taken{Why: "left out by except: " + e.String()}
		}
	}
	switch {
	case size < l.SizeFrom:
		return Taken{Why: fmt.Sprintf("%d bytes; size.from is %d", size, l.SizeFrom)}
	case l.SizeTo > 0 && size > l.SizeTo:
		return Taken{Why: fmt.Sprintf("%d bytes; size.to is %d", size, l.SizeTo)}
	}
	return Taken{Captures: captures}
}

// InZip reports whether the feed's files lie in zips: its pattern says so.
func (l *Landing) InZip() bool {
	return l.Files != nil && strings.Contains(strings.ToLower(l.Files.String()), ".zip/")
}

// Has returns why a file with these columns does not belong to the feed, "" when
// it does.
func (l *Landing) Has(columns []string) string {
	if l.WithCount > 0 && len(columns) != l.WithCount {
		return fmt.Sprintf("it has %d columns; with_columns takes those with %d", len(columns), l.WithCount)
	}
	for _, name := range l.WithNames {
		if !slices.Contains(columns, name) {
			return fmt.Sprintf("it has no column %q, which with_columns asks for", name)
		}
	}
	return ""
}

// inside returns the part of a folder below the landing, "" when it lies elsewhere.
func (l *Landing) inside(folder *filename.Template) string {
	if folder == nil {
		return ""
	}
	below := l.below()
	if below == "." {
		return folder.Fixed()
	}
	inside, ok := strings.CutPrefix(folder.Fixed(), below+"/")
	if !ok {
		return ""
	}
	return inside
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
		kinds["file.captures."+name] = map[byte]tabular.Kind{'t': tabular.Text, '#': tabular.Integer,
			'%': tabular.Instant}[kind]
	}
	return expression.NewScope(kinds)
}

// ColumnKinds returns the kinds of the columns of a row: the fields that are stored and
// the derived ones.
func (f *Feed) ColumnKinds() (map[string]tabular.Kind, error) {
	columns, err := f.Schema.Compile(f.Zone)
	if err != nil {
		return nil, err
	}
	kinds := map[string]tabular.Kind{}
	for _, c := range columns {
		if !c.Field.Unstored {
			kinds[c.Field.Name] = c.Kind
		}
	}
	for _, d := range f.Derive {
		kinds[d.Name] = d.Kind
	}
	return kinds, nil
}

// OwnColumns are the names of the columns of the target that are not lineage:
// the fields that are stored and the derived ones, sorted as they stand in the feed.
func (f *Feed) OwnColumns() []string {
	var names []string
	for i := range f.Schema.Fields {
		if !f.Schema.Fields[i].Unstored {
			names = append(names, f.Schema.Fields[i].Name)
		}
	}
	for _, d := range f.Derive {
		names = append(names, d.Name)
	}
	return names
}

// Unstored returns the fields that are read for expressions only.
func (f *Feed) Unstored() []string {
	var names []string
	for i := range f.Schema.Fields {
		if f.Schema.Fields[i].Unstored {
			names = append(names, f.Schema.Fields[i].Name)
		}
	}
	return names
}

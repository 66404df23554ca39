package feed

import (
	"fmt"
	"path"
	"regexp"
	"strconv"
	"strings"
	"time"

	"mullein/internal/core/filename"
)

// Extract is a standing order to write rows of a database as files into a landing.
type Extract struct {
	Name, About, Owner string
	Connection         string // of the service; main is the database of the records
	Table              string // schema.table, or the name alone; "" where Select says what is read
	Select             string
	Columns            []string // of the table; nil for all
	New                NewRows
	Files              ExtractFiles
	When               When
}

// NewRows says which rows are new. The zero value takes all rows each time.
type NewRows struct {
	By       string // the column that only grows, or, with Daily, that says on which day a row falls
	Daily    bool   // a window is a day; days that are over are written
	Overlap  Margin // how far the next window goes back behind the last one's end
	HoldBack Margin // what is younger waits for the next window
	From     string // where the first window begins, as the database reads it; "" for the smallest value
	Zone     *time.Location
}

// Margin is a distance between two values of a column: a time or a number.
type Margin struct {
	Time  time.Duration
	Count int64
}

// IsZero reports whether there is no distance.
func (m Margin) IsZero() bool { return m == Margin{} }

// String returns the margin as extract files write it.
func (m Margin) String() string {
	if m.Time > 0 {
		return Span(m.Time)
	}
	return strconv.FormatInt(m.Count, 10)
}

// OutFormat is the format of the files that an extract writes.
type OutFormat string

// The formats of extracts.
const (
	OutCSV     OutFormat = "csv"
	OutLines   OutFormat = "jsonl"
	OutParquet OutFormat = "parquet"
)

// Compression is how files are compressed as a whole; Parquet compresses within.
type Compression string

// The compressions of extracts.
const (
	Uncompressed Compression = ""
	Gzip         Compression = "gzip"
	Zstd         Compression = "zstd"
)

// ExtractFiles says how rows are written.
type ExtractFiles struct {
	Landing      Landing            // where; only At means something
	Name         *filename.Template // of {run}, {part} and {window}
	WindowIsTime bool               // Name says how to write {window} as a time
	Format       OutFormat
	Compression  Compression
	Delimiter    string             // CSV
	Header       bool               // CSV
	Null         string             // CSV: what stands for no value
	SplitRows    int64              // the most rows of a file; 0 for no limit
	SplitBytes   int64              // about the most bytes of a file; 0 for no limit
	ListedIn     *filename.Template // the list of a run's files; nil for none
	Checksum     *filename.Template // the file with a file's SHA-256; nil for none
	WriteEmpty   bool               // a run without rows writes a file without rows
}

// The parts that names of an extract's files are made of.
const (
	RunToken    = "run"
	PartToken   = "part"
	WindowToken = "window"
)

var ofExtract = regexp.MustCompile(`(?m)^extract:`)

// IsExtract reports whether a file defines an extract.
func IsExtract(text []byte) bool { return ofExtract.Match(text) }

// ParseExtract reads the file of an extract. file is the name that errors carry. The error is of type [Problems].
func ParseExtract(file string, text []byte) (*Extract, error) {
	r := &reader{file: file}
	root := r.yaml(text)
	if root == nil {
		return nil, r.problems
	}
	r.walk(root, extractGrammar(), "")
	if len(r.problems) > 0 {
		return nil, r.sorted()
	}
	x := r.extract(root)
	if len(r.problems) > 0 {
		return nil, r.sorted()
	}
	return x, nil
}

func extractGrammar() *key {
	margin := func(name, about string) *key { return text(name, about) }
	return group("", "An extract: rows of a database that are written as files into a landing.",
		text("extract", "The extract's name for ever: a-z, 0-9 and -.").must().eg("levels-out"),
		text("about", "What it brings, for people."),
		text("owner", "Who answers for it."),
		group("from", "The rows.",
			text("connection", "The database, by its name among the connections of the settings: PostgreSQL, MySQL or MariaDB. Default: main, where the "+
				"records are."),
			text("table", "The table, as schema.table.").eg("river.level"),
			texts("columns", "Those of the table's columns that are written. Default: all."),
			text("select", "A select, instead of a table.").eg("SELECT id, level_m, changed_at FROM river.level WHERE level_m IS NOT NULL"),
		).must(),
		group("new", "Which rows are new. Without it each run writes all rows.",
			text("by", "A column that only grows, a time or a number: a window goes from the last mark to the greatest value that is there.").eg("changed_at"),
			text("day", "A column of times or days, instead of by: a window is a whole day, once it is over.").eg("sampled_at"),
			margin("overlap", "With by: how far the next window goes back behind the end of the last, for rows that were committed late. Rows come "+
				"twice then, and the key of the feed that loads them keeps one. Default: 0.").eg("10m"),
			margin("hold_back", "Rows that are younger wait for the next window, so that late commits are waited for and no row comes twice. For times it is "+
				"counted from the database's clock, for numbers from the greatest value. With day: how long after midnight a day is over. Default: 0.").eg("5m"),
			text("from", "Where the first window begins. Default: at the smallest value.").eg("\"2026-01-01\""),
			text("zone", "The time zone of days, of times in names, and of times in the database that carry none. Default: UTC.").eg("Atlantic/Azores"),
		),
		group("files", "The files.",
			text("at", "The landing: a folder below a landing root, or place:NAME/FOLDER.").must().eg("landing/neighbour"),
			text("name", "Their names, of {run} (counts 1, 2, 3), {part} (of a run's files: 0001, 0002) and {window} (the window's end; a time as in "+
				"{window:%Y%m%dT%H%M%S}). .gz and .zst at the end compress.").must().eg("LEVELS_{run}_{part}.csv.gz"),
			choice("format", "How they are written. Default: what the name ends in.", string(OutCSV), string(OutLines), string(OutParquet)),
			group("dialect", "Table Dialect of csv.",
				text("delimiter", "Between cells, one character. Default: a comma."),
				flag("header", "Whether the first row names the columns. Default: true."),
				text("nullSequence", "What stands for no value. Default: nothing.").eg("'\\N'")),
			group("split", "When another file is begun. Default: never.",
				count("rows", "After so many rows."), &key{name: "bytes", kind: kSize, about: "After about so many bytes, as they lie on the disk."}),
			text("listed_in", "A file that lists a run's files with sizes and SHA-256, and comes last; a feed with delivery: list reads it.").eg("LEVELS_{run}.lst"),
			text("checksum", "A file beside each with its SHA-256, that comes before it: a path of {path}, {stem} and {name}.").eg("\"{path}.sha256\""),
			choice("empty", "What a run without rows does: it leaves the file out, or writes one without rows. Default: leave_out.", "leave_out", "write"),
		).must(),
		group("when", "What starts a run; `mullein extract run` does so at any time.",
			text("cron", "Five fields: minute, hour, day, month, weekday.").eg("*/15 * * * *"),
			text("zone", "The time zone of cron. Default: UTC."),
			group("after", "When feeds have loaded something new since the last run.",
				texts("all", "All of them."), texts("any", "Any of them.")),
			count("attempts", "How often a run that fails is tried. Default: 5."),
			span("pause", "Before the second attempt; it doubles. Default: 30s."),
			span("time_limit", "How long an attempt may take. Default: no limit."),
		),
	)
}

func (r *reader) extract(root *node) *Extract {
	from := root.get("from")
	x := &Extract{Name: root.str("extract", ""), About: root.str("about", ""), Owner: root.str("owner", ""),
		Connection: from.str("connection", MainConnection), Table: from.str("table", ""), Select: strings.TrimRight(strings.TrimSpace(from.str("select", "")), ";"),
		Columns: from.texts("columns")}
	if !feedName.MatchString(x.Name) {
		r.failAt(root.get("extract"), "%q cannot be an extract's name; use a-z, 0-9 and -, up to 63 characters", x.Name)
	}
	switch {
	case (x.Table == "") == (x.Select == ""):
		r.failAt(from, "from takes a table or a select")
	case x.Columns != nil && x.Select != "":
		r.failAt(from.get("columns"), "from.columns are those of a table; name them in the select")
	case x.Table != "" && (strings.Count(x.Table, ".") > 1 || strings.ContainsAny(x.Table, "\"`\x00") || strings.HasPrefix(x.Table, ".") || strings.HasSuffix(x.Table, ".")):
		r.failAt(from.get("table"), "from.table %q: write it as schema.table", x.Table)
	}
	x.New = r.newRows(root.get("new"))
	x.Files = r.extractFiles(root.get("files"), &x.New)
	x.When = r.when(root.get("when"), &Feed{})
	return x
}

func (r *reader) newRows(n *node) NewRows {
	out := NewRows{By: n.str("by", ""), From: n.str("from", ""), Zone: r.zone(n.get("zone"))}
	if n == nil {
		return out
	}
	out.Overlap, out.HoldBack = r.margin(n, "overlap"), r.margin(n, "hold_back")
	day := n.str("day", "")
	switch {
	case day == "" && out.By == "":
		r.failAt(n, "new takes by, a column that only grows, or day")
	case day != "" && out.By != "":
		r.failAt(n.get("day"), "new takes by or day, not both")
	case day != "":
		out.By, out.Daily = day, true
		if !out.Overlap.IsZero() {
			r.failAt(n.get("overlap"), "new.overlap goes with by")
		}
		if out.HoldBack.Count > 0 {
			r.failAt(n.get("hold_back"), "new.hold_back: with day it is a duration, such as 2h")
		}
	}
	if out.Overlap != (Margin{}) && out.HoldBack != (Margin{}) && (out.Overlap.Time > 0) != (out.HoldBack.Time > 0) {
		r.failAt(n.get("hold_back"), "new.hold_back and overlap are both durations, or both numbers")
	}
	return out
}

// margin reads a duration or a whole number.
func (r *reader) margin(n *node, name string) Margin {
	at := n.get(name)
	if at == nil {
		return Margin{}
	}
	if d, err := ParseSpan(at.text); err == nil {
		return Margin{Time: d}
	}
	c, err := strconv.ParseInt(at.text, 10, 64)
	if err != nil || c < 0 {
		r.failAt(at, "new.%s: %q is neither a duration such as 10m nor a whole number", name, at.text)
	}
	return Margin{Count: c}
}

// outEnds are the ends of names that say what a file is.
var outEnds = map[string]OutFormat{".csv": OutCSV, ".txt": OutCSV, ".tsv": OutCSV, ".jsonl": OutLines, ".ndjson": OutLines, ".parquet": OutParquet}

func (r *reader) extractFiles(n *node, new *NewRows) ExtractFiles {
	f := ExtractFiles{Landing: Landing{At: n.str("at", "")}, SplitBytes: n.get("split").size("bytes"), SplitRows: int64(n.get("split").count("rows")),
		WriteEmpty: n.str("empty", "leave_out") == "write"}
	r.at(n.get("at"), "files.at", &f.Landing)
	name := n.get("name")
	f.WindowIsTime = strings.Contains(name.text, "{"+WindowToken+":")
	kinds := map[string]byte{RunToken: '#', WindowToken: '#'}
	if f.WindowIsTime {
		kinds[WindowToken] = '%'
	}
	f.ListedIn = r.outName(n.get("listed_in"), kinds)
	f.Checksum = r.outName(n.get("checksum"), map[string]byte{})
	kinds[PartToken] = '#'
	f.Name = r.outName(name, kinds)
	has := func(token string) bool {
		return strings.Contains(name.text, "{"+token+"}") || strings.Contains(name.text, "{"+token+":")
	}
	if (f.SplitRows > 0 || f.SplitBytes > 0) && !has(PartToken) {
		r.failAt(name, "files.name needs {part}, since split makes several files of a run")
	}
	if new.By != "" && !has(RunToken) && !has(WindowToken) {
		r.failAt(name, "files.name needs {run} or {window}, since each window is a file of its own")
	}
	r.outFormat(n, name, &f)
	return f
}

// delimiterOfValues holds for what stands in numbers, times and bytes as they are written, which are not quoted.
var delimiterOfValues = regexp.MustCompile(`[0-9A-Za-z.:+/="\r\n-]`)

// outFormat reads what the files are, which their names say too.
func (r *reader) outFormat(n, name *node, f *ExtractFiles) {
	plain := name.text
	switch {
	case strings.HasSuffix(plain, ".gz"):
		f.Compression, plain = Gzip, strings.TrimSuffix(plain, ".gz")
	case strings.HasSuffix(plain, ".zst"):
		f.Compression, plain = Zstd, strings.TrimSuffix(plain, ".zst")
	}
	f.Format = OutFormat(n.str("format", string(outEnds[path.Ext(plain)])))
	dialect := n.get("dialect")
	switch {
	case f.Format == "":
		r.failAt(name, "files.name does not end in .csv, .jsonl or .parquet; say which format it is")
	case f.Format == OutParquet && f.Compression != Uncompressed:
		r.failAt(name, "files.name: parquet compresses within; leave out .gz and .zst")
	case f.Format != OutCSV && dialect != nil:
		r.failAt(dialect, "files.dialect is for csv")
	}
	f.Delimiter, f.Header, f.Null = dialect.str("delimiter", ","), dialect.flag("header", true), dialect.str("nullSequence", "")
	if path.Ext(plain) == ".tsv" {
		f.Delimiter = dialect.str("delimiter", "\t")
	}
	if len(f.Delimiter) != 1 || delimiterOfValues.MatchString(f.Delimiter) {
		r.failAt(dialect.get("delimiter"), "files.dialect.delimiter is one character that stands in no number and no time, and no quote or line end")
	}
	if strings.ContainsAny(f.Null, "\"\r\n"+f.Delimiter) {
		r.failAt(dialect.get("nullSequence"), "files.dialect.nullSequence has no quote, delimiter or line end in it")
	}
}

// outName reads the name of a file that an extract writes.
func (r *reader) outName(n *node, kinds map[string]byte) *filename.Template {
	if n == nil {
		return nil
	}
	t, err := filename.CompileTemplate(n.text, kinds)
	if err != nil {
		text := strings.Replace(err.Error(), "file pattern", "name", 1)
		r.failAt(n, "%s", strings.Replace(text, "captured by files; there are {path}, {stem}, {name} and its captures", "known here", 1))
	}
	return t
}

// PartName returns the name of a file of a run: run and part count from 1. end is the window's end, as text and, where it is a
// time, as that.
func (f *ExtractFiles) PartName(run, part int64, end string, at time.Time, zone *time.Location) string {
	captures := f.runCaptures(run, end, at)
	captures[PartToken] = fmt.Sprintf("%04d", part)
	return f.Name.Expand("", captures, zone)
}

// ListName returns the name of the list of a run's files.
func (f *ExtractFiles) ListName(run int64, end string, at time.Time, zone *time.Location) string {
	return f.ListedIn.Expand("", f.runCaptures(run, end, at), zone)
}

func (f *ExtractFiles) runCaptures(run int64, end string, at time.Time) filename.Captures {
	out := filename.Captures{RunToken: run, WindowToken: end}
	if f.WindowIsTime {
		out[WindowToken] = at
	}
	return out
}

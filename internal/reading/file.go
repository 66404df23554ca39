package reading

import (
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"mullein/internal/core/check"
	"mullein/internal/core/decode"
	"mullein/internal/core/expression"
	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
)

// Content is the bytes of a file, in order and from anywhere.
type Content interface {
	io.Reader
	io.ReaderAt
}

// Subject is what is known of a file before it is read.
type Subject struct {
	Path     string // below its landing
	Size     int64  // bytes, as they lie at the landing
	Modified time.Time
	Captures map[string]any // what the name says
	Digest   string         // SHA-256 in hexadecimal; "" where it is not known yet
	// Mended are the lines that mended rows had in the file that they were
	// rejected from; nil for a file of its own.
	Mended  []int64
	Run     Run
	Version int    // of the feed
	Service string // the name of the service that reads
}

// Run is the run on behalf of which a file is read.
type Run struct {
	ID        int64
	By, Cause string
	Started   time.Time // zero where it is not known
}

// Counter counts while a file is read, for whoever watches.
type Counter struct{ Bytes, Rows atomic.Int64 }

// Receiver takes rows.
type Receiver interface {
	// Add takes a row with its line, its number within the record, from 0, and
	// its digest, which is [tabular.Deletes] of a row that deletes its key. The
	// values are good until Add returns.
	Add(values []tabular.Value, line int64, element int, digest []byte)
	// Len is how many bytes are held of what was added.
	Len() int
}

// File is one file on its way into rows. One goroutine uses it.
type File struct {
	plan     *Plan
	subject  Subject
	counter  *Counter
	inOrder  bool                    // the bytes cannot be had from anywhere
	again    func() (Content, error) // the file from its beginning, once more
	bytes    *Hasher
	rows     decode.Rows
	byColumn *columns // how rows are had instead; nil for one after the other
	columns  []*tabular.Column
	position []int // of each column's cell in a record; -1 where the file has none
	cells    int   // that a record must have
	values   []tabular.Value
	lacks    *tabular.Column // whose required value the row does not have, where rows may be left out; nil for none
	stored   []tabular.Value // room for those of values that are stored, where not all are
	derived  []derivation
	checks   []rowCheck
	trailer  *check.Trailer            // nil for none
	names    map[string]*tabular.Value // what expressions may read
	header   []string                  // the names of the file's columns
	scratch  []byte
	keys     []keyColumn

	records                 int
	read, rejected, leftOut int64
	rejects                 []Reject // the first of them
	more                    map[Unkept]int64
	cut                     ragged
	marked                  struct {
		rejected int64
		rejects  []Reject
		more     map[Unkept]int64
	}
}

// ragged counts the cells beyond the header that were left out.
type ragged struct{ cells, rows, first int64 }

// Source is how the bytes of a file are had.
type Source struct {
	Bytes   Content
	InOrder bool                    // they cannot be read from anywhere, as in a zip
	Again   func() (Content, error) // the file from its beginning, once more
}

// Open unpacks a file and holds its columns against the schema. What is wrong
// with the file is a [*decode.FileError]; a file of a kind that the feed does not
// take is an [*OtherKindError].
func (p *Plan) Open(s Subject, from Source, counter *Counter) (*File, error) {
	f := &File{plan: p, subject: s, counter: counter, inOrder: from.InOrder, again: from.Again,
		bytes: NewHasher(from.Bytes, s.Digest), columns: p.Columns, names: names(p.Feed, &s)}
	return f, f.begin(from.Bytes)
}

// names returns what expressions may read of the file, the run and the feed.
func names(f *feed.Feed, s *Subject) map[string]*tabular.Value {
	text := func(s string) *tabular.Value { return &tabular.Value{Kind: tabular.Text, B: []byte(s)} }
	whole := func(n int64) *tabular.Value { return &tabular.Value{Kind: tabular.Integer, I: n} }
	at := func(t time.Time) *tabular.Value { return &tabular.Value{Kind: tabular.Instant, I: t.UnixMicro()} }
	out := map[string]*tabular.Value{
		"file.name": text(path.Base(s.Path)), "file.path": text(s.Path), "file.size": whole(s.Size),
		"file.modified": at(s.Modified), "file.digest": text(s.Digest),
		"run.id": whole(s.Run.ID), "run.by": text(s.Run.By), "run.cause": text(s.Run.Cause),
		"feed.name": text(f.Name), "feed.version": whole(int64(s.Version)), "service": text(s.Service),
	}
	if !s.Run.Started.IsZero() {
		out["run.started"] = at(s.Run.Started)
	}
	for name, value := range f.Landing.Files.Read(s.Captures) {
		switch v := value.(type) {
		case string:
			out["file.captures."+name] = text(v)
		case int64:
			out["file.captures."+name] = whole(v)
		case time.Time:
			out["file.captures."+name] = at(v)
		}
	}
	return out
}

// Lookup makes a file what its expressions read from.
func (r *File) Lookup(name string) *tabular.Value { return r.names[name] }

// begin unpacks the file and holds its columns against the schema.
func (r *File) begin(bytes Content) error {
	if r.subject.Size == 0 {
		return &decode.FileError{Reason: "the file is empty"}
	}
	var err error
	if r.rows, err = r.open(bytes); err != nil {
		return err
	}
	r.checks = slices.Clone(r.plan.checks)
	r.keys = r.plan.keyColumns()
	r.trailer = check.NewTrailer(r.plan.Feed.Checks.Trailer)
	r.values = make([]tabular.Value, len(r.columns)+len(r.plan.Feed.Derive))
	for i, c := range r.columns {
		r.names["row."+c.Field.Name] = &r.values[i]
	}
	if err := r.prepareDerived(r.plan.derived); err != nil {
		return err
	}
	return r.match()
}

// open begins to read rows. Bytes that are read in order go through the digest.
func (r *File) open(bytes Content) (decode.Rows, error) {
	return decode.Open(r.subject.source(r.bytes, bytes, r.inOrder), r.plan.how(r.subject.Mended != nil))
}

// source returns the bytes of a file in order and, where that can be, from
// anywhere.
func (s *Subject) source(inOrder io.Reader, anywhere Content, onlyInOrder bool) decode.Source {
	out := decode.Source{Name: s.Path, Bytes: inOrder, File: anywhere, Size: s.Size}
	if onlyInOrder {
		out.File = nil
	}
	return out
}

// Header returns the names of the columns of a file of a feed, without reading its
// rows.
func Header(f *feed.Feed, s Subject, from Source) ([]string, error) {
	how := f.How()
	if s.Mended != nil {
		how = MendedHow(f)
	}
	rows, err := decode.Open(s.source(from.Bytes, from.Bytes, from.InOrder), how)
	if err != nil {
		return nil, err
	}
	return rows.Header()
}

// native reports whether the rows have no text of their own.
func (r *File) native() bool { return r.plan.Feed.Format.Native() && r.subject.Mended == nil }

// OtherKindError says that a file is of a kind that the feed does not take.
type OtherKindError struct{ Why string }

func (e *OtherKindError) Error() string { return e.Why }

// match holds the columns of the file against the schema.
func (r *File) match() error {
	schema := &r.plan.Feed.Schema
	names, err := r.rows.Header()
	if err != nil {
		return err
	}
	r.header = names
	if why := r.plan.Feed.Landing.Has(names); why != "" && names != nil {
		return &OtherKindError{why}
	}
	r.cells = len(schema.Fields)
	if selector, ok := r.rows.(decode.Selector); ok {
		return r.selectFrom(selector, names)
	}
	if names == nil {
		for i := range schema.Fields {
			r.position = append(r.position, i)
		}
		return nil
	}
	r.cells = len(names)
	if r.position, err = schema.MatchHeader(names); err != nil {
		return &decode.FileError{Reason: err.Error()}
	}
	return nil
}

func (r *File) selectFrom(rows decode.Selector, keys []string) error {
	f, schema := r.plan.Feed, &r.plan.Feed.Schema
	flat := r.subject.Mended != nil && f.Format.Native()
	var sources, tops, also []string
	for i := range schema.Fields {
		source := schema.Fields[i].SourceName()
		if flat {
			source = mendedKey(source)
		}
		sources, tops = append(sources, source), append(tops, decode.Top(source))
		r.position = append(r.position, i)
	}
	if f.Each != "" && !flat {
		also = append(also, decode.Top(f.Each))
	}
	if _, err := schema.MatchKeys(keys, tops, also); err != nil {
		return &decode.FileError{Reason: err.Error()}
	}
	if typed, ok := rows.(decode.Typed); ok {
		kinds, err := typed.Kinds(sources)
		if err != nil {
			return err
		}
		if err := r.holdTypes(kinds); err != nil {
			return err
		}
	}
	if err := rows.Select(sources); err != nil {
		return err
	}
	if by, ok := rows.(decode.Columnar); ok && by.ByColumn() {
		r.byColumn = &columns{from: by}
	}
	return nil
}

// holdTypes refuses a file with columns of types that can never become those of
// the schema.
func (r *File) holdTypes(kinds []tabular.Kind) error {
	var wrong []string
	for i, kind := range kinds {
		if c := r.columns[i]; !c.Accepts(kind) {
			wrong = append(wrong, fmt.Sprintf("column %q is of type %s in the file; the schema says %s",
				c.Field.SourceName(), kind, c.Field.Type))
		}
	}
	if wrong != nil {
		return &decode.FileError{Reason: strings.Join(wrong, "; ")}
	}
	return nil
}

func (r *File) prepareDerived(programs []*expression.Program) error {
	for i, d := range r.plan.Feed.Derive {
		program := programs[i]
		at, key := len(r.columns)+i, slices.Contains(r.plan.Feed.Schema.PrimaryKey, d.Name)
		if program.Row {
			r.derived = append(r.derived, derivation{d.Name, program, at, key})
			continue
		}
		if err := program.Eval(r, &r.values[at]); err != nil {
			return &decode.FileError{Reason: fmt.Sprintf("derive.%s: %v", d.Name, err)}
		}
		if key && r.values[at].Kind == tabular.Null {
			return &decode.FileError{Reason: fmt.Sprintf("derive.%s: a part of the key has no value", d.Name)}
		}
	}
	return nil
}

// Checkpoint keeps what is known when the file is decoded; Restore goes back to
// it, when what the database had found is to be found again.
func (r *File) Checkpoint() {
	r.marked.rejected, r.marked.rejects, r.marked.more = r.rejected, slices.Clone(r.rejects), maps.Clone(r.more)
}

// Restore goes back to the last [File.Checkpoint].
func (r *File) Restore() {
	r.rejected, r.rejects, r.more = r.marked.rejected, slices.Clone(r.marked.rejects), maps.Clone(r.marked.more)
}

// Finish reads what is left of the file, so that its digest covers all bytes.
func (r *File) Finish() error {
	if r.bytes.known != "" {
		return nil
	}
	if _, err := io.Copy(io.Discard, r.bytes); err != nil {
		return fmt.Errorf("read %s: %w", r.subject.Path, err)
	}
	return nil
}

// Release lets go of the memory that reading takes. No more rows are read.
func (r *File) Release() {
	r.rows, r.byColumn = nil, nil
	r.bytes.release()
}

// Digest returns the SHA-256 of the file's bytes, after [File.Finish].
func (r *File) Digest() string { return r.bytes.Sum() }

// Again returns the file from its beginning, once more.
func (r *File) Again() (Content, error) { return r.again() }

// Counts says how many rows of a file were read, and how many of them became
// no rows of the target.
type Counts struct{ Read, Rejected, LeftOut int64 }

// Counts returns what was counted so far.
func (r *File) Counts() Counts { return Counts{r.read, r.rejected, r.leftOut} }

// Rejects returns the first of the rows that were rejected, [MaxRejects] at most.
func (r *File) Rejects() []Reject { return r.rejects }

// More returns how many rejects are not kept, by what they broke.
func (r *File) More() map[Unkept]int64 { return r.more }

// Header returns the names of the file's columns, as far as it has any.
func (r *File) Header() []string { return r.header }

// RowAt returns the record at a line as people see it, and whether there is one.
// It reads on from where the file is.
func (r *File) RowAt(line int64) (text string, found bool, err error) {
	for {
		rec, err := r.next()
		if err == io.EOF {
			return "", false, nil
		}
		if err != nil {
			return "", false, err
		}
		if rec.Line == line {
			var shown Reject
			r.show(rec, &shown)
			return shown.Original, true, nil
		}
	}
}

// Trailer returns what the trailer says of the file, nil where the feed has none.
func (r *File) Trailer() *check.Result {
	if r.trailer == nil {
		return nil
	}
	out := r.trailer.Judge(r.read)
	return &out
}

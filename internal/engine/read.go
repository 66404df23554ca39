package engine

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"path"
	"slices"
	"sort"
	"strings"
	"time"
	"unicode/utf8"

	"mullein/internal/core/decode"
	"mullein/internal/core/expression"
	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/target"
)

// hasher takes the SHA-256 of what goes through it, unless that is known
// already, and counts it.
type hasher struct {
	r     io.Reader
	h     hash.Hash
	known string
	n     int64
}

func newHasher(r io.Reader, known string) *hasher {
	return &hasher{r: r, h: sha256.New(), known: known}
}

func (h *hasher) Read(p []byte) (int, error) {
	n, err := h.r.Read(p)
	if h.known == "" {
		h.h.Write(p[:n])
	}
	h.n += int64(n)
	return n, err
}

func (h *hasher) sum() string {
	if h.known != "" {
		return h.known
	}
	return hex.EncodeToString(h.h.Sum(nil))
}

// reading turns the bytes of one file into typed rows and rejects. It is the
// target.Source of a load.
type reading struct {
	w        *worker
	p        *progress
	entry    landing.Entry
	again    func() (io.Reader, error) // the file from its beginning, once more
	bytes    *hasher
	csv      *decode.CSV
	columns  []*tabular.Column
	position []int // of each column's cell in a record; -1 where the file has none
	cells    int   // that a record must have
	values   []tabular.Value
	derived  []derivation
	names    map[string]*tabular.Value // what expressions may read
	digested []int                     // values that the digest covers, in the order of their names
	scratch  []byte

	read, rejected int64
	rejects        []ledger.Reject // the first of them
	marked         struct {
		rejected int64
		rejects  []ledger.Reject
	}
}

// derivation computes a derived column.
type derivation struct {
	name    string
	program *expression.Program
	at      int // in values
}

func newReading(w *worker, p *progress, run *ledger.Run, a *ledger.Arrival, digest string) *reading {
	r := &reading{w: w, p: p, names: map[string]*tabular.Value{}}
	text := func(s string) *tabular.Value { return &tabular.Value{Kind: tabular.Text, B: []byte(s)} }
	whole := func(n int64) *tabular.Value { return &tabular.Value{Kind: tabular.Integer, I: n} }
	at := func(t time.Time) *tabular.Value { return &tabular.Value{Kind: tabular.Instant, I: t.UnixMicro()} }
	r.names["file.name"], r.names["file.path"] = text(path.Base(a.Path)), text(a.Path)
	r.names["file.size"], r.names["file.modified"], r.names["file.digest"] = whole(a.Size), at(a.Modified), text(digest)
	r.names["run.id"], r.names["run.by"], r.names["run.cause"] = whole(run.ID), text(run.By), text(run.Cause)
	if run.StartedAt != nil {
		r.names["run.started"] = at(*run.StartedAt)
	}
	r.names["feed.name"], r.names["feed.version"], r.names["service"] = text(w.feed.Name), whole(int64(w.version)), text(w.e.Name)
	for name, value := range w.feed.Landing.Files.Read(a.Captures) {
		switch v := value.(type) {
		case string:
			r.names["file.captures."+name] = text(v)
		case int64:
			r.names["file.captures."+name] = whole(v)
		case time.Time:
			r.names["file.captures."+name] = at(v)
		}
	}
	return r
}

// Lookup makes a reading what its expressions read from.
func (r *reading) Lookup(name string) *tabular.Value { return r.names[name] }

// begin unpacks the file and holds its header against the schema.
func (r *reading) begin(entry landing.Entry, bytes io.Reader, again func() (io.Reader, error)) error {
	f := r.w.feed
	r.entry, r.again, r.bytes = entry, again, newHasher(bytes, string(r.names["file.digest"].B))
	if entry.Size == 0 {
		return &decode.FileError{Reason: "the file is empty"}
	}
	limits := decode.DefaultLimits
	limits.Size = entry.Size
	plain, err := decode.Unpack(entry.Path, r.bytes, limits)
	if err != nil {
		return err
	}
	r.csv = decode.NewCSV(plain, f.Dialect)
	compiled, err := r.w.compile()
	if err != nil {
		return err
	}
	r.columns = compiled.columns
	r.values = make([]tabular.Value, len(r.columns)+len(f.Derive))
	for i, c := range r.columns {
		r.names["row."+c.Field.Name] = &r.values[i]
	}
	if err := r.prepareDerived(compiled.derived); err != nil {
		return err
	}
	r.digested = compiled.digested
	return r.header()
}

func (r *reading) header() error {
	schema := &r.w.feed.Schema
	r.cells = len(schema.Fields)
	if !r.w.feed.Dialect.Header {
		for i := range schema.Fields {
			r.position = append(r.position, i)
		}
		return nil
	}
	first, err := r.csv.Next()
	if err == io.EOF {
		return &decode.FileError{Reason: "the file has no header and no rows"}
	}
	if err != nil {
		return err
	}
	if first.Problem != "" {
		return &decode.FileError{Line: first.Line, Reason: "the header cannot be read: " + first.Problem}
	}
	names := make([]string, len(first.Cells))
	for i, cell := range first.Cells {
		if !utf8.Valid(cell) {
			return &decode.FileError{Line: first.Line, Reason: fmt.Sprintf("the header's column %d is not valid UTF-8", i+1)}
		}
		names[i] = string(cell)
	}
	r.cells = len(names)
	if r.position, err = schema.MatchHeader(names); err != nil {
		return &decode.FileError{Line: first.Line, Reason: err.Error()}
	}
	return nil
}

// compiled is what reading takes from the feed, made once for all its files.
type compiled struct {
	columns  []*tabular.Column
	derived  []*expression.Program
	digested []int // values that the digest covers
}

func (w *worker) compile() (*compiled, error) {
	if w.compiled != nil {
		return w.compiled, nil
	}
	c := &compiled{}
	var err error
	if c.columns, err = w.feed.Schema.Compile(w.feed.Zone); err != nil {
		return nil, err
	}
	scope, err := w.feed.Scope()
	if err != nil {
		return nil, err
	}
	for _, d := range w.feed.Derive {
		program, err := scope.Compile(d.Expression)
		if err != nil {
			return nil, fmt.Errorf("derive.%s: %w", d.Name, err)
		}
		c.derived = append(c.derived, program)
	}
	c.digested = digested(w.feed, len(c.columns))
	w.compiled = c
	return c, nil
}

func (r *reading) prepareDerived(programs []*expression.Program) error {
	for i, d := range r.w.feed.Derive {
		program := programs[i]
		at := len(r.columns) + i
		if program.Row {
			r.derived = append(r.derived, derivation{d.Name, program, at})
			continue
		}
		if err := program.Eval(r, &r.values[at]); err != nil {
			return &decode.FileError{Reason: fmt.Sprintf("derive.%s: %v", d.Name, err)}
		}
	}
	return nil
}

// digested chooses the columns of the digest: not those that say something of
// the run, or the same row of two runs would never be the same.
func digested(f *feed.Feed, columns int) (out []int) {
	names := f.OwnColumns()
	for i := range names {
		if d := i - columns; d >= 0 && mentionsRun(f.Derive[d].Expression) {
			continue
		}
		out = append(out, i)
	}
	sort.Slice(out, func(a, b int) bool { return names[out[a]] < names[out[b]] })
	return out
}

func mentionsRun(source string) bool {
	return strings.Contains(source, "run.") || strings.Contains(source, "feed.version") || strings.Contains(source, "service")
}

// Fill hands the next rows to the staging table.
func (r *reading) Fill(b *target.Batch, size int) error {
	var digest [tabular.DigestSize]byte
	for b.Len() < size {
		rec, err := r.csv.Next()
		if err != nil {
			r.p.rows.Store(r.read)
			r.p.bytes.Store(r.bytes.n)
			return err
		}
		r.read++
		if !r.convert(rec) {
			continue
		}
		r.scratch = r.scratch[:0]
		for _, i := range r.digested {
			r.scratch = r.values[i].AppendCanonical(r.scratch)
		}
		b.Add(r.values, rec.Line, tabular.AppendDigest(digest[:0], r.scratch))
	}
	r.p.rows.Store(r.read)
	r.p.bytes.Store(r.bytes.n)
	return nil
}

// convert fills values from a record, or makes a reject of it.
func (r *reading) convert(rec *decode.Record) bool {
	if rec.Problem != "" {
		return r.reject(rec, "", rec.Problem, nil)
	}
	if len(rec.Cells) != r.cells {
		return r.reject(rec, "", fmt.Sprintf("%d cells where %d are expected", len(rec.Cells), r.cells), nil)
	}
	for i, c := range r.columns {
		var err error
		var cell []byte
		if at := r.position[i]; at >= 0 {
			cell = rec.Cells[at]
			err = c.Convert(cell, &r.values[i])
		} else {
			err = c.Absent(&r.values[i])
		}
		if err != nil {
			return r.reject(rec, c.Field.Name, err.Error(), cell)
		}
	}
	for _, d := range r.derived {
		v := &r.values[d.at]
		err := d.program.Eval(r, v)
		if errors.Is(err, expression.ErrNull) {
			*v = tabular.Value{}
		} else if err != nil {
			return r.reject(rec, d.name, err.Error(), nil)
		}
	}
	return true
}

const (
	valueKept    = 200
	originalKept = 2000
)

func (r *reading) reject(rec *decode.Record, column, reason string, value []byte) bool {
	r.rejected++
	r.keep(ledger.Reject{Line: rec.Line, ColumnName: column, Reason: reason, Value: printable(value, valueKept), Original: printable(rec.Raw, originalKept)})
	return false
}

func (r *reading) keep(reject ledger.Reject) {
	if len(r.rejects) < ledger.MaxRejects {
		r.rejects = append(r.rejects, reject)
	}
}

// printable shortens bytes to a text that PostgreSQL and people can take.
func printable(b []byte, most int) string {
	more := ""
	if len(b) > most {
		b, more = b[:most], "..."
	}
	return strings.ReplaceAll(strings.ToValidUTF8(string(b), "\uFFFD"), "\x00", "\u2400") + more
}

// mark keeps what is known when the file is decoded; toMark goes back to it,
// when what the database had found is to be found again.
func (r *reading) mark() {
	r.marked.rejected, r.marked.rejects = r.rejected, slices.Clone(r.rejects)
}

func (r *reading) toMark() {
	r.rejected, r.rejects = r.marked.rejected, slices.Clone(r.marked.rejects)
}

// finish reads what is left of the file, so that its digest covers all bytes.
func (r *reading) finish() error {
	if r.bytes.known != "" {
		return nil
	}
	if _, err := io.Copy(io.Discard, r.bytes); err != nil {
		return fmt.Errorf("read %s: %w", r.entry.Path, err)
	}
	return nil
}

func (r *reading) digest() string { return r.bytes.sum() }

// expectedRows guesses from a file's size; it only sizes a filter.
func expectedRows(path string, size int64) int64 {
	if strings.HasSuffix(strings.ToLower(path), ".gz") {
		return size / 3
	}
	return size / 20
}

// originals looks up the original lines of rejects that the database found,
// in a second pass over the file, and sorts all rejects by line.
func (r *reading) originals() error {
	wanted := map[int64]*ledger.Reject{}
	for i := range r.rejects {
		if r.rejects[i].Original == "" {
			wanted[r.rejects[i].Line] = &r.rejects[i]
		}
	}
	if len(wanted) > 0 {
		file, err := r.again()
		if err != nil {
			return err
		}
		plain, err := decode.Unpack(r.entry.Path, file, decode.DefaultLimits)
		if err != nil {
			return err
		}
		again := decode.NewCSV(plain, r.w.feed.Dialect)
		for len(wanted) > 0 {
			rec, err := again.Next()
			if err != nil {
				break // the file changed meanwhile; that is found out before the commit
			}
			if reject := wanted[rec.Line]; reject != nil {
				reject.Original = printable(rec.Raw, originalKept)
				delete(wanted, rec.Line)
			}
		}
	}
	slices.SortStableFunc(r.rejects, func(a, b ledger.Reject) int { return int(a.Line - b.Line) })
	return nil
}

var _ target.Source = (*reading)(nil)

// several reads the files of a delivery one after the other.
type several struct {
	parts []*part
	now   int
}

// Fill hands on the rows of the file at hand. What is wrong with a file names
// the file.
func (s *several) Fill(b *target.Batch, size int) error {
	for {
		p := s.parts[s.now]
		b.Begin(p.n)
		err := p.reading.Fill(b, size)
		var fileError *decode.FileError
		switch {
		case errors.As(err, &fileError):
			return &culpritError{p, err}
		case err != io.EOF || s.now == len(s.parts)-1:
			return err
		}
		s.now++
		if b.Len() > 0 {
			return nil
		}
	}
}

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
	"sync"
	"time"

	"mullein/internal/core/check"
	"mullein/internal/core/decode"
	"mullein/internal/core/expression"
	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/table"
)

// hasher takes the SHA-256 of what goes through it, unless that is known
// already, and counts it. Large pieces are hashed while the next is read and
// decoded.
type hasher struct {
	r     io.Reader
	h     hash.Hash
	known string
	n     int64
	piece []byte
	busy  sync.WaitGroup
}

// hashedAside is the size in bytes from which a piece is hashed aside.
const hashedAside = 64 << 10

func newHasher(r io.Reader, known string) *hasher {
	return &hasher{r: r, h: sha256.New(), known: known}
}

func (h *hasher) Read(p []byte) (int, error) {
	n, err := h.r.Read(p)
	h.n += int64(n)
	if h.known != "" {
		return n, err
	}
	h.busy.Wait()
	if n < hashedAside {
		h.h.Write(p[:n])
		return n, err
	}
	h.piece = append(h.piece[:0], p[:n]...)
	h.busy.Go(func() { h.h.Write(h.piece) })
	return n, err
}

func (h *hasher) sum() string {
	if h.known != "" {
		return h.known
	}
	h.busy.Wait()
	return hex.EncodeToString(h.h.Sum(nil))
}

// reading turns the bytes of one file into typed rows and rejects. It is the
// table.Source of a load.
type reading struct {
	w         *worker
	p         *progress
	entry     landing.Entry
	again     func() (content, error) // the file from its beginning, once more
	bytes     *hasher
	rows      decode.Rows
	columns   []*tabular.Column
	position  []int // of each column's cell in a record; -1 where the file has none
	cells     int   // that a record must have
	values    []tabular.Value
	derived   []derivation
	leaveOut  *expression.Program // nil for none
	deletes   *expression.Program // nil for none
	checks    []rowCheck
	allChecks *expression.Program       // of all checks at once; nil for none
	trailer   *check.Trailer            // nil for none
	names     map[string]*tabular.Value // what expressions may read
	digested  []int                     // values that the digest covers, in the order of their names
	lines     []int64                   // of mended rows: where each stood in its file
	header    []string                  // the names of the file's columns
	scratch   []byte

	records                 int
	read, rejected, leftOut int64
	rejects                 []ledger.Reject // the first of them
	marked                  struct {
		rejected int64
		rejects  []ledger.Reject
	}
}

// content is the bytes of a file, in order and from anywhere.
type content interface {
	io.Reader
	io.ReaderAt
}

// rowCheck is a check of rows and what it saw.
type rowCheck struct {
	check.Check
	program *expression.Program
	failed  int64
	first   int64 // line that broke it
}

// derivation computes a derived column.
type derivation struct {
	name    string
	program *expression.Program
	at      int  // in values
	key     bool // it must have a value
}

func newReading(w *worker, p *progress, run *ledger.Run, a *ledger.Arrival, digest string) *reading {
	r := &reading{w: w, p: p, names: map[string]*tabular.Value{}, lines: a.MendedLines}
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

// begin unpacks the file and holds its columns against the schema.
func (r *reading) begin(entry landing.Entry, bytes content, again func() (content, error)) error {
	f := r.w.feed
	r.entry, r.again, r.bytes = entry, again, newHasher(bytes, string(r.names["file.digest"].B))
	if entry.Size == 0 {
		return &decode.FileError{Reason: "the file is empty"}
	}
	var err error
	if r.rows, err = r.open(bytes); err != nil {
		return err
	}
	compiled, err := r.w.compile()
	if err != nil {
		return err
	}
	r.columns, r.leaveOut, r.deletes = compiled.columns, compiled.leaveOut, compiled.deletes
	r.checks, r.allChecks = slices.Clone(compiled.checks), compiled.allChecks
	r.trailer = check.NewTrailer(f.Checks.Trailer)
	r.values = make([]tabular.Value, len(r.columns)+len(f.Derive))
	for i, c := range r.columns {
		r.names["row."+c.Field.Name] = &r.values[i]
	}
	if err := r.prepareDerived(compiled.derived); err != nil {
		return err
	}
	r.digested = compiled.digested
	return r.match()
}

// open begins to read rows. Bytes that are read in order go through the digest.
func (r *reading) open(bytes content) (decode.Rows, error) {
	return decode.Open(source(r.entry, r.bytes, bytes), r.w.how(r.lines != nil))
}

// how says how files of the feed are read, or what was mended of them.
func (w *worker) how(mended bool) decode.How {
	if mended {
		return mendedHow(w.feed)
	}
	return w.feed.How()
}

// native reports whether the rows have no text of their own.
func (r *reading) native() bool { return r.w.feed.Format.Native() && r.lines == nil }

// otherKind says that a file is of a kind that the feed does not take.
type otherKind struct{ why string }

func (o *otherKind) Error() string { return o.why }

// source returns the bytes of a file in order and, where that can be, from
// anywhere.
func source(entry landing.Entry, inOrder io.Reader, anywhere content) decode.Source {
	s := decode.Source{Name: entry.Path, Bytes: inOrder, File: anywhere, Size: entry.Size}
	if f, ok := anywhere.(*landing.File); ok && !f.Seekable() {
		s.File = nil
	}
	return s
}

// match holds the columns of the file against the schema.
func (r *reading) match() error {
	schema := &r.w.extended().Schema
	names, err := r.rows.Header()
	if err != nil {
		return err
	}
	r.header = names
	if why := r.w.feed.Landing.Has(names); why != "" && names != nil {
		return &otherKind{why}
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

func (r *reading) selectFrom(rows decode.Selector, keys []string) error {
	f, schema := r.w.feed, &r.w.extended().Schema
	flat := r.lines != nil && f.Format.Native()
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
	return rows.Select(sources)
}

// holdTypes refuses a file with columns of types that can never become those of
// the schema.
func (r *reading) holdTypes(kinds []tabular.Kind) error {
	var wrong []string
	for i, kind := range kinds {
		if c := r.columns[i]; !c.Accepts(kind) {
			wrong = append(wrong, fmt.Sprintf("column %q is of type %s in the file; the schema says %s", c.Field.SourceName(), kind, c.Field.Type))
		}
	}
	if wrong != nil {
		return &decode.FileError{Reason: strings.Join(wrong, "; ")}
	}
	return nil
}

// compiled is what reading takes from the feed, made once for all its files.
type compiled struct {
	columns   []*tabular.Column
	derived   []*expression.Program
	leaveOut  *expression.Program
	deletes   *expression.Program
	checks    []rowCheck
	allChecks *expression.Program // true when all checks of rows hold; nil where it is not worth while
	delivery  []*check.Program
	questions []check.Question // of the checks of deliveries
	digested  []int            // values that the digest covers
}

func (w *worker) compile() (*compiled, error) {
	if w.now.compiled != nil {
		return w.now.compiled, nil
	}
	c := &compiled{}
	var err error
	if c.columns, err = w.extended().Schema.Compile(w.feed.Zone); err != nil {
		return nil, err
	}
	scope, err := w.kind().Scope()
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
	for _, e := range []struct {
		source string
		to     **expression.Program
	}{{w.feed.LeaveOut, &c.leaveOut}, {w.feed.DeleteWhen, &c.deletes}} {
		if e.source == "" {
			continue
		}
		if *e.to, err = scope.Compile(e.source); err != nil {
			return nil, err
		}
	}
	for _, k := range w.feed.Checks.Row {
		program, err := scope.Compile(k.Must)
		if err != nil {
			return nil, fmt.Errorf("check %s: %w", k.Name, err)
		}
		c.checks = append(c.checks, rowCheck{Check: k, program: program})
	}
	c.allChecks = together(scope, w.feed.Checks.Row)
	if err := w.compileDelivery(c); err != nil {
		return nil, err
	}
	c.digested = digested(w.extended(), len(c.columns))
	w.now.compiled = c
	return c, nil
}

func (r *reading) prepareDerived(programs []*expression.Program) error {
	for i, d := range r.w.feed.Derive {
		program := programs[i]
		at, key := len(r.columns)+i, slices.Contains(r.w.feed.Schema.PrimaryKey, d.Name)
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

// digested chooses the columns of the digest: not those that say something of
// the run, or the same row of two runs would never be the same.
func digested(f *feed.Feed, columns int) (out []int) {
	names := f.OwnColumns()
	for i := range names {
		if d := i - columns; d >= 0 && f.Derive[d].OfRun() {
			continue
		}
		out = append(out, i)
	}
	sort.Slice(out, func(a, b int) bool { return names[out[a]] < names[out[b]] })
	return out
}

// Fill hands the next rows to the staging table.
func (r *reading) Fill(b *table.Batch, size int) error {
	var space [tabular.DigestSize]byte
	for b.Len() < size {
		rec, err := r.next()
		if err != nil {
			r.p.rows.Store(r.read)
			r.p.bytes.Store(r.bytes.n)
			return err
		}
		if r.trailer != nil && r.trailer.Take(rec.Raw, rec.Line) {
			continue
		}
		r.read++
		if r.trailer != nil && r.trailer.Seen() > 0 {
			return &decode.FileError{Line: rec.Line, Reason: fmt.Sprintf("a row after the trailer in line %d; are two files in one?", r.trailer.Seen())}
		}
		digest, ok, err := r.row(rec, space[:0])
		if err != nil {
			return err
		}
		if ok {
			b.Add(r.values, rec.Line, rec.Element, digest)
		}
	}
	r.p.rows.Store(r.read)
	r.p.bytes.Store(r.bytes.n)
	return nil
}

// next returns the next record. Those that were mended have the line of the file
// that they came from.
func (r *reading) next() (*decode.Record, error) {
	rec, err := r.rows.Next()
	if err != nil {
		return nil, err
	}
	if r.lines != nil {
		if rec.Element == 0 {
			r.records++
		}
		rec.Line = r.lines[min(r.records, len(r.lines))-1]
	}
	return rec, nil
}

// row makes a typed row of a record, or a reject, or leaves it out. It returns
// the row's digest.
func (r *reading) row(rec *decode.Record, digest []byte) ([]byte, bool, error) {
	if !r.convert(rec) {
		return nil, false, nil
	}
	if r.trailer != nil {
		for i, c := range r.columns {
			r.trailer.Add(c.Field.Name, &r.values[i])
		}
	}
	out, ok := r.isTrue(rec, r.leaveOut, "leave_out")
	if out {
		r.leftOut++
	}
	if out || !ok {
		return nil, false, nil
	}
	gone, ok := r.isTrue(rec, r.deletes, "delete_when")
	if gone {
		return table.Gone, true, nil
	}
	if !ok {
		return nil, false, nil
	}
	if ok, err := r.check(rec); !ok || err != nil {
		return nil, false, err
	}
	r.scratch = r.scratch[:0]
	for _, i := range r.digested {
		r.scratch = r.values[i].AppendCanonical(r.scratch)
	}
	return tabular.AppendDigest(digest, r.scratch), true, nil
}

// isTrue evaluates an expression over the row. Where a column that it cannot do
// without is null, it is not true. ok is false for a row that became a reject.
func (r *reading) isTrue(rec *decode.Record, program *expression.Program, as string) (yes, ok bool) {
	if program == nil {
		return false, true
	}
	var v tabular.Value
	err := program.Eval(r, &v)
	if err != nil && !errors.Is(err, expression.ErrNull) {
		return false, r.reject(rec, "", as, err.Error(), nil)
	}
	return err == nil && v.I != 0, true
}

// together makes one expression of all checks of rows: asked as one they take
// much less time. nil where there are fewer than two.
func together(scope *expression.Scope, checks []check.Check) *expression.Program {
	if len(checks) < 2 {
		return nil
	}
	var all []string
	for _, k := range checks {
		all = append(all, "("+k.Must+")")
	}
	program, err := scope.Compile(strings.Join(all, " && "))
	if err != nil { // too long, or a comment in one of them
		return nil
	}
	return program
}

// check holds the row against the feed's checks of rows.
func (r *reading) check(rec *decode.Record) (bool, error) {
	if r.allChecks != nil {
		var v tabular.Value
		if err := r.allChecks.Eval(r, &v); err == nil && v.I != 0 {
			return true, nil
		}
	}
	for i := range r.checks {
		c := &r.checks[i]
		var v tabular.Value
		err := c.program.Eval(r, &v)
		if errors.Is(err, expression.ErrNull) || err == nil && v.I != 0 {
			continue
		}
		if err != nil {
			return r.reject(rec, "", c.Name, err.Error(), nil), nil
		}
		if c.failed++; c.failed == 1 {
			c.first = rec.Line
		}
		switch c.Else {
		case check.Reject:
			return r.reject(rec, "", c.Name, "breaks "+c.Must, nil), nil
		case check.Refuse:
			return false, &decode.FileError{Line: rec.Line, Reason: fmt.Sprintf("check %s: this row breaks %s", c.Name, c.Must)}
		}
	}
	return true, nil
}

// results says what the checks of rows saw.
func (r *reading) results() []check.Result {
	var out []check.Result
	for _, c := range r.checks {
		x := float64(c.failed)
		saw := fmt.Sprintf("all %d rows hold", r.read)
		if c.failed > 0 {
			saw = fmt.Sprintf("%d of %d rows break %s; the first in line %d", c.failed, r.read, c.Must, c.first)
		}
		out = append(out, check.Result{Name: c.Name, Scope: check.OfRow, Else: c.Else, Held: c.failed == 0, Saw: saw, Value: &x, Failed: c.failed})
	}
	return out
}

// convert fills values from a record, or makes a reject of it.
func (r *reading) convert(rec *decode.Record) bool {
	if rec.Problem != "" {
		return r.reject(rec, "", "reading", rec.Problem, nil)
	}
	typed := rec.Values != nil
	if n := len(rec.Cells); !typed && n != r.cells && !r.mayBeRagged(n) {
		return r.reject(rec, "", "cells", fmt.Sprintf("%d cells where %d are expected", n, r.cells), nil)
	}
	for i, c := range r.columns {
		var err error
		var cell []byte
		at := r.position[i]
		switch {
		case at >= 0 && typed && at < len(rec.Values):
			err = c.Take(&rec.Values[at], &r.values[i])
		case at >= 0 && at < len(rec.Cells):
			cell = rec.Cells[at]
			err = c.Convert(cell, &r.values[i])
		default:
			err = c.Absent(&r.values[i])
		}
		if err != nil {
			if typed && at >= 0 && at < len(rec.Values) {
				cell = []byte(rec.Values[at].String())
			}
			rule := "type"
			if broken := new(tabular.CellError); errors.As(err, &broken) {
				rule = broken.Rule
			}
			return r.reject(rec, c.Field.Name, rule, err.Error(), cell)
		}
	}
	for _, d := range r.derived {
		v := &r.values[d.at]
		err := d.program.Eval(r, v)
		if errors.Is(err, expression.ErrNull) {
			*v = tabular.Value{}
		} else if err != nil {
			return r.reject(rec, d.name, "derive", err.Error(), nil)
		}
		if d.key && v.Kind == tabular.Null {
			return r.reject(rec, d.name, "derive", "a part of the key has no value", nil)
		}
	}
	return true
}

// mayBeRagged reports whether a row may have another number of cells than the
// header, as fieldsMatch says: fewer are padded, more are passed over.
func (r *reading) mayBeRagged(cells int) bool {
	switch r.w.feed.Schema.FieldsMatch {
	case tabular.MatchPartial:
		return true
	case tabular.MatchSuperset:
		return cells < r.cells
	case tabular.MatchSubset:
		return cells > r.cells
	}
	return false
}

const (
	valueKept    = 200
	originalKept = 2000
)

// reject counts a row that is left out for what is wrong with it. rule is what
// it broke, by which rejects are grouped.
func (r *reading) reject(rec *decode.Record, column, rule, reason string, value []byte) bool {
	r.rejected++
	if len(r.rejects) >= ledger.MaxRejects {
		return false
	}
	out := ledger.Reject{Line: rec.Line, ColumnName: column, Rule: rule, Reason: reason, Value: printable(value, valueKept)}
	if slices.Contains(r.w.feed.Private, column) {
		out.Value = hidden
	}
	r.show(rec, &out)
	r.keep(out)
	return false
}

// show returns a reject the row as people see it, and where in it the cell at
// fault stands.
func (r *reading) show(rec *decode.Record, out *ledger.Reject) {
	switch at := r.index(out.ColumnName); {
	case len(r.w.feed.Private) > 0:
		out.Original, out.Masked = r.masked(rec), true
	case r.native():
		text, from, to := r.asJSON(rec, at)
		out.Original = printable(text, originalKept)
		out.Mark(text, from, to, originalKept)
	default:
		out.Original = printable(rec.Raw, originalKept)
		if at < 0 || r.position[at] < 0 {
			return
		}
		from, to, ok := 0, 0, false
		if rec.Cells != nil {
			d := r.w.feed.Dialect
			if r.w.feed.Format == decode.Fixed {
				d.Delimiter = ""
			}
			from, to, ok = rec.CellSpan(r.position[at], d)
		} else {
			from, to, ok = rec.MemberSpan(r.columns[at].Field.SourceName(), out.Value)
		}
		if ok {
			out.Mark(rec.Raw, from, to, originalKept)
		}
	}
}

// hidden stands where a private value stood.
const hidden = "\u2022\u2022\u2022"

// index finds a column; -1 for none.
func (r *reading) index(column string) int {
	return slices.IndexFunc(r.columns, func(c *tabular.Column) bool { return c.Field.Name == column })
}

// asJSON writes what is read of a row whose format is no text, and says where
// in it the value of a column stands.
func (r *reading) asJSON(rec *decode.Record, column int) (text []byte, from, to int) {
	text = append(text, '{')
	for i, c := range r.columns {
		at := r.position[i]
		if at < 0 || at >= len(rec.Values) {
			continue
		}
		if len(text) > 1 {
			text = append(text, ',')
		}
		v := rec.Values[at]
		if v.Kind == tabular.Float { // JSON has no NaN; a decimal's is a text
			_ = tabular.ParseFloat(v.X, &v)
		}
		text = append(decode.AppendJSON(text, &tabular.Value{Kind: tabular.Text, B: []byte(c.Field.SourceName())}), ':')
		begin := len(text)
		if text = decode.AppendJSON(text, &v); i == column {
			from, to = begin, len(text)
		}
	}
	return append(text, '}'), from, to
}

// masked returns a row for people without its private values.
func (r *reading) masked(rec *decode.Record) string {
	if rec.Cells == nil || rec.Problem != "" {
		return hidden
	}
	cells := make([]string, len(rec.Cells))
	for i, cell := range rec.Cells {
		cells[i] = printable(cell, valueKept)
	}
	for i, c := range r.columns {
		if at := r.position[i]; at >= 0 && at < len(cells) && slices.Contains(r.w.feed.Private, c.Field.Name) {
			cells[at] = hidden
		}
	}
	return printable([]byte(strings.Join(cells, r.w.feed.Dialect.Delimiter)), originalKept)
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
		if err := r.lookUp(wanted); err != nil {
			return err
		}
	}
	slices.SortStableFunc(r.rejects, func(a, b ledger.Reject) int { return int(a.Line - b.Line) })
	return nil
}

// lookUp goes through the file once more for the rows of rejects, by line.
func (r *reading) lookUp(wanted map[int64]*ledger.Reject) error {
	file, err := r.again()
	if err != nil {
		return err
	}
	again := &reading{w: r.w, lines: r.lines, columns: r.columns, entry: r.entry, bytes: newHasher(file, r.digest())}
	if again.rows, err = again.open(file); err != nil {
		return err
	}
	if err := again.match(); err != nil {
		return err
	}
	for len(wanted) > 0 {
		rec, err := again.next()
		if err != nil {
			return nil // the file changed meanwhile; that is found out before the commit
		}
		if reject := wanted[rec.Line]; reject != nil {
			again.show(rec, reject)
			delete(wanted, rec.Line)
		}
	}
	return nil
}

var _ table.Source = (*reading)(nil)

// several reads the files of a delivery one after the other.
type several struct {
	parts []*part
	now   int
}

// Fill hands on the rows of the file at hand. What is wrong with a file names
// the file.
func (s *several) Fill(b *table.Batch, size int) error {
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

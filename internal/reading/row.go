package reading

import (
	"cmp"
	"errors"
	"fmt"

	"mullein/internal/core/check"
	"mullein/internal/core/decode"
	"mullein/internal/core/expression"
	"mullein/internal/core/tabular"
)

// Fill hands rows to a receiver until that holds about size bytes. It returns io.EOF
// with the last rows.
func (r *File) Fill(to Receiver, size int) error {
	var space [tabular.DigestSize]byte
	for to.Len() < size {
		rec, err := r.next()
		if err != nil {
			r.counter.Rows.Store(r.read)
			r.counter.Bytes.Store(r.bytes.n)
			return err
		}
		if r.trailer != nil && r.trailer.Take(rec.Raw, rec.Line) {
			continue
		}
		r.read++
		if r.trailer != nil && r.trailer.Seen() > 0 {
			return &decode.FileError{Line: rec.Line,
				Reason: fmt.Sprintf("a row after the trailer in line %d; are two files in one?", r.trailer.Seen())}
		}
		digest, ok, err := r.row(rec, space[:0])
		if err != nil {
			return err
		}
		if ok {
			for i := range r.keys {
				r.keys[i].add(&r.values[r.keys[i].at])
			}
			to.Add(r.own(), rec.Line, rec.Element, digest)
		}
	}
	r.counter.Rows.Store(r.read)
	r.counter.Bytes.Store(r.bytes.n)
	return nil
}

// own returns the values of the row that are stored.
func (r *File) own() []tabular.Value {
	if len(r.plan.own) == len(r.values) {
		return r.values
	}
	r.stored = r.stored[:0]
	for _, at := range r.plan.own {
		r.stored = append(r.stored, r.values[at])
	}
	return r.stored
}

// next returns the next record. Those that were mended have the line of the file
// that they came from.
func (r *File) next() (*decode.Record, error) {
	if r.byColumn != nil {
		return r.byColumn.next(r)
	}
	rec, err := r.rows.Next()
	if err != nil {
		return nil, err
	}
	if r.subject.Mended != nil {
		if rec.Element == 0 {
			r.records++
		}
		rec.Line = r.subject.Mended[min(r.records, len(r.subject.Mended))-1]
	}
	return rec, nil
}

// row makes a typed row of a record, or a reject, or leaves it out. It returns
// the row's digest.
func (r *File) row(rec *decode.Record, digest []byte) ([]byte, bool, error) {
	r.lacks = nil
	if !r.convert(rec) {
		return nil, false, nil
	}
	if r.lacks != nil {
		r.leaveOrReject(rec)
		return nil, false, nil
	}
	if r.trailer != nil {
		for i, c := range r.columns {
			r.trailer.Add(c.Field.Name, &r.values[i])
		}
	}
	out, ok := r.isTrue(rec, r.plan.leaveOut, "leave_out")
	if out {
		r.leftOut++
	}
	if out || !ok {
		return nil, false, nil
	}
	gone, ok := r.isTrue(rec, r.plan.deletes, "delete_when")
	if gone {
		return tabular.Deletes, true, nil
	}
	if !ok {
		return nil, false, nil
	}
	if !r.fitsTarget(rec) {
		return nil, false, nil
	}
	if ok, err := r.check(rec); !ok || err != nil {
		return nil, false, err
	}
	r.scratch = r.scratch[:0]
	for _, i := range r.plan.digested {
		r.scratch = r.values[i].AppendCanonical(r.scratch)
	}
	return tabular.AppendDigest(digest, r.scratch), true, nil
}

// leaveOrReject leaves out a row that lacks a value that is required, or rejects it.
func (r *File) leaveOrReject(rec *decode.Record) {
	out, ok := r.isTrue(rec, r.plan.leaveOut, "leave_out")
	switch {
	case out:
		r.leftOut++
	case ok:
		r.reject(rec, r.lacks.Field.Name, "required", r.lacks.Absent(&tabular.Value{}).Error(), nil)
	}
}

// isTrue evaluates an expression over the row. Where a column that it cannot do
// without is null, it is not true. ok is false for a row that became a reject.
func (r *File) isTrue(rec *decode.Record, program *expression.Program, as string) (yes, ok bool) {
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

// fitsTarget holds the row against what the target's own columns can take.
func (r *File) fitsTarget(rec *decode.Record) bool {
	for i := range r.plan.limits {
		l := &r.plan.limits[i]
		if err := l.Check(&r.values[l.at]); err != nil {
			rule := "type"
			if broken := new(tabular.CellError); errors.As(err, &broken) {
				rule = broken.Rule
			}
			return r.reject(rec, l.name, rule, err.Error(), []byte(r.values[l.at].String()))
		}
	}
	return true
}

// check holds the row against the feed's checks of rows.
func (r *File) check(rec *decode.Record) (bool, error) {
	if r.plan.allChecks != nil {
		var v tabular.Value
		if err := r.plan.allChecks.Eval(r, &v); err == nil && v.I != 0 {
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
			return false, &decode.FileError{Line: rec.Line,
				Reason: fmt.Sprintf("check %s: this row breaks %s", c.Name, c.Must)}
		}
	}
	return true, nil
}

// RowChecks says what the checks of rows saw.
func (r *File) RowChecks() []check.Result {
	var out []check.Result
	for _, c := range r.checks {
		x := float64(c.failed)
		saw := fmt.Sprintf("all %d rows hold", r.read)
		if c.failed > 0 {
			saw = fmt.Sprintf("%d of %d rows break %s; the first in line %d", c.failed, r.read, c.Must, c.first)
		}
		out = append(out, check.Result{Name: c.Name, Scope: check.OfRow, Else: c.Else, Held: c.failed == 0, Saw: saw,
			Value: &x, Failed: c.failed})
	}
	if r.cut.rows > 0 {
		x := float64(r.cut.cells)
		out = append(out, check.Result{Name: "cells beyond the header", Scope: check.OfRow, Else: check.Warn,
			Held: true,
			Saw: fmt.Sprintf("%d cells of %d rows were left out, as fieldsMatch says; the first in line %d",
				r.cut.cells, r.cut.rows, r.cut.first),
			Value: &x})
	}
	return out
}

// convert fills values from a record, or makes a reject of it. Where rows may be left out, one
// that lacks a required value is none yet: r.lacks is its column.
func (r *File) convert(rec *decode.Record) bool {
	if rec.Problem != "" {
		return r.reject(rec, "", "reading", rec.Problem, nil)
	}
	if r.byColumn != nil {
		if r.byColumn.row(r.values) {
			return r.derive(rec)
		}
		r.byColumn.complete(rec)
	}
	typed := rec.Values != nil
	if n := len(rec.Cells); !typed && n != r.cells {
		if !r.mayBeRagged(n) {
			return r.reject(rec, "", "cells", fmt.Sprintf("%d cells where %d are expected", n, r.cells), nil)
		}
		r.cutOff(n, rec.Line)
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
			if rule == "required" && r.plan.leaveOut != nil {
				r.lacks = cmp.Or(r.lacks, c)
				continue
			}
			return r.reject(rec, c.Field.Name, rule, err.Error(), cell)
		}
	}
	return r.derive(rec)
}

// derive computes the columns that are derived from the row, or makes a reject of it.
func (r *File) derive(rec *decode.Record) bool {
	for _, d := range r.derived {
		v := &r.values[d.at]
		err := d.program.Eval(r, v)
		if errors.Is(err, expression.ErrNull) {
			*v = tabular.Value{}
		} else if err != nil {
			return r.reject(rec, d.name, "derive", err.Error(), nil)
		}
		if d.key && v.Kind == tabular.Null && r.lacks == nil {
			return r.reject(rec, d.name, "derive", "a part of the key has no value", nil)
		}
	}
	return true
}

// cutOff counts the cells of a row that are beyond the header.
func (r *File) cutOff(cells int, line int64) {
	if cells <= r.cells {
		return
	}
	if r.cut.rows++; r.cut.rows == 1 {
		r.cut.first = line
	}
	r.cut.cells += int64(cells - r.cells)
}

// mayBeRagged reports whether a row may have another number of cells than the
// header, as fieldsMatch says: fewer are padded, more are passed over.
func (r *File) mayBeRagged(cells int) bool {
	switch r.plan.Feed.Schema.FieldsMatch {
	case tabular.MatchPartial:
		return true
	case tabular.MatchSuperset:
		return cells < r.cells
	case tabular.MatchSubset:
		return cells > r.cells
	}
	return false
}

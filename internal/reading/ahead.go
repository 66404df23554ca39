package reading

import (
	"runtime"
	"sync"

	"mullein/internal/core/decode"
	"mullein/internal/core/tabular"
)

const (
	// aheadBytes is about how much of a file is decoded at a time while what was decoded before becomes rows.
	aheadBytes = 128 << 10
	// aheadSize and aheadColumns are from where on that is worth a copy of each record: files of fewer
	// columns keep PostgreSQL busy anyhow.
	aheadSize    = 1 << 20
	aheadColumns = 24
)

// ahead has records decoded in another goroutine while those before become rows. It runs only between
// begin and pause.
type ahead struct {
	rows       decode.Rows
	now, after decoded
	at         int // of the next record, in now
	on         bool
	busy       sync.WaitGroup // with after
}

// readsAhead reports whether a file is large and wide enough.
func (r *File) readsAhead() bool {
	return r.subject.Size >= aheadSize && len(r.columns) >= aheadColumns && runtime.GOMAXPROCS(0) > 1
}

// begin allows records to be decoded aside, until pause.
func (a *ahead) begin() { a.on = true }

// pause returns when nobody reads the file any more.
func (a *ahead) pause() {
	a.on = false
	a.busy.Wait()
}

// next returns the next record.
func (a *ahead) next() (*decode.Record, error) {
	for a.at == len(a.now.records) {
		if a.now.err != nil {
			return nil, a.now.err
		}
		a.busy.Wait()
		if a.after.empty() {
			a.after.fill(a.rows)
		}
		a.now.clear()
		a.now, a.after, a.at = a.after, a.now, 0
		if a.on && a.now.err == nil {
			a.busy.Go(func() { a.after.fill(a.rows) })
		}
	}
	a.at++
	return &a.now.records[a.at-1], nil
}

// decoded is records that were decoded, with all that they hold, and what came after them.
type decoded struct {
	records []decode.Record
	err     error
	bytes   []byte
	cells   [][]byte
	values  []tabular.Value
}

func (d *decoded) empty() bool { return len(d.records) == 0 && d.err == nil }

func (d *decoded) clear() {
	d.records, d.bytes, d.cells, d.values = d.records[:0], d.bytes[:0], d.cells[:0], d.values[:0]
}

// fill takes records from rows up to an error, or until it holds enough.
func (d *decoded) fill(rows decode.Rows) {
	for len(d.bytes) < aheadBytes {
		rec, err := rows.Next()
		if err != nil {
			d.err = err
			return
		}
		d.add(rec)
	}
}

// add keeps a record. Where the room that it is kept in grows, what was kept before stays where it was.
func (d *decoded) add(rec *decode.Record) {
	out := *rec
	out.Raw = d.keep(rec.Raw)
	if rec.Cells != nil {
		from := len(d.cells)
		for _, c := range rec.Cells {
			d.cells = append(d.cells, d.keep(c))
		}
		out.Cells = d.cells[from:len(d.cells):len(d.cells)]
	}
	if rec.Values != nil {
		from := len(d.values)
		for _, v := range rec.Values {
			v.B = d.keep(v.B)
			d.values = append(d.values, v)
		}
		out.Values = d.values[from:len(d.values):len(d.values)]
	}
	d.records = append(d.records, out)
}

func (d *decoded) keep(b []byte) []byte {
	if b == nil {
		return nil
	}
	from := len(d.bytes)
	d.bytes = append(d.bytes, b...)
	return d.bytes[from:len(d.bytes):len(d.bytes)]
}

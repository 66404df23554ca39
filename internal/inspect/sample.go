package inspect

import (
	"bytes"
	"context"
	"errors"
	"io"
	"strings"

	"mullein/internal/core/decode"
	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/reading"
)

// Sample is the beginning of a file as a feed reads it.
type Sample struct {
	Name     string
	Captures map[string]any // what the name says
	Unnamed  string         // why the feed would not take a file of that name; "" where it would
	Refused  string         // why the file cannot be read; "" where it can
	Header   []string       // the names of the file's columns
	Columns  []SampleColumn
	Rows     []SampleRow
	Rejects  []ledger.Reject
	Counts   reading.Counts // of what was read
	Whole    bool           // all of the file was read
}

// SampleColumn is a column that rows have.
type SampleColumn struct {
	Name, Source, Type, Format string
	Key                        bool
	Derived                    bool
}

// SampleRow is a row as it was read; nil stands for no value.
type SampleRow struct {
	Line   int64
	Values []*string
	Gone   bool // it deletes its key
}

// Sample reads up to most rows of a file that is sent, and asks no table. Without a file, nil,
// it only says what rows have.
func (i *Inspector) Sample(ctx context.Context, f *feed.Feed, sent *Sent, most int) (*Sample, error) {
	if sent == nil {
		sent = &Sent{}
	}
	if f.Landing.InZip() && strings.HasSuffix(strings.ToLower(sent.Name), ".zip") {
		member, done, err := unzip(f, sent)
		if err != nil {
			return nil, err
		}
		defer done()
		sent = member
	}
	taken := f.Landing.Look(sent.Name, max(1, sent.Size))
	out := &Sample{Name: sent.Name, Captures: taken.Captures, Unnamed: taken.Why, Columns: []SampleColumn{}, Rows: []SampleRow{},
		Rejects: []ledger.Reject{}}
	kind, err := f.Of(taken.Captures)
	if err != nil {
		kind = f // what its name does not say is said beside it
	}
	plan, err := reading.NewPlan(kind)
	if err != nil {
		return nil, &ledger.ConflictError{Reason: err.Error()}
	}
	out.columns(kind, plan)
	if sent.File == nil {
		out.Unnamed = ""
		return out, nil
	}
	err = out.read(ctx, plan, sent, most)
	var unfit *decode.FileError
	var other *reading.OtherKindError
	if errors.As(err, &unfit) || errors.As(err, &other) {
		out.Refused, err = err.Error(), nil
	}
	return out, err
}

// columns notes what rows have: the fields that are stored, then what is derived.
func (s *Sample) columns(f *feed.Feed, plan *reading.Plan) {
	keys := map[string]bool{}
	for _, k := range f.Schema.PrimaryKey {
		keys[k] = true
	}
	for _, c := range plan.Columns {
		if field := c.Field; !field.Unstored {
			s.Columns = append(s.Columns, SampleColumn{Name: field.Name, Source: field.Source, Type: field.Type, Format: field.Format,
				Key: keys[field.Name]})
		}
	}
	for _, d := range f.Derive {
		s.Columns = append(s.Columns, SampleColumn{Name: d.Name, Derived: true, Key: keys[d.Name]})
	}
}

func (s *Sample) read(ctx context.Context, plan *reading.Plan, sent *Sent, most int) error {
	again := func() (reading.Content, error) {
		_, err := sent.File.Seek(0, io.SeekStart)
		return sent.File, err
	}
	file, err := plan.Open(reading.Subject{Path: sent.Name, Size: sent.Size, Captures: s.Captures},
		reading.Source{Bytes: sent.File, Again: again}, &reading.Counter{})
	s.Header = file.Header() // known of some files that do not fit
	if err != nil {
		return err
	}
	rows := &sampleRows{}
	defer func() {
		s.Rows, s.Counts, s.Rejects = append(s.Rows, rows.rows...), file.Counts(), load.Rejects(file.Rejects())
	}()
	for len(rows.rows)+len(file.Rejects()) < most {
		if err := ctx.Err(); err != nil {
			return err
		}
		const atOnce = 100
		err := file.Fill(rows, min(most, len(rows.rows)+atOnce))
		if errors.Is(err, io.EOF) {
			s.Whole = true
			return file.Originals()
		}
		if err != nil {
			return err
		}
	}
	return file.Originals()
}

// sampleRows takes rows as texts.
type sampleRows struct{ rows []SampleRow }

// Len counts rows: those that are read come in one piece.
func (r *sampleRows) Len() int { return len(r.rows) }

// Add keeps a row.
func (r *sampleRows) Add(values []tabular.Value, line int64, _ int, digest []byte) {
	row := SampleRow{Line: line, Values: make([]*string, len(values)), Gone: bytes.Equal(digest, tabular.Deletes)}
	for i := range values {
		if v := &values[i]; v.Kind != tabular.Null {
			text := v.String()
			row.Values[i] = &text
		}
	}
	r.rows = append(r.rows, row)
}

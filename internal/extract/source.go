package extract

import (
	"context"
	"fmt"
	"strings"
	"time"

	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
	"mullein/internal/core/timeformat"
)

// Column is a column of what is read.
type Column struct {
	Name      string
	Kind      tabular.Kind // of its values; Null and Text may come besides
	Bits      int          // Integer: 16, 32 or 64
	Precision int          // Decimal: digits in all; 0 where there is no bound
	Scale     int          // Decimal with a precision: digits after the point
	Time      bool         // its values are times or days
	Coarse    bool         // they tell whole seconds or days only
}

// Bounds say which ends of a window belong to it, as ranges are written: (, [, ) and ].
type Bounds string

// The bounds of windows.
const (
	Since Bounds = "(]" // a mark, which was read before, up to a value
	From  Bounds = "[]" // the first window, which begins at a value
	Day   Bounds = "[)" // from midnight to midnight
	UpTo  Bounds = "]"  // the first window, which begins with the smallest value
	All   Bounds = ""   // no window: all rows
)

// Window is what is read: values of the growing column, as the database writes them as text.
type Window struct {
	Low, High string
	Bounds    Bounds
}

// String returns the window as people write it.
func (w Window) String() string {
	switch {
	case w.Bounds == All:
		return "all rows"
	case w.Bounds == Since && w.Low == w.High:
		return "nothing after " + w.Low
	case w.High == "":
		return "nothing yet"
	case w.Bounds == UpTo:
		return "up to " + w.High
	}
	return string(w.Bounds[0]) + w.Low + ", " + w.High + string(w.Bounds[1])
}

// Fresh is what is new for an extract.
type Fresh struct {
	Window Window
	Empty  bool      // nothing is new
	Mark   string    // where the mark is once the window is whole
	End    string    // what names write for the window's end, where they say no form
	At     time.Time // the window's end where it is a time, or the day; the database's clock where there is no window
	Ahead  int64     // rows that are later than the database's clock, and wait for it
	Blank  int64     // rows without a value, which are never new; counted in the first window
}

// Source is a database of which rows are read, in one view of it: nothing that others commit meanwhile is seen.
type Source interface {
	// Columns returns what is read.
	Columns() []Column
	// Fresh returns what is new since a mark, "" for none.
	Fresh(ctx context.Context, mark string) (Fresh, error)
	// Count returns the number of rows of a window.
	Count(ctx context.Context, w Window) (int64, error)
	// Read hands on the rows of a window in batches, and returns how many there were.
	Read(ctx context.Context, w Window, take func(*Batch) error) (int64, error)
	Close(ctx context.Context) error
}

// batchRows is how many rows are handed on together.
const batchRows = 1024

// Batch is some rows, row after row. Texts in it are good until the next batch.
type Batch struct {
	Rows   int
	Values []tabular.Value // Rows times the number of columns
	text   []byte          // what the values' B point into
}

func newBatch(columns int) *Batch {
	return &Batch{Values: make([]tabular.Value, 0, batchRows*columns)}
}

func (b *Batch) reset() { b.Rows, b.Values, b.text = 0, b.Values[:0], b.text[:0] }

// next adds a value, which is to be filled; it is Null until then. A batch has room for all that it takes.
func (b *Batch) next() *tabular.Value {
	b.Values = b.Values[:len(b.Values)+1]
	v := &b.Values[len(b.Values)-1]
	*v = tabular.Value{}
	return v
}

// keep copies bytes into the batch, where they stay when it grows: values keep the old array then.
func (b *Batch) keep(text []byte) []byte {
	at := len(b.text)
	b.text = append(b.text, text...)
	return b.text[at:len(b.text):len(b.text)]
}

// Open opens the database of an extract, which url names.
func Open(ctx context.Context, x *feed.Extract, url string) (Source, error) {
	if IsMySQL(url) {
		return openMySQL(ctx, x, url)
	}
	return openPostgres(ctx, x, url)
}

// IsMySQL reports whether a connection is of MySQL or MariaDB.
func IsMySQL(url string) bool {
	return strings.HasPrefix(url, "mysql://") || strings.HasPrefix(url, "mariadb://")
}

// begin returns where the window after a mark begins, "" for the smallest value, and how values are compared with it.
func begin(n *feed.NewRows, mark string) (low string, bounds Bounds, above string) {
	switch {
	case mark != "":
		return mark, Since, " > "
	case n.From != "":
		return n.From, From, " >= "
	}
	return "", UpTo, ""
}

// windowForm is how names write a time, where they say no form.
const windowForm = "20060102T150405"

// midnight returns when a day begins in a zone, also where the clock passes over midnight.
func midnight(day time.Time, zone *time.Location) time.Time {
	y, m, d := day.Date()
	return timeformat.Instant(y, m, d, 0, 0, 0, 0, zone)
}

// freshDay says whether a day is over: the first that is not written yet, "" where there are no rows.
func freshDay(n *feed.NewRows, first, mark string, out *Fresh) error {
	if first == "" {
		out.Empty, out.Window = true, Window{Bounds: Day}
		return nil
	}
	day, err := time.Parse(time.DateOnly, first)
	if err != nil {
		return &UnfitError{fmt.Sprintf("%q is no day; write it as 2026-01-31", first)}
	}
	next := day.AddDate(0, 0, 1)
	out.Empty = midnight(next, n.Zone).Add(n.HoldBack.Time).After(out.At)
	out.Window = Window{Low: day.Format(time.DateOnly), High: next.Format(time.DateOnly), Bounds: Day}
	out.At, out.End, out.Mark = midnight(day, n.Zone), day.Format("20060102"), out.Window.High
	if out.Empty {
		out.Mark = mark
	}
	return nil
}

// growing returns the column by which rows are new.
func growing(x *feed.Extract, columns []Column) (Column, error) {
	for _, c := range columns {
		if strings.EqualFold(c.Name, x.New.By) {
			return c, fits(x, &c)
		}
	}
	var names []string
	for _, c := range columns {
		names = append(names, c.Name)
	}
	return Column{}, &UnfitError{fmt.Sprintf("the rows have no column %s, by which they are new; there are %s", x.New.By, strings.Join(names, ", "))}
}

// fits says why rows cannot be new by a column.
func fits(x *feed.Extract, c *Column) error {
	number := c.Kind == tabular.Integer || c.Kind == tabular.Decimal
	switch {
	case !number && !c.Time:
		return &UnfitError{fmt.Sprintf("column %s is neither a time nor a number, so that it cannot say what is new", c.Name)}
	case x.New.Daily && !c.Time:
		return &UnfitError{fmt.Sprintf("column %s is no time and no day, so that new.day cannot be it", c.Name)}
	case number && (x.New.Overlap.Time > 0 || x.New.HoldBack.Time > 0):
		return &UnfitError{fmt.Sprintf("column %s is a number, so that overlap and hold_back are numbers too", c.Name)}
	case c.Time && (x.New.Overlap.Count > 0 || x.New.HoldBack.Count > 0):
		return &UnfitError{fmt.Sprintf("column %s is a time, so that overlap and hold_back are durations such as 10m", c.Name)}
	case number && x.Files.WindowIsTime:
		return &UnfitError{fmt.Sprintf("column %s is a number, and files.name writes {window} as a time; write {window}", c.Name)}
	}
	return nil
}

// UnfitError says that an extract does not fit its database. Trying again does not help.
type UnfitError struct{ Reason string }

func (e *UnfitError) Error() string { return e.Reason }

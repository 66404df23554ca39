package extract

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"mullein/internal/core/feed"
	"mullein/internal/landing"
	"mullein/internal/ledger"
)

// job is an extract that is leased.
type job struct {
	w      *Worker
	x      *feed.Extract
	record *ledger.Extract
	cause  string
	by     string
}

// work works the window that is open, else what is new. more reports whether there is another window: a day that is over too.
func (j *job) work(ctx context.Context) (more bool, err error) {
	open, is, err := j.w.Ledger.OpenWindow(ctx, j.record.Name)
	if err != nil {
		return false, err
	}
	if is && j.record.Attempts >= j.x.When.Attempts {
		return false, &windowError{&open, &UnfitError{fmt.Sprintf("it was begun %d times, and the service ended each time; look into its log, and run it again",
			j.record.Attempts)}}
	}
	if is && open.ReadAt != nil && j.isAside(&open) {
		return j.x.New.Daily, j.finish(ctx, &open, j.place)
	}
	url, ok := j.w.Connection(j.x.Connection)
	if !ok {
		return false, &UnfitError{fmt.Sprintf("the settings name no connection %s", j.x.Connection)}
	}
	source, err := Open(ctx, j.x, url)
	if err != nil {
		return false, err
	}
	defer source.Close(context.WithoutCancel(ctx))
	if !is {
		if open, err = j.fix(ctx, source); err != nil {
			return false, err
		}
		if open.Run == 0 { // a day that is not over is nothing yet
			return false, nil
		}
	}
	return j.x.New.Daily, j.finish(ctx, &open, func(ctx context.Context, w *ledger.ExtractWindow) error {
		if err := j.read(ctx, source, w); err != nil {
			return err
		}
		return j.place(ctx, w)
	})
}

// fix says what is new, and records it before anything is read.
func (j *job) fix(ctx context.Context, source Source) (ledger.ExtractWindow, error) {
	fresh, err := source.Fresh(ctx, j.record.Mark)
	if err != nil || fresh.Empty && j.x.New.Daily {
		return ledger.ExtractWindow{}, err
	}
	w := ledger.ExtractWindow{Low: fresh.Window.Low, High: fresh.Window.High, Bounds: string(fresh.Window.Bounds), MarkBefore: j.record.Mark,
		MarkAfter: fresh.Mark, EndText: fresh.End, EndAt: fresh.At, Cause: j.cause, By: j.by, Ahead: fresh.Ahead, Blank: fresh.Blank,
		State: ledger.RunRunning, Files: []ledger.ExtractFile{}}
	if fresh.Empty {
		zero := int64(0)
		w.Source = &zero
	}
	return w, j.w.Ledger.BeginWindow(ctx, j.record, &w)
}

// finish does the rest of a window, and moves the mark.
func (j *job) finish(ctx context.Context, w *ledger.ExtractWindow, do func(context.Context, *ledger.ExtractWindow) error) error {
	if err := j.w.Ledger.CountAttempt(ctx, j.record, w); err != nil {
		return err
	}
	if limit := j.x.When.TimeLimit; limit > 0 {
		limited, cancel := context.WithTimeoutCause(ctx, limit, fmt.Errorf("it took longer than its time limit of %s", feed.Span(limit)))
		defer cancel()
		ctx = limited
	}
	err := do(ctx, w)
	if err == nil {
		err = j.w.Ledger.WindowDone(ctx, j.record, w)
	}
	if err != nil {
		if errors.Is(err, ledger.ErrLost) || errors.Is(context.Cause(ctx), ledger.ErrLost) {
			return errors.Join(err, j.clear(w))
		}
		if cause := context.Cause(ctx); cause != nil && !errors.Is(cause, context.Canceled) {
			err = cause
		}
		return &windowError{w, err}
	}
	return j.clear(w)
}

// clear removes the files of a window from aside.
func (j *job) clear(w *ledger.ExtractWindow) error {
	err := os.RemoveAll(j.folder(w))
	_ = os.Remove(filepath.Dir(j.folder(w))) // it stays where there is more in it
	return err
}

// windowError is what went wrong with a window.
type windowError struct {
	window *ledger.ExtractWindow
	err    error
}

func (e *windowError) Error() string { return e.err.Error() }
func (e *windowError) Unwrap() error { return e.err }

// folder is where the files of a window are written before they are put down.
func (j *job) folder(w *ledger.ExtractWindow) string {
	return filepath.Join(j.w.Folder, j.record.Name, strconv.FormatInt(w.Run, 10))
}

// isAside reports whether the files of a window lie aside, whole, on this machine.
func (j *job) isAside(w *ledger.ExtractWindow) bool {
	for i, f := range w.Files {
		info, err := os.Stat(partPath(j.folder(w), int64(i+1)))
		if i >= w.Placed && (err != nil || info.Size() != f.Bytes) {
			return false
		}
	}
	return true
}

// read writes the rows of a window into files, aside, and compares their number with what the database counts in the same view.
func (j *job) read(ctx context.Context, source Source, w *ledger.ExtractWindow) error {
	if err := os.RemoveAll(j.folder(w)); err != nil {
		return err
	}
	if err := os.MkdirAll(j.folder(w), 0o700); err != nil {
		return err
	}
	out := &parts{folder: j.folder(w), files: &j.x.Files, columns: source.Columns(), name: func(part int64) string {
		return j.x.Files.PartName(w.Run, part, w.EndText, w.EndAt, j.x.New.Zone)
	}}
	defer out.drop()
	window := Window{w.Low, w.High, Bounds(w.Bounds)}
	rows, empty := int64(0), w.Source != nil && *w.Source == 0
	if !empty {
		count, err := source.Count(ctx, window)
		if err != nil {
			return fmt.Errorf("count the rows: %w", err)
		}
		w.Source = &count
		if rows, err = source.Read(ctx, window, func(b *Batch) error {
			j.w.progress(j.record.Name, int64(b.Rows))
			return out.take(b)
		}); err != nil {
			return fmt.Errorf("read the rows: %w", err)
		}
		if rows != count {
			return fmt.Errorf("the database counts %d rows in the window, and gave %d", count, rows)
		}
	}
	if err := out.finish(); err != nil {
		return fmt.Errorf("write the files: %w", err)
	}
	w.Rows, w.Bytes, w.Files = 0, 0, []ledger.ExtractFile{}
	names := map[string]bool{}
	for _, p := range out.done {
		if names[p.Name] {
			return &UnfitError{fmt.Sprintf("files.name gives %s twice in one run", p.Name)}
		}
		names[p.Name] = true
		w.Rows, w.Bytes, w.Files = w.Rows+p.Rows, w.Bytes+p.Bytes, append(w.Files, p)
	}
	if w.Rows != rows {
		return fmt.Errorf("%d rows were read, and %d written", rows, w.Rows)
	}
	return j.w.Ledger.WindowRead(ctx, j.record, w)
}

// place puts the files of a window into the landing, each whole at once: first the checksum of each, then itself, and the list of
// them last. A file whose placing was interrupted is put there again.
func (j *job) place(ctx context.Context, w *ledger.ExtractWindow) error {
	if len(w.Files) == 0 {
		return nil
	}
	at, err := j.w.Landing(ctx, j.x.Files.Landing.At)
	if err != nil {
		return err
	}
	defer at.Close()
	for i := w.Placed; i < len(w.Files); i++ {
		f := w.Files[i]
		if j.x.Files.Checksum != nil {
			text := fmt.Sprintf("%s  %s\n", f.SHA256, path.Base(f.Name))
			if _, err := at.Deliver(j.x.Files.Checksum.Expand(f.Name, nil, time.UTC), strings.NewReader(text), landing.WriteOver); err != nil {
				return err
			}
		}
		if err := placeFile(ctx, at, partPath(j.folder(w), int64(i+1)), f.Name); err != nil {
			return err
		}
		if err := j.w.Ledger.FilePlaced(ctx, j.record, w); err != nil {
			return err
		}
	}
	if j.x.Files.ListedIn == nil {
		return nil
	}
	name, text := j.x.Files.ListName(w.Run, w.EndText, w.EndAt, j.x.New.Zone), bytes.Buffer{}
	for _, f := range w.Files {
		below, err := filepath.Rel(path.Dir(name), f.Name)
		if err != nil {
			return err
		}
		fmt.Fprintf(&text, "%s\t%d\t%s\n", filepath.ToSlash(below), f.Bytes, f.SHA256)
	}
	_, err = at.Deliver(name, &text, landing.WriteOver)
	return err
}

func placeFile(ctx context.Context, at landing.Landing, from, name string) error {
	file, err := os.Open(from)
	if err != nil {
		return err
	}
	defer file.Close()
	_, err = at.Deliver(name, &stopped{ctx, file}, landing.WriteOver)
	return err
}

// stopped reads a file until a context ends.
type stopped struct {
	ctx  context.Context
	file *os.File
}

func (s *stopped) Read(b []byte) (int, error) {
	if err := s.ctx.Err(); err != nil {
		return 0, err
	}
	return s.file.Read(b)
}

// Rehearsal is what a run would write now.
type Rehearsal struct {
	Fresh
	Rows    int64
	Columns []Column
	Names   []string // of its first file, and of the list
}

// Rehearse says what a run of an extract would write after a mark, and changes nothing.
func Rehearse(ctx context.Context, x *feed.Extract, url, mark string, run int64) (r Rehearsal, err error) {
	source, err := Open(ctx, x, url)
	if err != nil {
		return r, err
	}
	defer source.Close(context.WithoutCancel(ctx))
	if r.Fresh, err = source.Fresh(ctx, mark); err != nil {
		return r, err
	}
	r.Columns = source.Columns()
	if !r.Empty {
		if r.Rows, err = source.Count(ctx, r.Window); err != nil {
			return r, err
		}
	}
	r.Names = []string{x.Files.PartName(run, 1, r.End, r.At, x.New.Zone)}
	if x.Files.ListedIn != nil {
		r.Names = append(r.Names, x.Files.ListName(run, r.End, r.At, x.New.Zone))
	}
	return r, nil
}

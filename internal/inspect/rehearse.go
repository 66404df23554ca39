package inspect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"time"

	"mullein/internal/core/balance"
	"mullein/internal/core/check"
	"mullein/internal/core/feed"
	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/table"
)

// Rehearsal is what a load of a file would do.
type Rehearsal struct {
	Feed    string
	Path    string
	Waits   bool   // the file waits to be loaded, or nobody knows it yet; false when nothing would be loaded next
	Refused string // why the file would be refused; empty when it would be loaded
	Known   string // what became of this very file already; empty when the ledger does not know it, or when it waits
	Balance balance.Balance
	Checks  []check.Result
	Shape   []string // what would be made or does not fit
	Columns []string // of the samples
	Samples []table.Sample
	Rejects []ledger.Reject // the first of them
	Deep    bool            // the statements were executed and rolled back
	Traces  string          // what the rehearsal leaves behind; empty for nothing
	// Warnings are what a person should look at although the file would be loaded.
	Warnings []string
	Took     float64 // seconds
}

// Sent is a file that does not lie at the landing.
type Sent struct {
	Name string
	Size int64
	File load.SentFile
}

const rejectsShown = 20

// Rehearse says what a load of a file would do to the real table, and does
// nothing: in a read-only snapshot, without locks. at is the file's path below
// the landing, "" for the file that would be next; sent is a file from
// elsewhere, nil for none.
func (i *Inspector) Rehearse(ctx context.Context, f *feed.Feed, at string, sent *Sent) (*Rehearsal, error) {
	return i.rehearseFile(ctx, f, at, sent, false)
}

// RehearseDeep is Rehearse, and executes the statements of the load, too, and rolls
// them back.
func (i *Inspector) RehearseDeep(ctx context.Context, f *feed.Feed, at string, sent *Sent) (*Rehearsal, error) {
	return i.rehearseFile(ctx, f, at, sent, true)
}

func (i *Inspector) rehearseFile(ctx context.Context, f *feed.Feed, at string, sent *Sent, deep bool) (*Rehearsal,
	error) {
	began := time.Now()
	trial := &load.Trial{Deep: deep}
	folder, err := i.Landing(ctx, f)
	if err != nil && sent == nil {
		return nil, err
	}
	if err == nil {
		trial.Folder = folder
		defer folder.Close()
	}
	if sent != nil && f.Landing.InZip() && strings.HasSuffix(strings.ToLower(sent.Name), ".zip") {
		member, done, err := unzip(f, sent)
		if err != nil {
			return nil, err
		}
		defer done()
		sent = member
	}
	if sent != nil {
		sentTrial(f, sent, trial)
	}
	waits := true
	if sent == nil {
		if at == "" {
			if at, waits, err = i.nextFile(ctx, f); err != nil {
				return nil, err
			}
		}
		if err := i.trialOf(f, at, trial); err != nil {
			return nil, err
		}
	}
	r := &Rehearsal{Feed: f.Name, Path: trial.Arrival.Path, Waits: waits, Checks: []check.Result{}, Shape: []string{},
		Samples: []table.Sample{}, Rejects: []ledger.Reject{}, Deep: deep}
	if trial.File != nil {
		defer trial.File.Close()
		if r.Known, err = i.became(ctx, f.Name, trial.File.Entry); err != nil {
			return nil, err
		}
	}
	err = i.rehearse(ctx, f, trial, r)
	r.Took = time.Since(began).Seconds()
	return r, err
}

// rehearse holds the target against the kind of a file, and the file against the
// target.
func (i *Inspector) rehearse(ctx context.Context, f *feed.Feed, trial *load.Trial, r *Rehearsal) error {
	kind, err := f.Of(trial.Arrival.Captures)
	if err != nil {
		return &ledger.ConflictError{Reason: trial.Arrival.Path + ": " + err.Error()}
	}
	if kind, err = i.Columns(trial, kind); err != nil {
		return err
	}
	wanted, err := load.Wanted(kind)
	if err != nil {
		return err
	}
	r.Columns = kind.OwnColumns()
	database, err := i.Database(f)
	if err != nil {
		return &ledger.ConflictError{Reason: err.Error()}
	}
	fitted, changes, err := database.Look(ctx, wanted)
	var misfit *table.MisfitError
	if errors.As(err, &misfit) {
		r.Shape, r.Refused = misfit.Differences, misfit.Error()
		return nil
	}
	if err != nil {
		return err
	}
	r.Shape = append(r.Shape, changes...)
	if trial.Deep && len(changes) > 0 {
		return &ledger.ConflictError{Reason: fmt.Sprintf("a deep rehearsal needs %s as it will be, and a load would "+
			"make or change it first; rehearse without --deep", wanted)}
	}
	recipe, err := load.NewRecipe(kind, 0, fitted)
	if err != nil {
		return err
	}
	session, err := database.Session(ctx)
	if err != nil {
		return err
	}
	defer session.Close()
	out, err := i.Env.Rehearse(ctx, recipe, session, trial)
	if err != nil {
		return err
	}
	r.Refused, r.Balance, r.Traces, r.Warnings = out.Refused, out.Balance, out.Traces, out.Warnings
	r.Checks, r.Samples = append(r.Checks, out.Checks...), append(r.Samples, out.Samples...)
	r.Rejects = append(r.Rejects, out.Rejects[:min(len(out.Rejects), rejectsShown)]...)
	return nil
}

// became says what became of a file that has come to its end already.
func (i *Inspector) became(ctx context.Context, feed string, file landing.Entry) (string, error) {
	newest, err := i.Ledger.Newest(ctx, feed, []string{file.Path})
	a, known := newest[file.Path]
	if err != nil || !known || a.FinishedAt == nil || !file.Same(landing.Entry{Size: a.Size,
		Modified: a.Modified.UTC(), Inode: uint64(a.Inode)}) {
		return "", err
	}
	if a.Reason == "" {
		return fmt.Sprintf("it is arrival %d, which is %s", a.ID, a.State), nil
	}
	return fmt.Sprintf("it is arrival %d, which is %s: %s", a.ID, a.State, a.Reason), nil
}

// sentTrial makes a file that was sent the one to rehearse with.
func sentTrial(f *feed.Feed, sent *Sent, trial *load.Trial) {
	trial.Sent = sent.File
	trial.Arrival = &ledger.Arrival{Feed: f.Name, Path: sent.Name, Size: sent.Size, Modified: time.Now().UTC()}
	if taken := f.Landing.Look(sent.Name, max(1, sent.Size)); taken.Captures != nil {
		trial.Arrival.Name(taken.Captures)
	}
}

// unzip takes the first file that fits out of a zip that was sent, onto the disk for as
// long as it is looked at.
func unzip(f *feed.Feed, sent *Sent) (member *Sent, done func() error, err error) {
	file, err := os.CreateTemp("", "mullein-rehearsal-*")
	if err != nil {
		return nil, nil, fmt.Errorf("unpack %s: %w", sent.Name, err)
	}
	done = func() error { return errors.Join(file.Close(), os.Remove(file.Name())) }
	member = &Sent{File: file}
	member.Name, member.Size, err = landing.Take(sent.Name, sent.File, sent.Size, file,
		func(p string) bool { return f.Landing.Look(p, 1).Why == "" })
	if err != nil {
		return nil, nil, errors.Join(&ledger.ConflictError{Reason: err.Error()}, done())
	}
	if _, err = file.Seek(0, io.SeekStart); err != nil {
		return nil, nil, errors.Join(err, done())
	}
	return member, done, nil
}

// trialOf opens the file at the landing to rehearse with.
func (i *Inspector) trialOf(f *feed.Feed, at string, trial *load.Trial) error {
	if !fs.ValidPath(at) {
		return &NotTakenError{at, "is not a plain path below the landing"}
	}
	file, err := trial.Folder.Open(at)
	if errors.Is(err, fs.ErrNotExist) {
		return &ledger.ConflictError{Reason: fmt.Sprintf("%s is not at the landing %s", at, f.Landing.At)}
	}
	if err != nil {
		return err
	}
	trial.File = file
	trial.Arrival = &ledger.Arrival{Feed: f.Name, Path: at, Size: file.Entry.Size, Modified: file.Entry.Modified}
	trial.Arrival.Name(f.Landing.Look(at, file.Entry.Size).Captures)
	return nil
}

// nextFile finds the file that would be loaded next, or else the newest that there
// was, or else the first at the landing that the feed takes. waits reports whether it
// waits to be loaded.
func (i *Inspector) nextFile(ctx context.Context, f *feed.Feed) (path string, waits bool, err error) {
	waiting, err := i.Ledger.Waiting(ctx, f.Name, ledger.Selection{Most: 1, Again: true})
	if err != nil {
		return "", false, err
	}
	if len(waiting) > 0 {
		return waiting[0].Path, true, nil
	}
	newest, _, err := i.Ledger.Arrivals(ctx, ledger.Filter{Feed: f.Name, Most: 1})
	if err != nil {
		return "", false, err
	}
	if len(newest) > 0 {
		onItsWay := newest[0].State == ledger.Noticed || newest[0].State == ledger.Settling ||
			newest[0].State == ledger.Loading
		return newest[0].Path, onItsWay, nil
	}
	path, err = i.first(ctx, f)
	return path, true, err
}

// first finds a file at the landing that the feed takes.
func (i *Inspector) first(ctx context.Context, f *feed.Feed) (string, error) {
	const most = 1000
	list, _, err := i.Which(ctx, f, most)
	if err != nil {
		return "", err
	}
	for _, s := range list {
		if s.Taken {
			return s.Path, nil
		}
	}
	return "", &ledger.ConflictError{Reason: fmt.Sprintf("no file at the landing %s belongs to the feed; say which "+
		"with a path, or send one", f.Landing.At)}
}

package inspect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"time"

	"mullein/internal/core/feed"
	"mullein/internal/landing"
	"mullein/internal/ledger"
)

// Seen is a file at a landing, and whether a feed takes it.
type Seen struct {
	Path     string
	Size     int64
	Modified time.Time
	Taken    bool
	Why      string         // why it is left out, or what has become of it
	Captures map[string]any // what its name says
	Arrival  int64          // its newest arrival, 0 for none
	State    ledger.State   // of its newest arrival
}

// errEnough ends a listing that has found as much as was asked for.
var errEnough = errors.New("enough")

// Which lists up to most files at a feed's landing, by name, and says of each
// whether it is taken. more tells that there are others.
func (i *Inspector) Which(ctx context.Context, f *feed.Feed, most int) (list []Seen, more bool, err error) {
	folder, err := i.Landing(ctx, f)
	if err != nil {
		return nil, false, err
	}
	defer folder.Close()
	list = []Seen{}
	err = folder.List(ctx, func(string) bool { return true }, func(entry landing.Entry) error {
		if entry.Problem == "is a folder, not a file" && f.Landing.Look(entry.Path, 1).Why != "" {
			return nil
		}
		if len(list) == most {
			more = true
			return errEnough
		}
		taken := f.Landing.Look(entry.Path, entry.Size)
		seen := Seen{Path: entry.Path, Size: entry.Size, Modified: entry.Modified, Taken: taken.Why == "",
			Why: taken.Why, Captures: taken.Captures}
		switch {
		case seen.Captures == nil:
			seen.Captures = map[string]any{}
		case taken.List:
			seen.Why = "a list of a delivery"
		}
		if entry.Problem != "" {
			seen.Why = entry.Problem
		}
		list = append(list, seen)
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) {
		return nil, false, err
	}
	slices.SortFunc(list, func(a, b Seen) int { return strings.Compare(a.Path, b.Path) })
	for from := 0; from < len(list); from += outcomesAtOnce {
		if err := i.outcomes(ctx, f.Name, list[from:min(from+outcomesAtOnce, len(list))]); err != nil {
			return nil, false, err
		}
	}
	return list, more, nil
}

// outcomesAtOnce is how many files are looked up together.
const outcomesAtOnce = 1000

// outcomes says what has become of files.
func (i *Inspector) outcomes(ctx context.Context, name string, list []Seen) error {
	paths := make([]string, len(list))
	for n, s := range list {
		paths[n] = s.Path
	}
	newest, err := i.Ledger.Newest(ctx, name, paths)
	for n := range list {
		if a, ok := newest[list[n].Path]; ok {
			list[n].Arrival, list[n].State = a.ID, a.State
			if list[n].Taken && list[n].Why == "" {
				list[n].Why = a.Reason
			}
		}
	}
	return err
}

// NotTakenError says that a feed does not take a file of that name.
type NotTakenError struct{ Path, Why string }

func (e *NotTakenError) Error() string {
	return fmt.Sprintf("%s would not be taken: it %s", e.Path, e.Why)
}

// CheckLanding says why a folder cannot be a feed's landing: it holds files of the
// service's own. One that is not there yet may come.
func (i *Inspector) CheckLanding(ctx context.Context, f *feed.Feed) error {
	folder, err := i.Landing(ctx, f)
	var own *landing.OwnError
	if errors.As(err, &own) {
		return &ledger.ConflictError{Reason: err.Error()}
	}
	if err == nil {
		return folder.Close()
	}
	return nil
}

// Deliver puts a file into a feed's landing, whole at once. The folder of a landing that was never there is made, as
// made reports: its feed is new, and its first files are handed to it.
func (i *Inspector) Deliver(ctx context.Context, f *feed.Feed, path string, content io.Reader,
	existing landing.Existing) (entry landing.Entry, made bool, err error) {
	if !fs.ValidPath(path) {
		return entry, false, &NotTakenError{path, "is not a plain path below the landing"}
	}
	if strings.Count(path, "/") > landing.MaxDepth {
		return entry, false, &NotTakenError{path,
			fmt.Sprintf("lies more than %d folders deep, where the landing is not listed", landing.MaxDepth)}
	}
	if taken := f.Landing.Look(path, 1); taken.Why != "" {
		return entry, false, &NotTakenError{path, taken.Why}
	}
	folder, err := i.Landing(ctx, f)
	var away *landing.AwayError
	if errors.As(err, &away) && !f.Landing.IsFar() {
		folder, err = i.newLanding(ctx, f, err)
		made = err == nil
	}
	if err != nil {
		return entry, false, err
	}
	defer folder.Close()
	entry, err = folder.Deliver(path, content, existing)
	return entry, made, err
}

// newLanding makes the folder of a landing that was never listed; of another, why is what is wrong.
func (i *Inspector) newLanding(ctx context.Context, f *feed.Feed, why error) (landing.Landing, error) {
	record, err := i.Ledger.Feed(ctx, f.Name)
	if err != nil {
		return nil, err
	}
	if record.ListedAt != nil {
		return nil, why
	}
	if err := landing.Make(i.Roots, f.Landing.At); err != nil {
		return nil, err
	}
	return i.Landing(ctx, f)
}

// Accept takes a file of the landing for a slot although its name does not fit.
func (i *Inspector) Accept(ctx context.Context, f *feed.Feed, path string, slot ledger.Slot, loaded LoadedFiles, who,
	because string) (*ledger.Arrival, error) {
	if !fs.ValidPath(path) {
		return nil, &NotTakenError{path, "is not a plain path below the landing"}
	}
	folder, err := i.Landing(ctx, f)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	entry, err := folder.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s at the landing of %s: %w", path, f.Name, ledger.ErrNotFound)
	}
	if err == nil && entry.Problem != "" {
		err = &NotTakenError{path, entry.Problem}
	}
	if err != nil {
		return nil, err
	}
	if err := i.mayTake(ctx, f, path, slot, loaded); err != nil {
		return nil, err
	}
	now := time.Now().UTC()
	a := &ledger.Arrival{
		Feed: f.Name, Path: path, Size: entry.Size, Modified: entry.Modified, Inode: int64(entry.Inode),
		Captures: f.SlotCaptures(slot.Due()), Slot: slot.NameAt, DueSlot: &slot.ID, CameAt: &now,
	}
	if entry.Modified.Before(now) {
		a.CameAt = &entry.Modified
	}
	return a, i.Ledger.AcceptFile(ctx, a, who, because)
}

// LoadedFiles is what becomes of a file that is to be accepted and is loaded already.
type LoadedFiles int

// What becomes of it.
const (
	RefuseLoaded LoadedFiles = iota
	TakeLoaded               // although it is
)

// mayTake refuses to accept a file for a slot that is loaded already, unless somebody
// wants it all the same.
func (i *Inspector) mayTake(ctx context.Context, f *feed.Feed, path string, slot ledger.Slot,
	loaded LoadedFiles) error {
	known, err := i.Ledger.Known(ctx, []ledger.File{{Feed: f.Name, Path: path}})
	if err != nil || len(known) == 0 || known[0].State != ledger.Loaded || loaded == TakeLoaded {
		return err
	}
	a, err := i.Ledger.Arrival(ctx, known[0].ID)
	if err != nil {
		return err
	}
	where := ""
	if a.DueSlot != nil && *a.DueSlot != slot.ID {
		where = fmt.Sprintf(" for slot %d", *a.DueSlot)
	}
	return &ledger.ConflictError{Reason: fmt.Sprintf("%s is loaded already%s, as arrival %d; --although takes it for "+
		"slot %d too", path, where, a.ID, slot.ID)}
}

// Expected writes the name that a slot expects.
func Expected(f *feed.Feed, s *ledger.Slot) string {
	return f.Expected(s.Due())
}

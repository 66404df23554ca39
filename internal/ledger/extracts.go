package ledger

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"mullein/internal/core/balance"
)

// Extract is an extract, and how far it has come.
type Extract struct {
	Name        string `gorm:"primaryKey"`
	Definition  string
	Version     int // counts what was put, from 1
	PutBy       string
	PutAt       time.Time `gorm:"default:now()"`
	Mark        string    // the greatest value that was written, as its database writes it; "" for none
	Runs        int64     // windows that were begun
	Paused      bool
	WantedBy    string           // who wants a run now; "" for nobody
	FiredAt     time.Time        `gorm:"default:now()"`   // the time of its schedule up to which runs were begun
	AfterSeen   map[string]int64 `gorm:"serializer:json"` // loads of the feeds that it comes after, at its last run
	TryAfter    *time.Time       // when an attempt that failed is followed by another
	Attempts    int              // at the window that is open
	Problem     string           // why it does not work; "" when it does
	ProblemAt   *time.Time
	LeaseHolder *string // the service that works it
	Fence       int64   // raised by each claim
	Working     bool    `gorm:"->"` // a living service holds it
	Unfinished  bool    `gorm:"->"` // a window is open
}

// TableName keeps GORM from making plurals.
func (Extract) TableName() string { return "extract" }

// ExtractWindow is one working of an extract.
type ExtractWindow struct {
	ID         int64 `gorm:"primaryKey"`
	Extract    string
	Run        int64  // counts the windows of an extract, from 1
	Low, High  string // values of the growing column, as its database writes them
	Bounds     string // which ends belong to it, such as (]; "" for all rows
	MarkBefore string
	MarkAfter  string
	EndText    string    // what names write for its end
	EndAt      time.Time // the same, where it is a time
	State      RunState  `gorm:"default:running"` // running, done, failed or cancelled
	Reason     string    // why it failed, or what its last attempt ended with
	Cause      string
	By         string        // who wanted it
	Source     *int64        // rows that the database counts in it; nil before that
	Rows       int64         // rows in its files
	Bytes      int64         // of its files
	Files      []ExtractFile `gorm:"serializer:json"`
	Placed     int           // files that are in the landing
	Ahead      int64         // rows that are later than the database's clock
	Blank      int64         // rows without a value, which are in no window
	Attempts   int
	StartedAt  time.Time  `gorm:"default:now()"`
	ReadAt     *time.Time // when its files were whole, aside
	FinishedAt *time.Time
}

// TableName keeps GORM from making plurals.
func (ExtractWindow) TableName() string { return "extract_window" }

// ExtractFile is a file of a window.
type ExtractFile struct {
	Name   string `json:"name"` // below the landing
	Rows   int64  `json:"rows"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
}

// extractEvent is news of an extract.
func extractEvent(name, state string) []Event {
	return []Event{{Kind: "extract", Extract: name, State: state}}
}

// PutExtract creates an extract, or changes it. How far it has come stays; a window that is open is given up, since it was fixed
// by what the extract was before.
func (l *Ledger) PutExtract(ctx context.Context, name, definition, by string) (version int, changed bool, err error) {
	err = l.decide(ctx, func(tx *gorm.DB) ([]Event, error) {
		var x Extract
		err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Limit(1).Find(&x, "name = ?", name).Error
		if err != nil || x.Definition == definition {
			version = x.Version
			return nil, err
		}
		version, changed = x.Version+1, true
		err = tx.Exec(`INSERT INTO extract (name, definition, put_by) VALUES (?, ?, ?) ON CONFLICT (name) DO UPDATE
			SET definition = excluded.definition, put_by = excluded.put_by, put_at = now(), version = extract.version + 1, fence = extract.fence + 1,
			lease_holder = NULL, problem = '', problem_at = NULL,
			try_after = CASE WHEN extract.problem <> '' THEN now() END`, name, definition, by).Error
		if err == nil {
			err = tx.Exec("UPDATE extract_window SET state = 'cancelled', reason = 'the extract was changed', finished_at = now() WHERE extract = ? AND state = 'running'",
				name).Error
		}
		return extractEvent(name, "put"), err
	})
	return version, changed, err
}

const extractColumns = `x.*, EXISTS (SELECT 1 FROM service s WHERE s.id = x.lease_holder AND s.lease_until >= now()) AS working,
	EXISTS (SELECT 1 FROM extract_window w WHERE w.extract = x.name AND w.state = 'running') AS unfinished`

// Extracts returns all extracts, by name.
func (l *Ledger) Extracts(ctx context.Context) ([]Extract, error) {
	out := []Extract{}
	err := l.with(ctx).Raw("SELECT " + extractColumns + " FROM extract x ORDER BY name").Scan(&out).Error
	return out, err
}

// Extract returns one extract, or ErrNotFound.
func (l *Ledger) Extract(ctx context.Context, name string) (Extract, error) {
	var out []Extract
	err := l.with(ctx).Raw("SELECT "+extractColumns+" FROM extract x WHERE name = ?", name).Scan(&out).Error
	if err == nil && len(out) == 0 {
		return Extract{}, fmt.Errorf("extract %q: %w", name, ErrNotFound)
	}
	if err != nil {
		return Extract{}, err
	}
	return out[0], nil
}

// LastWindows returns the last window of each extract that has one.
func (l *Ledger) LastWindows(ctx context.Context) (map[string]ExtractWindow, error) {
	var list []ExtractWindow
	err := l.with(ctx).Raw("SELECT w.* FROM extract x JOIN extract_window w ON w.extract = x.name AND w.run = x.runs").Scan(&list).Error
	out := map[string]ExtractWindow{}
	for _, w := range list {
		out[w.Extract] = w
	}
	return out, err
}

// Windows returns windows of an extract, the newest first: those before a run, 0 for all.
func (l *Ledger) Windows(ctx context.Context, name string, before int64, most int) ([]ExtractWindow, error) {
	out := []ExtractWindow{}
	q := l.with(ctx).Where("extract = ?", name)
	if before > 0 {
		q = q.Where("run < ?", before)
	}
	err := q.Order("run DESC").Limit(most).Find(&out).Error
	return out, err
}

// Window returns the window of a run of an extract, or ErrNotFound.
func (l *Ledger) Window(ctx context.Context, name string, run int64) (ExtractWindow, error) {
	var w ExtractWindow
	err := l.with(ctx).First(&w, "extract = ? AND run = ?", name, run).Error
	return w, found(err, "run %d of extract %q", run, name)
}

// changeExtract changes an extract by a decision of a person.
func (l *Ledger) changeExtract(ctx context.Context, name, state, set string, args ...any) error {
	return l.decide(ctx, func(tx *gorm.DB) ([]Event, error) {
		done := tx.Exec("UPDATE extract SET "+set+" WHERE name = ?", append(args, name)...)
		if done.Error == nil && done.RowsAffected == 0 {
			return nil, fmt.Errorf("extract %q: %w", name, ErrNotFound)
		}
		return extractEvent(name, state), done.Error
	})
}

// WantExtract has an extract run now, also when an attempt at it waits or it has failed.
func (l *Ledger) WantExtract(ctx context.Context, name, by string) error {
	return l.changeExtract(ctx, name, WorkWanted, "wanted_by = ?, try_after = NULL, problem = '', problem_at = NULL", by)
}

// PauseExtract keeps runs of an extract from beginning by themselves, or ends that.
func (l *Ledger) PauseExtract(ctx context.Context, name string, paused bool) error {
	state := "resumed"
	if paused {
		state = "paused"
	}
	return l.changeExtract(ctx, name, state, "paused = ?", paused)
}

// RemoveExtract removes an extract with its history. The files that it wrote stay.
func (l *Ledger) RemoveExtract(ctx context.Context, name string) error {
	return l.decide(ctx, func(tx *gorm.DB) ([]Event, error) {
		done := tx.Exec("DELETE FROM extract WHERE name = ?", name)
		if done.Error == nil && done.RowsAffected == 0 {
			return nil, fmt.Errorf("extract %q: %w", name, ErrNotFound)
		}
		return extractEvent(name, "removed"), done.Error
	})
}

// SetMark sets how far an extract has come. A window that is open, and not worked now, is given up.
func (l *Ledger) SetMark(ctx context.Context, name, mark string) error {
	return l.decide(ctx, func(tx *gorm.DB) ([]Event, error) {
		var x Extract
		err := tx.Raw("SELECT "+extractColumns+" FROM extract x WHERE name = ? FOR UPDATE OF x", name).Scan(&x).Error
		switch {
		case err != nil:
			return nil, err
		case x.Name == "":
			return nil, fmt.Errorf("extract %q: %w", name, ErrNotFound)
		case x.Working:
			return nil, &ConflictError{Reason: fmt.Sprintf("extract %s is at work; set its mark when it is done, or pause it first", name)}
		}
		err = tx.Exec(`UPDATE extract_window SET state = 'cancelled', reason = 'the mark was set', finished_at = now()
			WHERE extract = ? AND state = 'running'`, name).Error
		if err == nil {
			err = tx.Exec("UPDATE extract SET mark = ?, attempts = 0, try_after = NULL, problem = '', problem_at = NULL WHERE name = ?", mark, name).Error
		}
		return extractEvent(name, "mark"), err
	})
}

// LoadsOf returns how many loads feeds have made, by name.
func (l *Ledger) LoadsOf(ctx context.Context, feeds []string) (map[string]int64, error) {
	var list []Feed
	out := map[string]int64{}
	if len(feeds) == 0 {
		return out, nil
	}
	err := l.with(ctx).Raw(`SELECT name, loads FROM feed WHERE name = ANY(ARRAY(SELECT jsonb_array_elements_text(?::jsonb)))`, textList(feeds)).
		Scan(&list).Error
	for _, f := range list {
		out[f.Name] = f.Loads
	}
	return out, err
}

// ExtractBegin is why a run of an extract begins.
type ExtractBegin struct {
	Fired time.Time        // the time of its schedule; zero for none
	Seen  map[string]int64 // loads of the feeds that it comes after; nil where it does not come after them
	Anew  bool             // attempts before do not count
}

// ClaimExtract leases an extract to a service that is alive, and takes note of why. ok is false where another has it, or where
// it was changed since it was looked at.
func (l *Ledger) ClaimExtract(ctx context.Context, seen *Extract, holder string, why ExtractBegin) (x Extract, ok bool, err error) {
	fired, after := seen.FiredAt, seen.AfterSeen
	if !why.Fired.IsZero() {
		fired = why.Fired
	}
	if why.Seen != nil {
		after = why.Seen
	}
	text, err := json.Marshal(after)
	if err != nil {
		return x, false, err
	}
	var claimed []Extract
	err = l.with(ctx).Raw(`UPDATE extract SET lease_holder = ?, fence = fence + 1, fired_at = ?, after_seen = ?::jsonb, wanted_by = '', try_after = NULL,
		attempts = CASE WHEN ? THEN 0 ELSE attempts END
		WHERE name = ? AND fence = ? AND version = ? AND wanted_by = ? AND paused = ?
		AND NOT EXISTS (SELECT 1 FROM service s WHERE s.id = extract.lease_holder AND s.lease_until >= now())
		AND EXISTS (SELECT 1 FROM service WHERE id = ? AND lease_until >= now()) RETURNING *`,
		holder, fired, string(text), why.Anew, seen.Name, seen.Fence, seen.Version, seen.WantedBy, seen.Paused, holder).Scan(&claimed).Error
	if err != nil || len(claimed) == 0 {
		return x, false, err
	}
	return claimed[0], true, nil
}

// ErrLost says that another service has an extract now.
var ErrLost = fmt.Errorf("another service works the extract now")

// held runs do while an extract is leased with a fence.
func (l *Ledger) held(ctx context.Context, x *Extract, do func(tx *gorm.DB) ([]Event, error)) error {
	return l.decide(ctx, func(tx *gorm.DB) ([]Event, error) {
		var fence int64
		if err := tx.Raw("SELECT fence FROM extract WHERE name = ? FOR UPDATE", x.Name).Scan(&fence).Error; err != nil {
			return nil, err
		}
		if fence != x.Fence {
			return nil, ErrLost
		}
		return do(tx)
	})
}

// OpenWindow returns the window of an extract that is not done; ok is false where there is none.
func (l *Ledger) OpenWindow(ctx context.Context, name string) (w ExtractWindow, ok bool, err error) {
	var list []ExtractWindow
	err = l.with(ctx).Where("extract = ? AND state = 'running'", name).Limit(1).Find(&list).Error
	if err != nil || len(list) == 0 {
		return w, false, err
	}
	return list[0], true, nil
}

// BeginWindow fixes what a run reads, and gives it its number.
func (l *Ledger) BeginWindow(ctx context.Context, x *Extract, w *ExtractWindow) error {
	return l.held(ctx, x, func(tx *gorm.DB) ([]Event, error) {
		if err := tx.Raw("UPDATE extract SET runs = runs + 1, attempts = 0 WHERE name = ? RETURNING runs", x.Name).Scan(&w.Run).Error; err != nil {
			return nil, err
		}
		w.Extract, x.Runs, x.Attempts = x.Name, w.Run, 0
		return extractEvent(x.Name, "begun"), tx.Create(w).Error
	})
}

// CountAttempt takes note that another attempt at a window begins, before anything is read.
func (l *Ledger) CountAttempt(ctx context.Context, x *Extract, w *ExtractWindow) error {
	x.Attempts++
	w.Attempts++
	return l.held(ctx, x, func(tx *gorm.DB) ([]Event, error) {
		err := tx.Exec("UPDATE extract SET attempts = ? WHERE name = ?", x.Attempts, x.Name).Error
		if err == nil {
			err = tx.Model(w).Select("Attempts").Updates(w).Error
		}
		return nil, err
	})
}

// WindowRead takes note of the files of a window, which are whole, aside.
func (l *Ledger) WindowRead(ctx context.Context, x *Extract, w *ExtractWindow) error {
	now := time.Now()
	w.ReadAt, w.Placed = &now, 0
	return l.held(ctx, x, func(tx *gorm.DB) ([]Event, error) {
		return extractEvent(x.Name, "read"), tx.Model(w).Select("Source", "Rows", "Bytes", "Files", "Placed", "ReadAt").Updates(w).Error
	})
}

// FilePlaced takes note that one more file of a window is in the landing.
func (l *Ledger) FilePlaced(ctx context.Context, x *Extract, w *ExtractWindow) error {
	w.Placed++
	return l.held(ctx, x, func(tx *gorm.DB) ([]Event, error) { return nil, tx.Model(w).Select("Placed").Updates(w).Error })
}

// WindowDone ends a window whose files are in the landing, and moves the mark.
func (l *Ledger) WindowDone(ctx context.Context, x *Extract, w *ExtractWindow) error {
	return l.held(ctx, x, func(tx *gorm.DB) ([]Event, error) {
		err := tx.Exec("UPDATE extract_window SET state = 'done', reason = '', finished_at = now() WHERE id = ?", w.ID).Error
		if err == nil {
			err = tx.Exec("UPDATE extract SET mark = ?, attempts = 0, problem = '', problem_at = NULL WHERE name = ?", w.MarkAfter, x.Name).Error
		}
		x.Mark, x.Attempts = w.MarkAfter, 0
		return extractEvent(x.Name, "done"), err
	})
}

// ExtractFailed takes note that an attempt failed: it is tried again at a time, or, without one, waits for a person. w is nil
// where no window was fixed.
func (l *Ledger) ExtractFailed(ctx context.Context, x *Extract, w *ExtractWindow, reason string, again *time.Time) error {
	return l.held(ctx, x, func(tx *gorm.DB) ([]Event, error) {
		if w != nil {
			if err := tx.Exec("UPDATE extract_window SET reason = ? WHERE id = ?", reason, w.ID).Error; err != nil {
				return nil, err
			}
		}
		return extractEvent(x.Name, "failed"), tx.Exec(`UPDATE extract SET problem = ?, problem_at = coalesce(problem_at, now()), try_after = ?, attempts = ?
			WHERE name = ?`, reason, again, x.Attempts, x.Name).Error
	})
}

// ReleaseExtract ends the lease of an extract, and takes note of its attempts.
func (l *Ledger) ReleaseExtract(ctx context.Context, x *Extract) error {
	return l.with(ctx).Exec("UPDATE extract SET lease_holder = NULL, attempts = ? WHERE name = ? AND fence = ?", x.Attempts, x.Name, x.Fence).Error
}

// ReleaseExtractsOf ends the leases that a service held before it was started again.
func (l *Ledger) ReleaseExtractsOf(ctx context.Context, holder string) error {
	return l.with(ctx).Exec("UPDATE extract SET lease_holder = NULL WHERE lease_holder = ?", holder).Error
}

// ExtractsInTrouble returns the extracts that have failed after all attempts, and wait for a person or for their next time.
func (l *Ledger) ExtractsInTrouble(ctx context.Context) ([]Extract, error) {
	var out []Extract
	err := l.with(ctx).Raw("SELECT * FROM extract WHERE problem <> '' AND problem_at IS NOT NULL AND try_after IS NULL AND NOT paused ORDER BY name").Scan(&out).Error
	return out, err
}

// ExtractLoad is what became of a file of an extract at a feed.
type ExtractLoad struct {
	Feed, Path string
	Arrival    int64
	State      State
	Balance    balance.Balance `gorm:"serializer:json"`
}

// ArrivalsOf returns, of files with some names at the landings of some feeds, the last arrival of each.
func (l *Ledger) ArrivalsOf(ctx context.Context, feeds, names []string) (out []ExtractLoad, err error) {
	if len(feeds) == 0 || len(names) == 0 {
		return nil, nil
	}
	err = l.with(ctx).Raw(`SELECT DISTINCT ON (feed, path) feed, path, id AS arrival, state, balance FROM arrival
		WHERE feed || ' ' || path = ANY(ARRAY(SELECT f || ' ' || p FROM jsonb_array_elements_text(?::jsonb) f, jsonb_array_elements_text(?::jsonb) p))
		ORDER BY feed, path, id DESC`, textList(feeds), textList(names)).Scan(&out).Error
	return out, err
}

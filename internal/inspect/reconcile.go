package inspect

import (
	"context"
	"errors"
	"fmt"

	"mullein/internal/core/balance"
	"mullein/internal/core/feed"
	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/table"
)

// Difference is where the ledger and the target's markers do not say the same.
type Difference struct {
	Arrival int64
	Path    string
	What    string
	Safe    bool // it can be mended without a person
	Mended  bool
	Way     string // what mends it
}

// maxDifferences bounds what one reconciliation tells; the rest is told by the next.
const maxDifferences = 10_000

// reconciledAtOnce is how many arrivals are held against markers together.
const reconciledAtOnce = 1000

// Reconcile holds a feed's ledger and the target's markers against each other,
// which may differ after one of them was restored from a back-up. The markers
// are the truth. Nothing is changed.
func (i *Inspector) Reconcile(ctx context.Context, name string) ([]Difference, error) {
	return i.reconcileAll(ctx, name, false)
}

// ReconcileAndMend is Reconcile, and mends what is safe.
func (i *Inspector) ReconcileAndMend(ctx context.Context, name string) ([]Difference, error) {
	return i.reconcileAll(ctx, name, true)
}

// MendFromMarkers mends what differs between a feed's ledger and the target's markers,
// and is safe to mend without a person. It does not look at files.
func (i *Inspector) MendFromMarkers(ctx context.Context, name string) error {
	f, _, err := i.Definition(ctx, name)
	if err == nil {
		_, err = i.reconcile(ctx, f, true)
	}
	return err
}

func (i *Inspector) reconcileAll(ctx context.Context, name string, mend bool) ([]Difference, error) {
	f, _, err := i.Definition(ctx, name)
	if err != nil {
		return nil, err
	}
	out, err := i.reconcile(ctx, f, mend)
	if err != nil || f.Landing.InZip() || len(out) >= maxDifferences {
		return out, err
	}
	found, err := i.putAwayUnknown(ctx, f, mend)
	var away *landing.AwayError
	if errors.As(err, &away) {
		return append(out, Difference{Path: f.Landing.At,
			What: "whether files were put away that the ledger does not know of cannot be seen: " + err.Error(),
			Way:  "run this again when the landing is back"}), nil
	}
	return append(out, found...), err
}

func (i *Inspector) reconcile(ctx context.Context, f *feed.Feed, mend bool) ([]Difference, error) {
	name := f.Name
	targets, err := i.Database(f)
	if err != nil {
		return nil, err
	}
	if err := targets.Prepare(ctx); err != nil {
		return nil, err
	}
	out := []Difference{}
	for after := int64(0); len(out) < maxDifferences; {
		markers, err := targets.Markers(ctx, name, after, reconciledAtOnce)
		if err != nil {
			return nil, err
		}
		found, err := i.unrecorded(ctx, f, markers, mend)
		if err != nil {
			return nil, err
		}
		out = append(out, found...)
		if len(markers) < reconciledAtOnce {
			break
		}
		after = markers[len(markers)-1].Arrival
	}
	for after := int64(0); len(out) < maxDifferences; {
		loaded, err := i.Ledger.InStates(ctx, name, after, reconciledAtOnce, ledger.Loaded)
		if err != nil {
			return nil, err
		}
		found, err := i.unmarked(ctx, targets, name, loaded, mend)
		if err != nil {
			return nil, err
		}
		out = append(out, found...)
		if len(loaded) < reconciledAtOnce {
			break
		}
		after = loaded[len(loaded)-1].ID
	}
	return out, nil
}

// unrecorded finds markers of loads that the ledger does not know of: the
// ledger was restored. The load happened, so the ledger is told.
func (i *Inspector) unrecorded(ctx context.Context, f *feed.Feed, markers []table.Marker, mend bool) ([]Difference,
	error) {
	of := make([]int64, len(markers))
	for n, m := range markers {
		of[n] = m.Arrival
	}
	have, err := i.Ledger.ByNumber(ctx, of)
	if err != nil {
		return nil, err
	}
	var out []Difference
	for n := range markers {
		m := &markers[n]
		d := Difference{Arrival: m.Arrival, Path: m.Path(), Safe: true}
		a, known := have[m.Arrival]
		switch {
		case known && (a.Feed != f.Name || a.Path != m.Path()):
			d.What = fmt.Sprintf("the target has it as loaded from %s; in the ledger the number is of %s, %s",
				m.Path(), a.Feed, a.Path)
			d.Safe, d.Way = false, "a person has to decide: the ledger gave the number again after it was restored"
		case !known:
			d.What, d.Way = "the target has it as loaded; the ledger does not know it",
				"the ledger records it from its marker"
		case !m.Active && a.State == ledger.Loaded && a.Generation <= m.Generation:
			d.What, d.Way = "the target has it as recalled; the ledger has it as loaded",
				"the ledger records it as recalled"
			if mend {
				if err := i.Ledger.Recalled(ctx, []int64{m.Arrival}, nil, i.Service,
					"reconcile: it is recalled in the target"); err != nil {
					return nil, err
				}
				d.Mended = true
			}
			out = append(out, d)
			continue
		case !m.Active:
			continue
		case a.State == ledger.Loaded && a.SHA256 == m.SHA256 && a.Balance == m.Balance, a.State == ledger.Recalled,
			a.Generation > m.Generation, a.State == ledger.Loading:
			continue
		case a.State == ledger.Loaded:
			d.What, d.Way = "ledger and marker differ in its digest or its balance", "the ledger takes the marker's"
		default:
			d.What, d.Way = fmt.Sprintf("the target has it as loaded; in the ledger it is %s", a.State),
				"the ledger records it as loaded"
		}
		if mend && d.Safe {
			of := ledger.Arrival{ID: m.Arrival, Feed: f.Name, Path: m.Path(), SHA256: m.SHA256,
				Generation: m.Generation, Balance: m.Balance, FinishedAt: &m.CommittedAt}
			of.Name(f.Landing.Look(of.Path, 1).Captures)
			if err := i.Ledger.FromMarker(ctx, of); err != nil {
				return nil, err
			}
			d.Mended = true
		}
		out = append(out, d)
	}
	return out, nil
}

// unmarked finds arrivals that the ledger has as loaded and the target does
// not: the target was restored. They are to be loaded again, if their files are
// still to be had.
func (i *Inspector) unmarked(ctx context.Context, targets *table.Database, name string, loaded []ledger.Arrival,
	mend bool) ([]Difference, error) {
	var of []int64
	for _, a := range loaded {
		if !a.IsList && a.Balance != (balance.Balance{}) {
			of = append(of, a.ID)
		}
	}
	marked, err := targets.Marked(ctx, name, of)
	if err != nil {
		return nil, err
	}
	var out []Difference
	var again []int64
	for _, a := range loaded {
		if a.IsList || a.Balance == (balance.Balance{}) || marked[a.ID] {
			continue
		}
		d := Difference{Arrival: a.ID, Path: a.Path, What: "the ledger has it as loaded; the target has no marker of " +
			"it", Safe: true, Way: "it is loaded again from its file", Mended: mend}
		again = append(again, a.ID)
		out = append(out, d)
	}
	if mend && len(again) > 0 {
		_, err = i.Ledger.Decide(ctx, ledger.Redo, again, i.Service, "reconcile: the target had no marker of it")
	}
	return out, err
}

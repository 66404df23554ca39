package inspect

import (
	"context"
	"errors"
	"slices"
	"time"

	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
	"mullein/internal/load"
	"mullein/internal/table"
)

// shapePatience is how long putting a feed waits for the target's database to say
// how its table is.
const shapePatience = 5 * time.Second

// Shape says, for people, what stands between a feed and its table as it is, a line each.
// All are empty when nothing does, and when the table is still to be made.
type Shape struct {
	Misfit  []string // why nothing can be loaded, and the ways out
	Changes []string // what the next load changes first
	Notes   []string // what the schema allows and the table does not take
}

// Shape holds a feed against its table as it is; those of feeds of several tables are
// not looked at.
func (i *Inspector) Shape(ctx context.Context, f *feed.Feed) Shape {
	if f.HasKinds() {
		return Shape{}
	}
	ctx, cancel := context.WithTimeout(ctx, shapePatience)
	defer cancel()
	out, err := i.shape(ctx, f)
	var misfit *table.MisfitError
	switch {
	case errors.As(err, &misfit):
		out.Misfit = append([]string{"table " + misfit.Table + " does not fit, and until it does files wait:"},
			misfit.Differences...)
		out.Misfit = append(out.Misfit, misfit.WaysOut()...)
	case err != nil:
		out.Misfit = []string{err.Error()}
	}
	return out
}

func (i *Inspector) shape(ctx context.Context, f *feed.Feed) (out Shape, err error) {
	wanted, err := load.Wanted(f)
	if err != nil {
		return out, err
	}
	database, err := i.Database(f)
	if err != nil {
		return out, err
	}
	fitted, changes, err := database.Look(ctx, wanted)
	if err != nil || !fitted.Exists() {
		return out, err
	}
	for _, c := range changes {
		out.Changes = append(out.Changes, "the next load changes table "+wanted.String()+": "+c)
	}
	columns, err := f.Schema.Compile(f.Zone)
	if err != nil {
		return out, err
	}
	for _, c := range wanted.Own {
		limit, of := fitted.Limit(c.Name), (*tabular.Column)(nil)
		if i := slices.IndexFunc(columns, func(f *tabular.Column) bool { return f.Field.Name == c.Name }); i >= 0 {
			of = columns[i]
		}
		limit.Computed = of == nil
		out.Notes = append(out.Notes, limit.Says(c.Name, of)...)
	}
	return out, nil
}

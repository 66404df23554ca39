package load

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"mullein/internal/core/check"
	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
	"mullein/internal/ledger"
	"mullein/internal/reading"
	"mullein/internal/table"
)

// Recipe is all that an attempt at a delivery needs to know: complete when it is
// made, and never changed. One goroutine at a time reads by it.
type Recipe struct {
	Feed    *feed.Feed    // of the kind of the files, with the columns that were learned from them
	Version int           // of the feed
	Plan    *reading.Plan // how files are read
	Table   *table.Fitted // where the rows end

	deliveryChecks []*check.Program
	questions      []check.Question // of the checks of deliveries
}

// NewRecipe makes a recipe of a feed, or of one kind of its files, and of the
// table that was held against it.
func NewRecipe(f *feed.Feed, version int, t *table.Fitted) (*Recipe, error) {
	r := &Recipe{Feed: f, Version: version, Table: t}
	var err error
	if r.Plan, err = reading.NewPlan(f); err != nil {
		return nil, err
	}
	for _, c := range t.Own {
		r.Plan.Limit(c.Name, t.Limit(c.Name))
	}
	return r, r.compileDelivery()
}

func (r *Recipe) compileDelivery() error {
	kinds, err := r.Feed.ColumnKinds()
	if err != nil {
		return err
	}
	var names []string
	for _, k := range r.Feed.Checks.Row {
		names = append(names, k.Name)
	}
	for _, k := range r.Feed.Checks.Delivery {
		names = append(names, k.Name)
	}
	known := map[check.Question]bool{}
	for _, k := range r.Feed.Checks.Delivery {
		p, err := check.Compile(k, kinds, names)
		if err != nil {
			return fmt.Errorf("check %s: %w", k.Name, err)
		}
		r.deliveryChecks = append(r.deliveryChecks, p)
		for _, q := range p.Questions {
			if !known[q] {
				known[q] = true
				r.questions = append(r.questions, q)
			}
		}
	}
	return nil
}

// asksStaged reports whether something asks for the staged rows between reading
// and merging, so that they have to be staged.
func (r *Recipe) asksStaged() bool {
	s := &r.Feed.Schema
	return len(r.Feed.Checks.Delivery)+len(s.UniqueKeys)+len(s.ForeignKeys) > 0 ||
		slices.ContainsFunc(s.Fields, func(f tabular.Field) bool { return f.Constraints.Unique })
}

// loadsAlone reports whether each delivery needs a transaction of its own: it is held
// against the whole table, or hashes do not tell which rows have the same key.
func (r *Recipe) loadsAlone() bool {
	t := &r.Feed.Target
	return t.Mode.Replaces() || t.Absent != feed.AbsentKeep || !r.Table.Bytewise()
}

// Wanted returns the table that a feed, or a kind of its files, wants.
func Wanted(f *feed.Feed) (*table.Table, error) {
	columns, err := f.Schema.Compile(f.Zone)
	if err != nil {
		return nil, fmt.Errorf("feed %s: %w", f.Name, err)
	}
	var own []table.Column
	for _, c := range columns {
		if c.Field.Unstored {
			continue
		}
		comment := c.Field.Description
		if c.Field.Title != "" {
			comment = c.Field.Title
			if c.Field.Description != "" {
				comment += ". " + c.Field.Description
			}
		}
		own = append(own, table.Column{Name: c.Field.Name, Kind: c.Kind, NotNull: c.Field.Constraints.Required,
			Comment: comment, MaxLength: c.Field.Constraints.MaxLength})
	}
	for _, d := range f.Derive {
		own = append(own, table.Column{Name: d.Name, Kind: d.Kind, Comment: "Derived: " + d.Expression})
	}
	t := table.NewTable(f.Target.Schema, f.Target.Table, f.About, own, f.Schema.PrimaryKey, f.Target.Newest,
		f.Target.Lineage)
	t.Deletes, t.Ranked = f.DeleteWhen != "", f.Target.Order != feed.OrderArrival && f.Target.Newest == ""
	t.Mode, t.Part, t.Merge, t.Journal = f.Target.Mode, f.Target.Part, f.Target.Merge, f.Target.Recall > 0
	t.Missing = f.Target.MissingColumns
	if f.Target.AddColumns && t.Missing == feed.AddToOwn {
		t.Missing = feed.AddMissingColumns
	}
	t.Absent, t.AbsentAtMost, t.HasAbsentAtMost = f.Target.Absent, f.Target.AbsentAtMost, f.Target.HasAbsentAtMost
	return t, nil
}

const (
	maxColumnName = 63   // bytes, as PostgreSQL has them
	maxColumns    = 1500 // of a table; PostgreSQL allows 1600, dropped ones among them
)

// DefaultAddedColumns is how many columns a file may add to its target.
const DefaultAddedColumns = 100

// ColumnsError says that a file has columns that cannot be added to its target.
type ColumnsError struct {
	Arrival int64 // 0 where it is none yet
	Reason  string
}

func (e *ColumnsError) Error() string { return e.Reason }

// withColumns returns a feed with those of the names as further fields that it
// does not have yet, up to so many: texts that later files may lack. It is the feed
// itself when it has them all. What cannot be added is a [*ColumnsError].
func withColumns(f *feed.Feed, names []string, most int) (*feed.Feed, error) {
	own := append(f.OwnColumns(), f.Target.Lineage.Names()...)
	known := map[string]bool{}
	for i := range f.Schema.Fields {
		known[f.Schema.Fields[i].SourceName()] = true
	}
	var added []tabular.Field
	for _, name := range names {
		if known[name] {
			continue
		}
		reason := ""
		switch {
		case name == "" || len(name) > maxColumnName || strings.ContainsRune(name, 0):
			reason = fmt.Sprintf("it has a column %.100q beyond the schema, whose name cannot be that of a column of "+
				"the table: from 1 to %d bytes", name, maxColumnName)
		case feed.IsSystemColumn(name):
			reason = fmt.Sprintf("it has a column %q beyond the schema, and PostgreSQL keeps that name for itself; "+
				"give it a field with another name in the schema", name)
		case slices.Contains(own, name):
			reason = fmt.Sprintf("it has a column %q beyond the schema, and the table has one of that name already; "+
				"give it a field of its own in the schema", name)
		case len(added) == most:
			reason = fmt.Sprintf("it has more than %d columns that its table does not have; so many a file may add "+
				"(--added-columns)", most)
		case len(own)+len(added) >= maxColumns:
			reason = fmt.Sprintf("with its columns the table would have more than %d", maxColumns)
		}
		if reason != "" {
			return nil, &ColumnsError{Reason: reason}
		}
		known[name] = true
		added = append(added, tabular.Field{Name: name, Type: "string", Optional: true,
			Description: "Not in the feed's schema; added as it came."})
	}
	if added == nil {
		return f, nil
	}
	wider := *f
	wider.Schema.Fields = slices.Concat(f.Schema.Fields, added)
	return &wider, nil
}

// LearnColumns looks into the headers of files for columns that a feed's schema does
// not have, where the feed adds them to its target, and returns the feed with them:
// the feed itself when there are none. What cannot be added is a [*ColumnsError]; what
// else is wrong with a file is found out when it is loaded.
func (e *Env) LearnColumns(ctx context.Context, f *feed.Feed, of []*ledger.Arrival) (*feed.Feed, error) {
	if !f.Target.AddColumns {
		return f, nil
	}
	for _, a := range of {
		names, err := e.headerOf(ctx, f, a)
		if err != nil {
			continue
		}
		wider, err := withColumns(f, names, e.AddedColumns)
		var unfit *ColumnsError
		if errors.As(err, &unfit) {
			unfit.Arrival = a.ID
		}
		if err != nil {
			return nil, err
		}
		f = wider
	}
	return f, nil
}

func (e *Env) headerOf(ctx context.Context, f *feed.Feed, a *ledger.Arrival) ([]string, error) {
	folder, err := e.Landing(ctx, f)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	p := &part{arrival: a}
	l := &Attempt{env: e, recipe: &Recipe{Feed: f}, run: &ledger.Run{}, folder: folder}
	if err := l.open(ctx, p); err != nil {
		return nil, err
	}
	defer p.file.Close()
	return reading.Header(f, l.subject(p), p.source())
}

// DDL returns the statements that make the tables of a feed, of all its kinds.
func DDL(f *feed.Feed) (statements []string, err error) {
	of := []*feed.Feed{f}
	for _, kind := range slices.Sorted(maps.Keys(f.ByKind)) {
		if one, err := f.Of(map[string]any{f.By: kind}); err == nil {
			of = append(of, one)
		}
	}
	for _, f := range of[min(1, len(of)-1):] {
		table, err := Wanted(f)
		if err != nil {
			return nil, err
		}
		statements = append(statements, table.DDL()...)
	}
	return statements, nil
}

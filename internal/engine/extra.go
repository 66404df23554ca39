package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"mullein/internal/core/decode"
	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
	"mullein/internal/ledger"
)

// learnColumns looks into the headers of files for columns that the schema does
// not have, where the feed adds them to its target, and makes them fields of
// this worker's feed: texts that later files may lack. What is wrong with a file
// is found out when it is loaded.
func (w *worker) learnColumns(ctx context.Context, of []*ledger.Arrival) error {
	if !w.feed.Target.AddColumns {
		return nil
	}
	for _, a := range of {
		names, err := w.headerOf(ctx, a)
		if err != nil {
			continue
		}
		if err := w.addFields(names); err != nil {
			return fmt.Errorf("%s: %w", a.Path, err)
		}
	}
	return nil
}

// extended is the feed with the fields that were learned.
func (w *worker) extended() *feed.Feed {
	if w.now.wider != nil {
		return w.now.wider
	}
	return w.kind()
}

func (w *worker) headerOf(ctx context.Context, a *ledger.Arrival) ([]string, error) {
	folder, err := openLanding(w.e, w.feed)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	p := &part{arrival: a}
	if err := (&loading{w: w, folder: folder}).open(ctx, p); err != nil {
		return nil, err
	}
	defer p.file.Close()
	rows, err := decode.Open(source(p.file.Entry, p.file, p.file), w.how(a.MendedLines != nil))
	if err != nil {
		return nil, err
	}
	return rows.Header()
}

const maxColumnName = 63 // bytes, as PostgreSQL has them

func (w *worker) addFields(names []string) error {
	extended := *w.extended()
	own := append(extended.OwnColumns(), extended.Target.Lineage.Names()...)
	known := map[string]bool{}
	for i := range extended.Schema.Fields {
		known[extended.Schema.Fields[i].SourceName()] = true
	}
	added := false
	for _, name := range names {
		if known[name] {
			continue
		}
		switch {
		case name == "" || len(name) > maxColumnName:
			return errors.New("a further column's name has to be from 1 to 63 bytes, to be added to the table")
		case slices.Contains(own, name):
			return fmt.Errorf("the further column %q has the name of another column of the table; give it a field of its own in the schema", name)
		}
		known[name], added = true, true
		extended.Schema.Fields = append(slices.Clone(extended.Schema.Fields), tabular.Field{Name: name, Type: "string", Optional: true,
			Description: "Not in the feed's schema; added as it came."})
	}
	if added {
		if err := w.settled(); err != nil { // what is on its way has the columns that it has
			return err
		}
		w.now = kindState{feed: w.now.feed, wider: &extended}
	}
	return nil
}

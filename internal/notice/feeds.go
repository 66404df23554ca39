package notice

import (
	"context"
	"sync"
	"time"

	"mullein/internal/core/feed"
	"mullein/internal/core/news"
	"mullein/internal/ledger"
	"mullein/internal/settings"
)

// about knows of feeds what notices say of them, and who is told.
type about struct {
	ledger  *ledger.Ledger
	mu      sync.Mutex
	readers map[string]reader // by feed
}

// reader is who is told of a feed.
type reader struct {
	version                  int
	owner, supplier, contact string
	target                   string // schema.table
	tell                     []news.Route
}

// mostReaders bounds the feeds that are remembered.
const mostReaders = 50_000

// read returns who is told of feeds; those that are not there are left out.
func (a *about) read(ctx context.Context, names []string) (map[string]reader, error) {
	out := map[string]reader{}
	if len(names) == 0 {
		return out, nil
	}
	records, err := a.ledger.FeedsNamed(ctx, names)
	if err != nil {
		return nil, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	var missing []string
	for _, r := range records {
		if k, ok := a.readers[r.Name]; ok && k.version == r.Version {
			out[r.Name] = k
		} else {
			missing = append(missing, r.Name)
		}
	}
	if len(missing) == 0 {
		return out, nil
	}
	present, err := a.ledger.Present(ctx, missing)
	if err != nil {
		return nil, err
	}
	if a.readers == nil || len(a.readers) > mostReaders {
		a.readers = map[string]reader{}
	}
	for name, v := range present {
		f := definition(name, v)
		r := reader{v.Version, f.Owner, f.Supplier.Name, f.Supplier.Contact, f.Target.Schema + "." + f.Target.Table, f.Tell}
		a.readers[name], out[name] = r, r
	}
	return out, nil
}

// look returns the definitions of a few feeds; those that are not there are left out.
func (a *about) look(ctx context.Context, names []string) (map[string]*feed.Feed, error) {
	present, err := a.ledger.Present(ctx, names)
	out := make(map[string]*feed.Feed, len(present))
	for name, v := range present {
		out[name] = definition(name, v)
	}
	return out, err
}

// definition reads a feed; one that cannot be read is told of all the same.
func definition(name string, v ledger.FeedVersion) *feed.Feed {
	f, err := feed.Parse(name+".yaml", []byte(v.Definition))
	if err != nil {
		return &feed.Feed{Name: name, Zone: time.UTC}
	}
	return f
}

// address is an outlet with whom it tells.
type address struct {
	outlet, whom string
}

// routesOf returns who is told of a kind of news of a feed, and after how long.
func routesOf(s *settings.Settings, kind news.Kind, name string, f reader) map[address]time.Duration {
	out := map[address]time.Duration{}
	for _, r := range news.For(kind, f.tell, s.Routes(name, f.owner, f.supplier)) {
		if s.Outlets[r.By].Lineage != "" && kind != news.Loaded {
			continue // it takes run events only
		}
		at := address{r.By, r.To}
		switch r.To {
		case news.ToOwner:
			at.whom = f.owner
		case news.ToSupplier:
			at.whom = f.contact
		}
		ownerless := r.To == news.ToOwner && len(s.Outlets[r.By].To) > 0 // whom the outlet names looks after the feed
		if r.To != "" && at.whom == "" && !ownerless {
			continue // nobody is named
		}
		if r.To == news.ToSupplier {
			at.whom = forSupplier + at.whom
		}
		if after, is := out[at]; !is || r.After < after {
			out[at] = r.After
		}
	}
	return out
}

// forSupplier stands before the address of a supplier, who gets another letter.
const forSupplier = "supplier:"

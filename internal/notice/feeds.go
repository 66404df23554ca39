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

// about is what notices say of feeds. It knows their definitions.
type about struct {
	ledger *ledger.Ledger
	mu     sync.Mutex
	known  map[string]known // by feed
}

type known struct {
	version int
	feed    *feed.Feed
}

// mostKnown bounds the definitions that are kept.
const mostKnown = 2000

// look returns the definitions of feeds; those that cannot be read are left out.
func (a *about) look(ctx context.Context, names []string) (map[string]*feed.Feed, error) {
	out := map[string]*feed.Feed{}
	records, err := a.ledger.FeedsNamed(ctx, names)
	if err != nil {
		return nil, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	var missing []string
	for _, r := range records {
		if k, ok := a.known[r.Name]; ok && k.version == r.Version {
			out[r.Name] = k.feed
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
	if a.known == nil || len(a.known) > mostKnown {
		a.known = map[string]known{}
	}
	for name, v := range present {
		f, err := feed.Parse(name+".yaml", []byte(v.Definition))
		if err != nil {
			f = &feed.Feed{Name: name, Zone: time.UTC} // it is told all the same
		}
		a.known[name] = known{v.Version, f}
		out[name] = f
	}
	return out, nil
}

// address is an outlet with whom it tells.
type address struct {
	outlet, whom string
}

// routesOf returns who is told of a kind of news of a feed, and after how long.
func routesOf(s *settings.Settings, kind news.Kind, name string, f *feed.Feed) map[address]time.Duration {
	owner, supplier, contact := "", "", ""
	var own []news.Route
	if f != nil {
		owner, supplier, contact, own = f.Owner, f.Supplier.Name, f.Supplier.Contact, f.Tell
	}
	out := map[address]time.Duration{}
	for _, r := range news.For(kind, own, s.Routes(name, owner, supplier)) {
		at := address{r.By, r.To}
		switch r.To {
		case news.ToOwner:
			at.whom = owner
		case news.ToSupplier:
			at.whom = contact
		}
		if r.To != "" && at.whom == "" {
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

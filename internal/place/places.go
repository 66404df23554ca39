package place

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"mullein/internal/core/feed"
	"mullein/internal/core/spelling"
	"mullein/internal/landing"
	"mullein/internal/settings"
)

// Options are what places need.
type Options struct {
	Spool      string   // the folder where bytes are kept while they are read
	SpoolBytes int64    // how many, at the most
	Roots      []string // landing roots of this machine
	// Objects connects to object stores; nil where the program has none.
	Objects Dial
}

// Places are the places that the settings name. They may be used by several goroutines.
type Places struct {
	options Options
	spool   *spoolRoom

	mu     sync.Mutex
	byName map[string]*Place

	counting sync.Mutex
	made     map[string]int64 // requests by feed, since they were taken last
}

// madeFor is a place whose requests are counted for a feed.
type madeFor struct {
	landing.Store
	places *Places
	feed   string
}

func (m madeFor) count() {
	if m.feed == "" { // a draft, which is none yet
		return
	}
	m.places.counting.Lock()
	defer m.places.counting.Unlock()
	m.places.made[m.feed]++
}

// List counts one request, however many pages there are.
func (m madeFor) List(ctx context.Context, folder string, visit func(landing.Entry) error) error {
	m.count()
	return m.Store.List(ctx, folder, visit)
}

// Stat counts one.
func (m madeFor) Stat(ctx context.Context, path string) (landing.Entry, error) {
	m.count()
	return m.Store.Stat(ctx, path)
}

// Open counts one.
func (m madeFor) Open(ctx context.Context, path string, from int64, of landing.Entry) (landing.Opened, error) {
	m.count()
	return m.Store.Open(ctx, path, from, of)
}

// TakeRequests returns how many requests were made by feed since they were taken last.
func (p *Places) TakeRequests() map[string]int64 {
	p.counting.Lock()
	defer p.counting.Unlock()
	out := p.made
	p.made = map[string]int64{}
	return out
}

// New makes places of none; [Places.Set] names them.
func New(o Options) *Places {
	return &Places{options: o, spool: newSpoolRoom(o.Spool, o.SpoolBytes), byName: map[string]*Place{}, made: map[string]int64{}}
}

// Set takes up what the settings say now. Places whose settings are as before keep their connections.
func (p *Places) Set(of map[string]settings.Place) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for name, old := range p.byName {
		if now, is := of[name]; !is || !reflect.DeepEqual(now, old.settings) {
			old.tidy(true)
			delete(p.byName, name)
		}
	}
	for name, s := range of {
		if p.byName[name] == nil {
			p.byName[name] = newPlace(name, s, p.dialOf(&s), p.spool)
		}
	}
}

// dialOf returns how to connect to a kind of places.
func (p *Places) dialOf(s *settings.Place) Dial {
	switch s.Kind() {
	case settings.SFTP:
		return dialSFTP
	case settings.FTP, settings.FTPS:
		return dialFTP
	case settings.HTTP, settings.HTTPS:
		return dialHTTP
	}
	if p.options.Objects != nil {
		return p.options.Objects
	}
	return func(context.Context, settings.Place) (Driver, error) {
		return nil, errors.New("this program was built without object stores")
	}
}

// Run closes connections that nobody uses, until ctx ends, and then all.
func (p *Places) Run(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			p.Set(nil)
			return
		case <-time.After(idleLimit):
		}
		for _, one := range p.all() {
			one.tidy(false)
		}
	}
}

func (p *Places) all() []*Place {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.SortedFunc(maps.Values(p.byName), func(a, b *Place) int { return strings.Compare(a.Name, b.Name) })
}

// Get returns the place of a name.
func (p *Places) Get(name string) (*Place, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if one := p.byName[name]; one != nil {
		return one, nil
	}
	known := slices.Sorted(maps.Keys(p.byName))
	hint := "; there is none yet: name one under places in the settings"
	if len(known) > 0 {
		hint = "; known are " + strings.Join(known, ", ")
	}
	if near := spelling.Nearest(name, known); near != "" {
		hint = fmt.Sprintf("; did you mean %q?", near)
	}
	return nil, fmt.Errorf("there is no place %q%s", name, hint)
}

// find returns the place and the folder of a landing as feeds name it.
func (p *Places) find(at string) (*Place, string, error) {
	if name, folder, named := feed.SplitPlace(at); named {
		one, err := p.Get(name)
		return one, folder, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	var found *Place
	for _, one := range p.byName {
		root := strings.TrimSuffix(one.settings.Address, "/")
		if (at == root || strings.HasPrefix(at, root+"/")) && (found == nil || len(root) > len(found.settings.Address)) {
			found = one
		}
	}
	if found == nil {
		return nil, "", fmt.Errorf("no place has the address %s; name one under places in the settings", at)
	}
	return found, path.Clean("./" + strings.TrimPrefix(at, strings.TrimSuffix(found.settings.Address, "/"))), nil
}

// Where returns the name of the place that a landing is at, and the folder below it.
func (p *Places) Where(l *feed.Landing) (name, folder string, err error) {
	if !l.IsFar() {
		return "", "", errors.New("it is on this machine")
	}
	one, folder, err := p.find(l.At)
	if err != nil {
		return "", "", err
	}
	return one.Name, folder, nil
}

// OfObject returns where an object of a bucket or a container lies: the places that it is at, with its path below each.
func (p *Places) OfObject(bucket, key string) map[string]string {
	out := map[string]string{}
	for _, one := range p.all() {
		_, address, _ := strings.Cut(one.settings.Address, "://")
		host, prefix, _ := strings.Cut(strings.TrimSuffix(address, "/"), "/")
		if !one.settings.IsObjects() || host != bucket {
			continue
		}
		if below, inside := strings.CutPrefix(key, strings.TrimPrefix(prefix+"/", "/")); inside {
			out[one.Name] = below
		}
	}
	return out
}

// Landing opens the landing of a feed for as long as ctx lasts. The error is a [*landing.AwayError].
func (p *Places) Landing(ctx context.Context, f *feed.Feed) (landing.Landing, error) {
	one, folder, err := p.find(f.Landing.At)
	if err != nil {
		return nil, &landing.AwayError{At: f.Landing.At, Reason: err.Error()}
	}
	var store landing.Store = one
	if one.settings.IsHTTP() {
		store = named{one, f}
	}
	return landing.OpenFar(ctx, madeFor{store, p, f.Name}, f.Landing.At, folder, p.options.Roots), nil
}

// Known is what is known of a place.
type Known struct {
	Name, Kind, Address, User string
	Requests                  int64     // since the service began, or the place was named
	Problem                   string    // what it was asked last failed with; "" where it was good
	Until                     time.Time // when its credential ends; zero where that is not said
}

// List returns the places by their names.
func (p *Places) List() []Known {
	var out []Known
	for _, one := range p.all() {
		k := Known{Name: one.Name, Kind: one.settings.Kind(), Address: one.settings.Address, User: one.settings.User,
			Requests: one.Requests(), Until: one.settings.EndsOn()}
		one.mu.Lock()
		if one.trouble != nil {
			k.Problem = one.trouble.Error()
		}
		one.mu.Unlock()
		out = append(out, k)
	}
	return out
}

// Ending returns which credentials end soon, with what is to be said of them.
func (p *Places) Ending(now time.Time, within time.Duration) map[string]string {
	out := map[string]string{}
	for _, one := range p.all() {
		if end := one.settings.EndsOn(); !end.IsZero() && end.Sub(now) < within {
			out["place "+one.Name] = fmt.Sprintf("the credential of place %s ends on %s", one.Name, one.settings.Until)
		}
	}
	return out
}

// Step is one thing that was tried with a place.
type Step struct {
	What, Said string
	Good       bool
}

// Test tries a place: it connects and lists. It says each step, with what to do where one fails.
func (p *Places) Test(ctx context.Context, name string) ([]Step, error) {
	one, err := p.Get(name)
	if err != nil {
		return nil, err
	}
	began := time.Now()
	limited, cancel := context.WithTimeout(ctx, dialLimit)
	defer cancel()
	d, err := one.dial(limited, one.settings)
	if err != nil {
		return []Step{{What: "sign in", Said: err.Error()}}, nil
	}
	defer d.Close()
	out := []Step{{"sign in", fmt.Sprintf("in %v, as %s", time.Since(began).Round(time.Millisecond), cmp.Or(one.settings.User, "nobody")), true}}
	if one.settings.IsHTTP() {
		return out, nil // what is not asked for by name cannot be listed
	}
	files := 0
	began = time.Now()
	err = d.List(limited, ".", func(landing.Entry) error {
		if files++; files == testedFiles {
			return errStop
		}
		return nil
	})
	if err != nil && !errors.Is(err, errStop) {
		return append(out, Step{What: "list", Said: err.Error()}), nil
	}
	said := fmt.Sprintf("%d files in %v", files, time.Since(began).Round(time.Millisecond))
	if files == testedFiles {
		said = fmt.Sprintf("%d files and more", files)
	}
	out = append(out, Step{"list", said, true})
	rules, can := d.(interface {
		Lifecycle(ctx context.Context) ([]string, error)
	})
	if !can {
		return out, nil
	}
	// Those who may not ask for rules see none, which keeps nothing from working.
	if list, err := rules.Lifecycle(limited); err == nil && len(list) > 0 {
		out = append(out, Step{"rules", strings.Join(list, "; "), true})
	}
	return out, nil
}

// testedFiles is how many files a test of a place looks at.
const testedFiles = 1000

// Browse returns up to most files of a folder of a place and below it, in order. more says that there are others.
func (p *Places) Browse(ctx context.Context, name, folder string, most int) (files []landing.Entry, more bool, err error) {
	one, err := p.Get(name)
	if err != nil {
		return nil, false, err
	}
	if one.settings.IsHTTP() {
		return nil, false, fmt.Errorf("place %s is asked for files by name, and cannot be listed", name)
	}
	far := landing.OpenFar(ctx, one, "place:"+path.Join(name, folder), folder, p.options.Roots)
	all := func(string) bool { return true }
	err = far.List(ctx, all, func(e landing.Entry) error {
		if len(files) == most {
			more = true
			return errStop
		}
		files = append(files, e)
		return nil
	})
	if errors.Is(err, errStop) {
		err = nil
	}
	slices.SortFunc(files, func(a, b landing.Entry) int { return strings.Compare(a.Path, b.Path) })
	return files, more, err
}

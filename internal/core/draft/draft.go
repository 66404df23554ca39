package draft

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"mullein/internal/core/decode"
	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
)

// Sample is a file to propose a feed from.
type Sample struct {
	Path   string // below the landing; of a file in a zip, the zip's path stands before it
	Folder string // the name of the folder that Path is below
	// Open returns the file from its beginning, and how to close it. It may be
	// called several times.
	Open func() (source decode.Source, done func(), err error)
}

// Options say what a proposal names.
type Options struct {
	At    string   // the landing folder
	Taken []string // the names of feeds that there are
	Into  *Into    // the table that the feed ends in; nil to make one
}

// Feed is a proposal.
type Feed struct {
	Name  string
	Table string
	Text  string   // of the feed file
	Files []string // the samples that it is for
	Rows  int      // that were looked at
	Sure  []string // what is sure of it
	// Unsure is what a person has to look at.
	Unsure []string
}

// Left is a file that no feed is proposed for.
type Left struct {
	Path string
	Why  string
	Data bool // it may be data, but cannot be read
}

// Result is what samples came to.
type Result struct {
	Feeds []Feed
	Left  []Left // by path
}

const (
	filesLooked  = 600  // all of which are looked at
	filesOfAMask = 24   // of more than these, whose names differ in digits only
	filesOfKinds = 2000 // of those, where they are of several kinds
	cellsInAll   = 3 * cellsRead
	// MaxSamples bounds how many files there may be.
	MaxSamples = 1_000_000
)

// kind is samples of one structure.
type kind struct {
	shape       shape
	samples     []Sample // those that were looked at
	paths       []string // all
	table       *table
	naming      naming
	mask        string
	ascii       bool   // no sample has a character beyond ASCII
	drifts      bool   // the columns of its files differ
	order       bool   // they stand in another order
	withColumns string // tells its files from others under the same names; "" for nothing
}

// Propose makes a feed for each kind of file among the samples, by name and
// structure. Of many files only some are looked at, and of long ones only the beginning;
// the feed says so.
func Propose(samples []Sample, o Options) (Result, error) {
	var out Result
	if len(samples) > MaxSamples {
		return out, fmt.Errorf("%d files; %d are the most to draft from at once", len(samples), MaxSamples)
	}
	var data []Sample
	for _, s := range samples {
		if why := leftOut(s.Path); why != "" {
			out.Left = append(out.Left, Left{s.Path, why, false})
			continue
		}
		data = append(data, s)
	}
	data, unread := unzipped(data)
	out.Left = append(out.Left, unread...)
	data, schemas, left := schemasOf(data)
	out.Left = append(out.Left, left...)
	slices.SortStableFunc(data, func(a, b Sample) int { return strings.Compare(a.Path, b.Path) })
	kinds, left := kindsOf(data)
	out.Left = append(out.Left, left...)
	for _, k := range kinds {
		out.Left = append(out.Left, k.profile(max(cellsInAll/len(kinds), cellsRead/64))...)
	}
	kinds = slices.DeleteFunc(kinds, func(k *kind) bool {
		why := "no columns were found in it"
		switch n := len(k.table.columns); {
		case len(k.paths) == 0: // none could be read, as was said
			return true
		case n > feed.MaxFields:
			why = fmt.Sprintf("%d columns; a feed takes %d at most", n, feed.MaxFields)
		case n > 0:
			return false
		}
		for _, p := range k.paths {
			out.Left = append(out.Left, Left{p, why, true})
		}
		return true
	})
	for _, k := range kinds {
		k.naming = nameOf(k.paths)
		k.captures()
	}
	tellApart(kinds)
	if o.Into != nil && len(kinds) > 1 {
		return out, fmt.Errorf("%d kinds of files; a draft for the table %s takes one", len(kinds), o.Into.Table)
	}
	taken := map[string]bool{}
	for _, t := range o.Taken {
		taken[t] = true
	}
	for _, k := range kinds {
		name := k.name()
		for n := 2; taken[name]; n++ {
			name = fmt.Sprintf("%s-%d", strings.TrimRight(k.name(), "-0123456789"), n)
		}
		taken[name] = true
		f, err := k.write(name, o, k.schemaFor(schemas))
		if err != nil {
			return out, err
		}
		out.Feeds = append(out.Feeds, f)
	}
	slices.SortFunc(out.Left, func(a, b Left) int { return strings.Compare(a.Path, b.Path) })
	if len(out.Feeds) == 0 && len(out.Left) == 0 {
		return out, errors.New("no files to draft a feed from")
	}
	return out, nil
}

var (
	digitRuns  = regexp.MustCompile(`[0-9]+`)
	letterRuns = regexp.MustCompile(`[\p{L}\p{N}]+`)
)

// masks groups samples by names that differ in digits only, or in words too where that makes
// too many.
func masks(samples []Sample) (groups map[string][]Sample) {
	const most = 50
	of := func(p string) string { return digitRuns.ReplaceAllString(strings.ToLower(tail(p)), "0") }
	for _, mask := range []func(p string) string{of, func(p string) string {
		return letterRuns.ReplaceAllString(stem(tail(p)), "a") + path.Ext(p)
	}} {
		groups = map[string][]Sample{}
		for _, s := range samples {
			groups[mask(s.Path)] = append(groups[mask(s.Path)], s)
		}
		if len(groups) <= most || len(samples) <= filesLooked {
			break
		}
	}
	return groups
}

// kindsOf finds the kinds of files. Of files whose names differ in digits only some are
// looked at; where these are of several kinds, more.
func kindsOf(samples []Sample) (kinds []*kind, left []Left) {
	f := &finder{}
	groups := masks(samples)
	for _, m := range slices.Sorted(maps.Keys(groups)) {
		group := groups[m]
		some := group
		if len(samples) > filesLooked {
			some = spread(group, filesOfAMask)
		}
		before := len(f.kinds)
		own := f.look(some, m)
		if len(some) == len(group) {
			continue
		}
		if len(own) == 1 {
			seen := map[string]bool{}
			for _, s := range some {
				seen[s.Path] = true
			}
			for _, s := range group {
				if !seen[s.Path] {
					own[0].paths = append(own[0].paths, s.Path)
				}
			}
			continue
		}
		f.forget(before, some)
		f.look(spread(group, filesOfKinds), m)
	}
	var out []*kind
	for _, k := range f.kinds {
		slices.Sort(k.paths)
		slices.SortFunc(k.samples, func(a, b Sample) int { return strings.Compare(a.Path, b.Path) })
		out = append(out, k.byDate()...)
	}
	slices.SortStableFunc(out, func(a, b *kind) int { return strings.Compare(a.paths[0], b.paths[0]) })
	return out, f.left
}

// finder collects kinds of files.
type finder struct {
	kinds []*kind
	left  []Left
}

// look looks at files whose names have a mask, and returns the kinds that they are of.
func (f *finder) look(samples []Sample, mask string) (own []*kind) {
	for _, s := range samples {
		sh, err := look(s)
		if err != nil {
			f.left = append(f.left, Left{s.Path, err.Error(), true})
			continue
		}
		at := slices.IndexFunc(f.kinds, func(k *kind) bool { return k.takes(&sh, mask) })
		if at < 0 {
			at = len(f.kinds)
			f.kinds = append(f.kinds, &kind{shape: sh, table: &table{}, mask: mask, ascii: sh.ascii})
		}
		k := f.kinds[at]
		k.samples, k.paths = append(k.samples, s), append(k.paths, s.Path)
		if !slices.Contains(own, k) {
			own = append(own, k)
		}
	}
	return own
}

// forget takes out what was found of some files, before they are looked at with more.
func (f *finder) forget(kinds int, samples []Sample) {
	forgotten := map[string]bool{}
	for _, s := range samples {
		forgotten[s.Path] = true
	}
	f.kinds = f.kinds[:kinds]
	for _, k := range f.kinds {
		k.samples = slices.DeleteFunc(k.samples, func(s Sample) bool { return forgotten[s.Path] })
		k.paths = slices.DeleteFunc(k.paths, func(p string) bool { return forgotten[p] })
	}
	f.left = slices.DeleteFunc(f.left, func(l Left) bool { return forgotten[l.Path] })
}

// takes reports whether a file is of the kind, and widens the kind by what the file has
// more.
func (k *kind) takes(sh *shape, mask string) bool {
	a, b := &k.shape, sh
	if a.format != b.format || a.charset != b.charset && !k.ascii && !sh.ascii {
		return false
	}
	if a.format.Texts() || a.format == decode.XLSX {
		if a.dialect.Delimiter != b.dialect.Delimiter || a.dialect.Header != b.dialect.Header ||
			len(a.widths) != len(b.widths) || a.widths != nil && !slices.Equal(a.header, b.header) {
			return false
		}
	}
	common := 0
	for _, h := range b.header {
		if slices.Contains(a.header, h) {
			common++
		}
	}
	less, more := min(len(a.header), len(b.header)), len(a.header)+len(b.header)-common
	same := common == more
	switch {
	case same:
	case a.format == decode.JSON || a.format == decode.Lines:
		// Documents of one kind may lack many of the keys that others have.
		few := mask == k.mask && (common*10 >= less*8 || common*10 >= more*3) ||
			a.document && b.document && a.format == decode.JSON && common >= 3 && common*2 >= less
		if common*10 < more*7 && !few {
			return false
		}
	case !a.dialect.Header && !a.format.Trees(), mask != k.mask, common*10 < more*6:
		return false
	}
	k.drifts = k.drifts || !same
	k.order = k.order || !slices.Equal(a.header, b.header)
	for _, h := range b.header {
		if !slices.Contains(a.header, h) {
			a.header = append(slices.Clone(a.header), h)
		}
	}
	if k.ascii && !sh.ascii {
		a.charset, a.notes, k.ascii = sh.charset, sh.notes, false
	}
	return true
}

// byDate parts a kind whose names say their dates in several ways.
func (k *kind) byDate() []*kind {
	stems := make([]string, 0, len(k.samples))
	for _, s := range k.samples {
		stems = append(stems, stem(tail(s.Path)))
	}
	if form, _, _ := dateIn(stems); form != "" {
		return []*kind{k}
	}
	var out []*kind
	index := map[string]*kind{}
	add := func(p string) *kind {
		_, form := dated(stem(tail(p)))
		part := index[form]
		if part == nil {
			part = &kind{shape: k.shape, table: &table{}, mask: k.mask, ascii: k.ascii, drifts: k.drifts, order: k.order}
			index[form] = part
			out = append(out, part)
		}
		part.paths = append(part.paths, p)
		return part
	}
	looked := map[string]Sample{}
	for _, s := range k.samples {
		looked[s.Path] = s
	}
	for _, p := range k.paths {
		part := add(p)
		if s, ok := looked[p]; ok {
			part.samples = append(part.samples, s)
		}
	}
	return out
}

// profile reads the files of a kind, and returns those that cannot be read. cells bounds how
// much is read.
func (k *kind) profile(cells int) (left []Left) {
	files := spread(k.samples, filesRead)
	unread := func(s Sample, err error) {
		left = append(left, Left{s.Path, err.Error(), true})
		k.paths = slices.DeleteFunc(k.paths, func(p string) bool { return p == s.Path })
	}
	var leaves []*node
	if k.shape.format.Trees() {
		var bad map[string]error
		leaves, bad = k.structure(files)
		files = slices.DeleteFunc(files, func(s Sample) bool {
			if err := bad[s.Path]; err != nil {
				unread(s, err)
				return true
			}
			return false
		})
	}
	rows := min(rowsRead, max(2000, cells/max(1, len(k.shape.header))))
	for i, s := range files {
		most := (rows - k.table.rows) / (len(files) - i)
		if err := k.table.read(s, &k.shape, most); err != nil {
			unread(s, err)
		}
	}
	if len(k.table.files) == 0 {
		k.table.columns = nil
	}
	for i, leaf := range leaves {
		if i < len(k.table.columns) {
			k.table.columns[i].node = leaf
		}
	}
	return left
}

// structure finds which parts of records become columns.
func (k *kind) structure(files []Sample) (leaves []*node, bad map[string]error) {
	root := &node{}
	bad = map[string]error{}
	single := true
	for _, s := range files {
		records, err := root.walk(s, &k.shape)
		if err != nil {
			bad[s.Path] = err
		}
		single = single && records == 1
	}
	from := root
	if single && k.shape.format == decode.JSON && len(files) > 0 {
		if body := root.body(); body != nil {
			k.shape.each, k.table.each = pathOf(body.keys), true
			leaves = outside(root, body)
			from = body.items
		}
	}
	leaves = from.leaves(leaves)
	if from == root && root.kind == tabular.Null && root.objects > 0 && root.isMap() { // its keys are data
		k.shape.header = []string{"*"}
		return []*node{{keys: []string{"record"}, whole: true, objects: 1}}, bad
	}
	if len(leaves) > feed.MaxFields { // records stay whole
		leaves = root.parts
		k.shape.each, k.table.each = "", false
	}
	k.shape.header = nil
	for _, leaf := range leaves {
		top := root.index[leaf.keys[0]]
		leaf.rare = top.seen < root.objects
		k.shape.header = append(k.shape.header, pathOf(leaf.keys))
	}
	return leaves, bad
}

// outside returns the columns beside a list of records.
func outside(root, body *node) (out []*node) {
	for _, leaf := range root.leaves(nil) {
		if !isBelow(body, leaf) {
			out = append(out, leaf)
		}
	}
	return out
}

// isBelow reports whether a place is at, or holds, another.
func isBelow(body, leaf *node) bool {
	return len(leaf.keys) <= len(body.keys) && slices.Equal(leaf.keys, body.keys[:len(leaf.keys)])
}

// captures notes what the names of the files that were read say.
func (k *kind) captures() {
	for i := range k.table.files {
		f := &k.table.files[i]
		f.captures, _ = k.naming.pattern.Match(f.path, time.UTC)
	}
}

// sayNothing are words in names that say nothing of what is in the files.
var sayNothing = []string{"zip", "part", "year", "month", "day", "data", "file", "files", "csv", "json", "parquet", "snappy", "tid", "c000"}

// name makes the feed's name of what stays the same in the names of its files, else of their
// folder.
func (k *kind) name() string {
	var common []string
	for _, w := range k.naming.words {
		if name := plain(w, "-"); name != "" && name != "c" && !slices.Contains(common, name) &&
			!slices.Contains(sayNothing, name) {
			common = append(common, name)
		}
	}
	if len(common) == 0 {
		if zip, _ := inZip(k.paths[0]); zip != "" {
			common = append([]string{plain(stem(path.Base(zip)), "-")}, common...)
		} else if dir := path.Base(path.Dir(k.paths[0])); dir != "." && dir != "/" && !strings.Contains(dir, "=") &&
			k.sameFolder() {
			common = append([]string{plain(dir, "-")}, common...)
		} else if len(k.samples) > 0 && k.samples[0].Folder != "" {
			common = append([]string{plain(k.samples[0].Folder, "-")}, common...)
		}
	}
	return cmp.Or(strings.Trim(plain(strings.Join(common, " "), "-"), "-"), string(k.shape.format)+"-rows")
}

func (k *kind) sameFolder() bool {
	dir := path.Dir(k.paths[0])
	return !slices.ContainsFunc(k.paths, func(p string) bool { return path.Dir(p) != dir })
}

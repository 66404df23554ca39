package draft

import (
	"cmp"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strings"

	"mullein/internal/core/tabular"
)

// keyChoice is what tells rows apart.
type keyChoice struct {
	columns  []int    // of the table; nil for none
	captures []string // of the names, which are derived
	notes    []string // beside the key
	// near are keys that would lose rows, and how many.
	near   []string
	newest string // of the feed file; "" for the default
	reason string // beside newest
	absent string // what is said of absent; "" for nothing
}

const (
	keyColumns   = 12 // columns that are tried together
	keyWidth     = 4  // columns of a key
	firstTried   = 2000
	fewRows      = 50
	chanceTwice  = 10.0 // pairs that would be alike by chance, from which on it says something that there are none
	stable       = 0.9  // of rows with one key, that have the same in a column
	mostlyWithin = 0.5
	rowsTried    = 20_000_000 // in all, of keys that are looked for
	rowsNear     = 6_000_000  // in all, of keys that would lose some
)

// keyTry is columns that may be a key.
type keyTry struct {
	columns  []int
	lost     int // rows that another of the same file has the key of
	repeated int // rows that another of any file has the key of
}

// keys finds a key. It loses none of the rows that were read: no two of a file have it, and
// none lacks a part of it.
type keys struct {
	t     *table
	types []found
	names []string
	roles []role
	slot  bool // the names say a time
	also  []string
	cache map[string]keyTry
	tried int          // rows that were compared, times the keys that were
	known map[int]bool // which times are of events, as far as that was looked at
}

// chooseKey proposes a key of the table's columns and of what names say.
func (t *table) chooseKey(types []found, names []string, n *naming) keyChoice {
	k := &keys{t: t, types: types, names: names, slot: n.slot != "", cache: map[string]keyTry{},
		known: map[int]bool{}}
	for _, c := range n.captures {
		if c != "until" {
			k.also = append(k.also, c)
		}
	}
	for i, c := range t.columns {
		k.roles = append(k.roles, c.roleOf(types[i], t.rows, i == 0))
		if i > 0 && k.roles[i] == notInKey && k.roles[i-1] == instant && madeUp.MatchString(c.source) && c.months() {
			k.roles[i] = instant
		}
	}
	if t.rows == 0 {
		return keyChoice{notes: []string{"no row was seen, so that nothing is known of a key"}}
	}
	best, others := k.within()
	if best == nil {
		return keyChoice{near: k.near(), notes: append([]string{"no columns tell all rows apart that look like identifiers, " +
			"codes, names or times: every row of a file is added"}, k.twice()...)}
	}
	out := k.across(best)
	if len(out.columns) == 0 {
		out.notes = append(out.notes, k.twice()...)
		return out
	}
	k.withinTime(&out)
	for _, o := range others {
		if len(o) == len(best) && len(out.columns) == len(best) {
			out.notes = append(out.notes, "also unique: "+k.say(o, " with "))
		}
	}
	if t.rows < fewRows && len(out.notes) == 0 {
		out.notes = append(out.notes, fmt.Sprintf("uncertain: only %d rows were seen", t.rows))
	}
	return out
}

// say names columns.
func (k *keys) say(columns []int, between string) string {
	var out []string
	for _, c := range columns {
		out = append(out, k.names[c])
	}
	return strings.Join(out, between)
}

// eligible returns the columns that may be in a key, the likely ones first.
func (k *keys) eligible() (out []int) {
	rank := map[role]int{identity: 0, instant: 1, entity: 1, axis: 2, revision: 3}
	for i := range k.t.columns {
		if k.roles[i] != notInKey && k.filled(i) && k.distinct(i) > 1 {
			out = append(out, i)
		}
	}
	slices.SortStableFunc(out, func(a, b int) int { return rank[k.roles[a]] - rank[k.roles[b]] })
	return out[:min(len(out), keyColumns)]
}

// distinct returns how many values a column has.
func (k *keys) distinct(c int) int {
	col := k.t.columns[c]
	if !col.more {
		return len(col.texts)
	}
	return k.t.rows - k.try([]int{c}, nil).repeated
}

// within finds the best key that no two rows of one file have; nil for none.
func (k *keys) within() (best []int, others [][]int) {
	from := k.eligible()
	var found [][]int
	for width := 1; width <= min(keyWidth, len(from)); width++ {
		combine(len(from), width, func(at []int) {
			var columns []int
			for _, i := range at {
				columns = append(columns, from[i])
			}
			if slices.ContainsFunc(found, func(f []int) bool { return subset(f, columns) }) {
				return
			}
			if k.tried < rowsTried && k.headFits(columns) && k.try(columns, nil).lost == 0 && k.means(columns) {
				found = append(found, columns)
			}
		})
		if len(found) > 0 && width > 1 || slices.ContainsFunc(found, func(f []int) bool {
			return k.roles[f[0]] != revision &&
				k.rank(f) < 3
		}) {
			break
		}
	}
	if len(found) == 0 {
		return nil, nil
	}
	slices.SortStableFunc(found, func(a, b []int) int { return cmp.Or(k.rank(a)-k.rank(b), len(a)-len(b)) })
	best = slices.Clone(found[0])
	slices.Sort(best)
	return best, found[1:min(len(found), 3)]
}

// ordinals are words for numbers that count within something.
var ordinals = []string{"sequence", "seq", "line", "position", "pos", "index", "idx", "step"}

// rank is how unlikely a key is.
func (k *keys) rank(columns []int) (out int) {
	rank := map[role]int{identity: 0, instant: 1, entity: 1, axis: 2, revision: 10}
	for _, c := range columns {
		out += rank[k.roles[c]]
		switch name := nameWords(k.t.columns[c].source); {
		case len(columns) == 1 && (k.roles[c] == instant || len(name) > 0 && name[len(name)-1] == "ids"):
			out++ // a row a time, or for several identifiers, is less likely than a row a thing
		case len(columns) > 1 && len(name) > 0 && slices.Contains(ordinals, name[len(name)-1]):
			out-- // the numbers of the lines of an order tell them apart by what they are
		}
	}
	return out
}

// means reports whether it says something that no rows are alike in these columns: it would
// be otherwise by chance, or one names the row.
func (k *keys) means(columns []int) bool {
	if len(columns) == 1 {
		c := columns[0]
		return k.roles[c] != axis && k.roles[c] != revision &&
			(k.roles[c] != instant || k.series(c) && !k.events(c)) && (k.roles[c] != entity || k.types[c].kind != "integer" ||
			c == 0 || k.t.columns[c].counts(k.t.rows) || hasWord(nameWords(k.t.columns[c].source), entityWords))
	}
	things, times, ids := 0, 0, 0
	vague := false // one may be an answer, and no thing
	ways := 1.0
	for _, c := range columns {
		ways *= float64(k.distinct(c))
		switch k.roles[c] {
		case identity:
			ids++
			things++
		case entity, axis:
			things++
			vague = vague || !hasWord(nameWords(k.t.columns[c].source), entityWords)
		case instant:
			times++
		}
	}
	if vague && slices.ContainsFunc(columns, func(c int) bool { return k.roles[c] == instant && k.events(c) }) {
		return false
	}
	rows := float64(k.t.rows) / float64(len(k.t.files))
	byChance := rows * rows / (2 * ways)
	return things > 0 && times > 0 && len(columns) == 2 || ids > 0 && len(columns) == 2 || byChance >= chanceTwice
}

// series reports whether rows are evidently one a time: it comes first of what differs, or
// is just called so.
func (k *keys) series(c int) bool {
	for i := range c {
		if k.distinct(i) > 1 {
			return !slices.ContainsFunc(nameWords(k.t.columns[c].source), func(w string) bool {
				return !slices.Contains(instantWords, w)
			})
		}
	}
	return true
}

// events reports whether a time is of things that happen whenever they do, rather than of
// a series: of two of them at one moment, one would be lost. They are told in words, and
// no distance of two times is the usual one.
func (k *keys) events(c int) bool {
	if is, known := k.known[c]; known {
		return is
	}
	is := k.areEvents(c)
	k.known[c] = is
	return is
}

func (k *keys) areEvents(c int) bool {
	told := false
	for i := range k.t.columns {
		told = told || i != c && (k.types[i].kind == "string" || k.roles[i] == identity) && k.distinct(i) > 1
	}
	of := k.types[c].column()
	if k.types[c].kind != "datetime" || !told || of == nil {
		return false
	}
	var at []int64
	for text := range k.t.columns[c].texts {
		var v tabular.Value
		if err := of.Convert([]byte(text), &v); err == nil {
			at = append(at, v.I)
		}
	}
	slices.Sort(at)
	distances, most := map[int64]int{}, 0
	for i := 1; i < len(at); i++ {
		distances[at[i]-at[i-1]]++
		most = max(most, distances[at[i]-at[i-1]])
	}
	return most*2 < len(at)
}

// twice says that rows of several files are wholly alike, which without a key would be
// there as often.
func (k *keys) twice() []string {
	var all []int
	for i := range k.t.columns {
		all = append(all, i)
	}
	t := k.try(all, nil)
	if n := t.repeated - t.lost; n*100 >= k.t.rows && n > 0 {
		return []string{fmt.Sprintf("uncertain: %d of %d rows stand in more than one file, and would be there as often", n,
			k.t.rows)}
	}
	return nil
}

// combine calls f with each choice of so many of n.
func combine(n, width int, f func(at []int)) {
	at := make([]int, width)
	var next func(i, from int)
	next = func(i, from int) {
		if i == width {
			f(at)
			return
		}
		for x := from; x < n; x++ {
			at[i] = x
			next(i+1, x+1)
		}
	}
	next(0, 0)
}

func subset(a, of []int) bool {
	return !slices.ContainsFunc(a, func(x int) bool { return !slices.Contains(of, x) })
}

// headFits reports whether no two of the first rows are alike in the columns.
func (k *keys) headFits(columns []int) bool {
	f := k.t.files[0]
	seen := map[uint64]bool{}
	for row := f.from; row < min(f.to, f.from+firstTried); row++ {
		h := k.hash(columns, row)
		if seen[h] {
			return false
		}
		seen[h] = true
	}
	return true
}

func (k *keys) hash(columns []int, row int) uint64 {
	h := uint64(0)
	for _, c := range columns {
		h = (h ^ k.t.columns[c].hashes[row]) * 0x9E3779B97F4A7C15
		h ^= h >> 29
	}
	return h
}

// captured is what a file's name says of some captures.
func captured(f *readFile, names []string) uint64 {
	h := uint64(0)
	for _, n := range names {
		h = (h ^ hashOf(fmt.Sprint(f.captures[n]))) * 0x9E3779B97F4A7C15
	}
	return h
}

// try counts the rows that are alike in columns, within their file and in all.
func (k *keys) try(columns []int, captures []string) keyTry {
	id := fmt.Sprint(columns, captures)
	if t, known := k.cache[id]; known {
		return t
	}
	out := keyTry{columns: columns}
	all := make([]uint64, 0, k.t.rows)
	for i := range k.t.files {
		f := &k.t.files[i]
		from := len(all)
		extra := captured(f, captures)
		for row := f.from; row < f.to; row++ {
			all = append(all, k.hash(columns, row)^extra)
		}
		out.lost += repeats(all[from:])
	}
	out.repeated = repeats(all)
	k.cache[id] = out
	k.tried += k.t.rows
	return out
}

// repeats sorts hashes, and returns how many come again.
func repeats(hashes []uint64) (n int) {
	slices.Sort(hashes)
	for i := 1; i < len(hashes); i++ {
		if hashes[i] == hashes[i-1] {
			n++
		}
	}
	return n
}

// near returns the keys that lose the fewest rows.
func (k *keys) near() (out []string) {
	from := k.eligible()
	for n := len(from); n > 2 && (n+n*(n-1)/2+n*(n-1)*(n-2)/6)*k.t.rows > rowsNear; n-- {
		from = from[:n-1]
	}
	var tries []keyTry
	for width := 1; width <= min(3, len(from)); width++ {
		combine(len(from), width, func(at []int) {
			var columns []int
			for _, i := range at {
				columns = append(columns, from[i])
			}
			slices.Sort(columns)
			tries = append(tries, k.try(columns, nil))
		})
	}
	slices.SortStableFunc(tries, func(a, b keyTry) int { return a.lost - b.lost })
	for _, t := range tries[:min(len(tries), 3)] {
		why := fmt.Sprintf("would lose %d of %d rows", t.lost, k.t.rows)
		if t.lost == 0 {
			why = "would lose none of these rows, but only by chance"
		}
		out = append(out, fmt.Sprintf("[%s] %s", k.say(t.columns, ", "), why))
	}
	return out
}

// across looks at what the same key means in several files: the same thing again, or
// another that only a further column, or the name of the file, tells.
func (k *keys) across(best []int) keyChoice {
	out := keyChoice{columns: best}
	for i := range k.t.columns {
		if k.roles[i] == revision && !slices.Contains(best, i) && out.newest == "" && k.filled(i) {
			out.newest, out.reason = k.names[i], "by its name; of two rows with one key the newer wins"
		}
	}
	k.entitiesInTime(&out)
	k.wholeTime(&out)
	if len(k.t.files) == 1 {
		k.alone(&out)
		return out
	}
	k.widen(&out)
	if k.isSeries(out.columns) {
		out.newest = ""
		k.addSlot(&out)
	}
	if out.newest != "" && k.revisedAgain(out.columns) {
		k.updates(&out, 0)
		return out
	}
	k.addCaptures(&out)
	again := k.again(&out)
	if again == 0 {
		return out
	}
	share := float64(again) / float64(k.t.rows)
	seldom := k.timed(out.columns) && share < mostlyWithin*float64(len(k.t.files)-1)/float64(len(k.t.files))
	switch {
	case seldom, k.sameThings(out.columns, out.captures), k.mostlySame(out.columns, nil):
		k.updates(&out, share)
	case k.slot && k.varies("slot") && !slices.Contains(out.captures, "slot"):
		k.addSlot(&out)
	default:
		lost := fmt.Sprintf("[%s] would lose %d of %d rows", k.say(out.columns, ", "), again, k.t.rows)
		return keyChoice{near: []string{lost}, notes: []string{"the same keys come in several files with other values, and " +
			"nothing tells them apart: every row of a file is added"}}
	}
	return out
}

// filled reports whether all rows have a value in a column.
func (k *keys) filled(c int) bool { return !slices.Contains(k.t.columns[c].hashes, 0) }

// again is how many rows have the key of one in another file.
func (k *keys) again(out *keyChoice) int { return k.try(out.columns, out.captures).repeated }

// widen adds columns that tell rows of several files apart: one that all rows of a file have
// the same value in, or a time.
func (k *keys) widen(out *keyChoice) {
	for _, wanted := range []func(i int) bool{
		func(i int) bool { return (k.roles[i] == identity || k.roles[i] == entity) && k.ofFile(i) },
		func(i int) bool { return k.roles[i] == instant && k.filled(i) },
	} {
		for i := range k.t.columns {
			again := k.again(out)
			if again == 0 || slices.Contains(out.columns, i) || !wanted(i) || k.mostlySame(out.columns, nil) {
				continue
			}
			with := append(slices.Clone(out.columns), i)
			slices.Sort(with)
			left := k.try(with, nil).repeated
			if k.roles[i] == instant && left*10 < again || k.roles[i] != instant && left < again {
				out.columns = with
			}
		}
	}
}

// addSlot makes the time in the names a part of the key.
func (k *keys) addSlot(out *keyChoice) {
	out.captures = append(out.captures, "slot")
	out.notes = append(out.notes, "the same keys come in files of other times with other values: the time in the "+
		"name is part of the key")
}

// addCaptures makes what else the names say a part of the key, such as a station, where it
// keeps rows apart.
func (k *keys) addCaptures(out *keyChoice) {
	onlyTimes := !slices.ContainsFunc(out.columns, func(c int) bool { return k.roles[c] != instant })
	for _, c := range k.also {
		if !k.varies(c) {
			continue
		}
		again := k.again(out)
		left := k.try(out.columns, append(slices.Clone(out.captures), c)).repeated
		if onlyTimes || left < again && !k.mostlySame(out.columns, []string{c}) {
			const note = "what the name of a file says keeps its rows apart from those of others"
			if out.captures = append(out.captures, c); !slices.Contains(out.notes, note) {
				out.notes = append(out.notes, note)
			}
		}
	}
}

// partsOfYear are captures that come again in the next year.
var partsOfYear = []string{"quarter", "week", "month", "day", "hour"}

// withinTime makes the time in the names a part of the key where it is the same in all files
// that were seen, or only with another part of the key says a time.
func (k *keys) withinTime(out *keyChoice) {
	if len(k.t.files) == 1 || len(out.columns) == 0 || !k.slot || k.timed(out.columns) ||
		slices.Contains(out.captures, "slot") {
		return
	}
	part := slices.ContainsFunc(out.captures, func(c string) bool { return slices.Contains(partsOfYear, c) })
	switch {
	case part:
		out.notes = append(out.notes, "the time in the name is part of the key, as what else it says comes again")
	case !k.varies("slot") && out.newest == "" && (len(out.captures) > 0 || !k.ids(out.columns)):
		out.notes = append(out.notes, "uncertain: files of one time were seen; the time in their names is taken for a part of "+
			"the key")
	default:
		return
	}
	out.captures = append(out.captures, "slot")
}

// entitiesInTime adds a time to a key of things only, where so few rows were seen that
// nothing else speaks against it.
func (k *keys) entitiesInTime(out *keyChoice) {
	if k.t.rows >= fewRows || k.ids(out.columns) ||
		slices.ContainsFunc(out.columns, func(c int) bool { return k.roles[c] == instant }) {
		return
	}
	for i, r := range k.roles {
		if r == instant && k.filled(i) && k.distinct(i) > 1 {
			out.columns = append(out.columns, i)
			slices.Sort(out.columns)
			out.notes = append(out.notes, fmt.Sprintf("uncertain: only %d rows were seen; %s is taken for a part of the key",
				k.t.rows, k.names[i]))
			return
		}
	}
}

// partOfTime is what a year, or another part of a time that stands alone, looks like.
var partOfTime = regexp.MustCompile(`^([0-9]{1,2}|(1[6-9]|2[01])[0-9]{2})$`)

// wholeTime adds the parts of a time that are the same in all rows of the files, such as the
// year, to a key of other parts, such as the day and the hour.
func (k *keys) wholeTime(out *keyChoice) {
	isPart := func(c int) bool {
		col, kind := k.t.columns[c], k.types[c].kind
		if kind != "integer" && kind != "string" || k.roles[c] != instant && !madeUp.MatchString(col.source) {
			return false
		}
		for text := range col.texts {
			if !partOfTime.MatchString(text) {
				return false
			}
		}
		return true
	}
	parts := 0
	for _, c := range out.columns {
		if k.types[c].kind == "date" || k.types[c].kind == "datetime" || k.roles[c] == identity {
			return
		}
		if isPart(c) {
			parts++
		}
	}
	if parts == 0 {
		return
	}
	for i := range k.t.columns {
		if !slices.Contains(out.columns, i) && k.filled(i) && k.ofFile(i) && isPart(i) {
			out.columns = append(out.columns, i)
		}
	}
	slices.Sort(out.columns)
}

// ofFile reports whether all rows of each file have the same in a column, and not nothing.
func (k *keys) ofFile(c int) bool {
	h := k.t.columns[c].hashes
	for _, f := range k.t.files {
		for row := f.from; row < f.to; row++ {
			if h[row] == 0 || h[row] != h[f.from] {
				return false
			}
		}
	}
	return true
}

// alone judges a key of one file.
func (k *keys) alone(out *keyChoice) {
	for i, r := range k.roles {
		if r == identity && k.t.each && !slices.Contains(out.columns, i) && k.ofFile(i) {
			out.columns = append(out.columns, i)
			slices.Sort(out.columns)
			out.notes = append(out.notes, fmt.Sprintf("uncertain: one document was seen, and %s tells it from others",
				k.names[i]))
		}
	}
	if k.timed(out.columns) {
		return
	}
	if at := k.timeOfFile(); at >= 0 && !slices.Contains(out.columns, at) {
		out.columns = append(out.columns, at)
		slices.Sort(out.columns)
		out.notes = append(out.notes, fmt.Sprintf("uncertain: %s is the same in all rows of the one file that was seen, "+
			"and taken for its time", k.names[at]))
		return
	}
	if k.slot && !k.ids(out.columns) {
		out.captures = append(out.captures, "slot")
		out.notes = append(out.notes, "uncertain: one file was seen; the time in its name is taken for a part of the key")
	}
}

// ids reports whether one of the columns is an identifier.
func (k *keys) ids(columns []int) bool {
	return slices.ContainsFunc(columns, func(c int) bool { return k.roles[c] == identity })
}

// timed reports whether one of the columns is a time with its year. A month alone comes again.
func (k *keys) timed(columns []int) bool { return slices.ContainsFunc(columns, k.hasYear) }

// yearFirst is what times with their year, or as seconds since 1970, look like.
var yearFirst = regexp.MustCompile(`^((1[6-9]|2[01])[0-9]{2}([^0-9].*)?|[0-9]{6,})$`)

func (k *keys) hasYear(c int) bool {
	if k.roles[c] != instant || k.types[c].kind == "time" {
		return false
	}
	if kind := k.types[c].kind; kind == "date" || kind == "datetime" {
		return true
	}
	for text := range k.t.columns[c].texts {
		if !yearFirst.MatchString(text) {
			return false
		}
	}
	return true
}

// timeOfFile finds a time that is the same in all rows; -1 for none.
func (k *keys) timeOfFile() int {
	for i, c := range k.t.columns {
		if k.roles[i] == instant && (k.types[i].kind == "datetime" || k.types[i].kind == "date") &&
			len(c.texts) == 1 && k.t.rows > 1 && k.filled(i) {
			return i
		}
	}
	return -1
}

// varies reports whether files differ in what their names say.
func (k *keys) varies(capture string) bool {
	for i := range k.t.files {
		if fmt.Sprint(k.t.files[i].captures[capture]) != fmt.Sprint(k.t.files[0].captures[capture]) {
			return true
		}
	}
	return false
}

// pairs calls f with rows of different files that have the same key, one with the next;
// only of files that differ in what the names say of a capture, where one is given.
func (k *keys) pairs(columns []int, captures, differ []string, f func(a, b int)) {
	type place struct{ row, file int }
	last := make(map[uint64]place, k.t.rows)
	for i := range k.t.files {
		file := &k.t.files[i]
		extra := captured(file, captures)
		for row := file.from; row < file.to; row++ {
			h := k.hash(columns, row) ^ extra
			if before, known := last[h]; known && before.file != i &&
				(differ == nil || captured(&k.t.files[before.file], differ) != captured(file, differ)) {
				f(before.row, row)
			}
			last[h] = place{row, i}
		}
	}
}

// mostlySame reports whether most rows that have the key of one in another file are the
// same in all other columns.
func (k *keys) mostlySame(columns []int, differ []string) bool {
	rest := k.rest(columns)
	same, all := 0, 0
	k.pairs(columns, nil, differ, func(a, b int) {
		all++
		if k.hash(rest, a) == k.hash(rest, b) {
			same++
		}
	})
	return len(rest) > 0 && all > 0 && float64(same) > mostlyWithin*float64(all)
}

// isSeries reports whether files of other times say other things of the same keys: most keys
// come again, and nearly no row is as it was. It is none where a number identifies a thing of
// which other things stay the same, such as a client with a name.
func (k *keys) isSeries(columns []int) bool {
	if !k.slot || !k.varies("slot") || k.timed(columns) ||
		float64(k.try(columns, nil).repeated) < mostlyWithin*float64(k.t.rows)*float64(len(k.t.files)-1)/float64(len(k.t.files)) {
		return false
	}
	if slices.ContainsFunc(columns, k.numbersThings) && k.sameThings(columns, nil) {
		return false
	}
	rest := k.rest(columns)
	differ, all := 0, 0
	k.pairs(columns, nil, []string{"slot"}, func(a, b int) {
		all++
		if k.hash(rest, a) != k.hash(rest, b) {
			differ++
		}
	})
	return all > 0 && float64(differ) >= stable*float64(all)
}

// numbersThings reports whether a column is a number by which things are known.
func (k *keys) numbersThings(c int) bool {
	name := nameWords(k.t.columns[c].source)
	return len(name) > 0 && slices.Contains([]string{"id", "ids", "uuid", "guid", "no", "nr", "nummer", "number", "sku"},
		name[len(name)-1])
}

// revisedAgain reports whether rows that have the key of one in another file nearly all say that
// they were revised at another time, or are the same.
func (k *keys) revisedAgain(columns []int) bool {
	var revisions []int
	for i, r := range k.roles {
		if r == revision {
			revisions = append(revisions, i)
		}
	}
	rest := k.rest(columns)
	revised, all := 0, 0
	k.pairs(columns, nil, nil, func(a, b int) {
		all++
		if k.hash(revisions, a) != k.hash(revisions, b) || k.hash(rest, a) == k.hash(rest, b) {
			revised++
		}
	})
	return all > 0 && float64(revised) >= stable*float64(all)
}

// rest are the other columns.
func (k *keys) rest(columns []int) (out []int) {
	for i := range k.t.columns {
		if !slices.Contains(columns, i) && k.roles[i] != revision {
			out = append(out, i)
		}
	}
	return out
}

// sameThings reports whether rows with one key say the same of a thing: some column that is
// no measure, and not the same in all rows, nearly never changes.
func (k *keys) sameThings(columns []int, captures []string) bool {
	rest := k.rest(columns)
	same, all := make([]int, len(rest)), 0
	k.pairs(columns, captures, nil, func(a, b int) {
		all++
		for i, c := range rest {
			if h := k.t.columns[c].hashes; h[a] == h[b] {
				same[i]++
			}
		}
	})
	for i, c := range rest {
		kind := k.types[c].kind
		telling := kind == "string" || kind == "date" || k.roles[c] == identity
		if telling && float64(same[i]) >= stable*float64(all) && k.distinct(c)*5 > min(k.keysOf(columns), 1000) {
			return true
		}
	}
	return false
}

// keysOf is how many keys there are.
func (k *keys) keysOf(columns []int) int { return k.t.rows - k.try(columns, nil).repeated }

// updates says what it means that keys come again.
func (k *keys) updates(out *keyChoice, share float64) {
	percent := int(math.Round(100 * share * float64(len(k.t.files)) / float64(max(1, len(k.t.files)-1))))
	what := fmt.Sprintf("%d %% of the keys of a file come again in the next", min(percent, 100))
	if out.newest == "" {
		out.newest = "modified"
		if k.slot {
			out.newest = "slot"
		}
		out.reason = what + ", as updates: the row of the newest file wins"
	}
	const whole = 90
	if percent >= whole && !k.timed(out.columns) {
		out.absent = what + ": each seems to be the whole table. Rows that do not come any more are kept; " +
			"\"absent: delete\" or \"absent: mark\" with \"absent_at_most: 5%\" takes them out"
	}
}

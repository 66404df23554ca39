package draft

import (
	"cmp"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"mullein/internal/core/filename"
	"mullein/internal/core/timeformat"
)

// naming is what the names of the files of a kind have in common.
type naming struct {
	pattern  *filename.Pattern
	fold     bool   // capitals differ
	slot     string // how the time in the names is written, by strftime; "" for none
	words    []string
	captures []string // besides slot
	notes    []string
}

// dateForm is a way in which a name says a time.
type dateForm struct {
	form   string
	re     *regexp.Regexp
	layout *timeformat.Layout
	months bool   // it has the names of months
	digits int    // that it takes
	marks  string // what stands between its parts
}

// dateForms are the ways that are looked for. Of those that fit, the longest counts, and
// of these the first.
var dateForms = sync.OnceValue(func() (out []dateForm) {
	tokens := strings.NewReplacer("%Y", "(?:1[6-9]|2[01])[0-9]{2}", "%y", "[0-9]{2}", "%m", "(?:0[1-9]|1[0-2])",
		"%d", "(?:0[1-9]|[12][0-9]|3[01])", "%H", "(?:[01][0-9]|2[0-3])", "%M", "[0-5][0-9]", "%S", "[0-5][0-9]",
		"%b", "(?i:jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)",
		"%B", "(?i:january|february|march|april|may|june|july|august|september|october|november|december)",
		".", `\.`)
	add := func(form string) {
		layout, err := timeformat.Compile(form)
		if err != nil {
			return
		}
		months := strings.Count(form, "%b") + strings.Count(form, "%B")
		digits := 2*(strings.Count(form, "%")-months) + 2*strings.Count(form, "%Y")
		marks := strings.Join(regexp.MustCompile(`%[a-zA-Z]`).Split(form, -1), "")
		out = append(out, dateForm{form, regexp.MustCompile(tokens.Replace(form)), layout, months > 0, digits, marks})
	}
	days := []string{"%Y%m%d", "%Y-%m-%d", "%Y_%m_%d", "%Y.%m.%d", "%Y/%m/%d", "year=%Y/month=%m/day=%d", "%d.%m.%Y",
		"%d-%m-%Y", "%d_%m_%Y", "%d%m%Y", "%m-%d-%Y", "%m_%d_%Y", "%m.%d.%Y", "%m%d%Y"}
	for _, month := range []string{"%B", "%b"} {
		for _, between := range []string{"", "-", "_", "."} {
			days = append(days, "%d"+between+month+between+"%Y", "%Y"+between+month+between+"%d",
				month+between+"%d"+between+"%Y")
		}
	}
	var clocks []string
	for _, before := range []string{"T", "_", "-", "", " ", "t", ".", "/", "/hour="} {
		for _, clock := range []string{"%H%M%S", "%H-%M-%S", "%H_%M_%S", "%H.%M.%S", "%H%M", "%H-%M", "%H_%M", "%H.%M",
			"%H"} {
			clocks = append(clocks, before+clock)
		}
	}
	for _, day := range days {
		for _, clock := range clocks {
			add(day + clock)
		}
		add(day)
	}
	for _, day := range []string{"%y-%m-%d", "%d.%m.%y", "%y%m%d", "%d-%m-%y"} {
		add(day)
	}
	for _, month := range []string{"%B", "%b", "%m"} {
		for _, between := range []string{"-", "_", ".", "", "/"} {
			add("%Y" + between + month)
			add(month + between + "%Y")
		}
	}
	add("year=%Y/month=%m")
	add("%Y")
	return out
})

// in returns where a name has the form: from and to of each place.
func (f *dateForm) in(name string) (places [][2]int) {
	for at := 0; at < len(name); {
		found := f.re.FindStringIndex(name[at:])
		if found == nil {
			break
		}
		from, to := at+found[0], at+found[1]
		at = from + 1
		if digitAt(name, from-1) && digitAt(name, from) || digitAt(name, to) && digitAt(name, to-1) ||
			f.months && (letterAt(name, from-1) && letterAt(name, from) || letterAt(name, to) && letterAt(name, to-1)) {
			continue
		}
		if _, err := f.layout.Time([]byte(name[from:to]), time.UTC); err == nil {
			places = append(places, [2]int{from, to})
			at = to
		}
	}
	return places
}

func digitAt(s string, at int) bool { return at >= 0 && at < len(s) && s[at] >= '0' && s[at] <= '9' }
func letterAt(s string, at int) bool {
	return at >= 0 && at < len(s) && (s[at]|0x20 >= 'a' && s[at]|0x20 <= 'z')
}

// monthInName finds the beginning of the name of a month, which forms with months need.
var monthInName = regexp.MustCompile(`(?i:jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)`)

// dateIn finds the time that all names say in one way: its form, where it stands in
// each, and another form that would fit too; "" for none.
func dateIn(names []string) (form string, at [][2]int, other string) {
	type try struct {
		f     *dateForm
		nth   int // of the places in a name, from the end
		width int
	}
	var tries []try
	forms := dateForms()
	digits := strings.Count(strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return '0'
		}
		return r
	}, names[0]), "0")
	month := monthInName.MatchString(names[0])
	for i := range forms {
		if forms[i].months && !month || forms[i].digits > digits || strings.ContainsFunc(forms[i].marks, func(r rune) bool { return !strings.ContainsRune(names[0], r) }) {
			continue
		}
		places := forms[i].in(names[0])
		for n := range places {
			tries = append(tries, try{&forms[i], len(places) - 1 - n, places[n][1] - places[n][0]})
		}
	}
	// The year of a name stands apart rather than in a word, and late rather than early.
	slices.SortStableFunc(tries, func(a, b try) int {
		if a.width != b.width || a.f.form != "%Y" {
			return b.width - a.width
		}
		return a.nth - b.nth
	})
	for _, t := range tries {
		places := make([][2]int, len(names))
		fits := true
		for i, name := range names {
			found := t.f.in(name)
			if fits = len(found) > t.nth; !fits {
				break
			}
			places[i] = found[len(found)-1-t.nth]
		}
		switch {
		case !fits || !hours(t.f, names, places):
		case form == "":
			form, at = t.f.form, places
		case places[0] == at[0] && swapped(form) == t.f.form && !strings.Contains(form, "%d.%m"):
			return form, at, t.f.form
		}
	}
	return form, at, ""
}

// swapped returns a form with day and month in the other order.
func swapped(form string) string {
	return strings.NewReplacer("%d", "%m", "%m", "%d").Replace(form)
}

// hours reports whether two digits behind a day are hours rather than a counter: there
// is a zero, or there are many.
func hours(f *dateForm, names []string, at [][2]int) bool {
	if !strings.HasSuffix(f.form, "%H") || strings.HasSuffix(f.form, "T%H") || strings.HasSuffix(f.form, "hour=%H") ||
		strings.HasSuffix(f.form, "%d%H") || strings.HasSuffix(f.form, "%Y%H") {
		return true
	}
	seen := map[string]bool{}
	for i, name := range names {
		seen[name[at[i][1]-2:at[i][1]]] = true
	}
	const many = 12
	return seen["00"] || len(seen) > many
}

// dated replaces the date in a name by its capture.
func dated(name string) (pattern, form string) {
	form, at, _ := dateIn([]string{name})
	if form == "" || form == "%y%m%d" || form == "%Y%m" || form == "%m%Y" { // six digits of one name may as well be a counter
		return name, ""
	}
	return name[:at[0][0]] + "{slot:" + form + "}" + name[at[0][1]:], form
}

// ends are what packing adds to a name.
var ends = []string{".gz", ".zst", ".bz2"}

var extension = regexp.MustCompile(`^\.[A-Za-z][A-Za-z0-9]{0,9}$`)

// stem leaves out what a name says of its format.
func stem(name string) string {
	for _, e := range ends {
		if cut := len(name) - len(e); cut > 0 && strings.EqualFold(name[cut:], e) {
			name = name[:cut]
		}
	}
	if ext := path.Ext(name); extension.MatchString(ext) {
		name = strings.TrimSuffix(name, ext)
	}
	return name
}

// words cuts a text where letters and digits end.
var words = regexp.MustCompile(`[\p{L}\p{N}]+|[^\p{L}\p{N}]+`)

// unique is what is made so that no name comes twice.
var unique = regexp.MustCompile(`(?i)^(?:[0-9a-f]{12,}|[0-9a-f]*[0-9][0-9a-f]*[a-f][0-9a-f]{6,})$`)

// uuidInName is a UUID, which never comes again.
var uuidInName = regexp.MustCompile(`[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}`)

// anything stands in names for what may be anything.
const anything = "\x01"

// segment makes a pattern of texts that stand at one place in all names.
type segment struct {
	used  map[string]int // the names of captures
	one   bool           // one file was seen
	words []string
	notes []string
	names []string
}

// pattern writes what the texts have in common, and captures the rest.
func (s *segment) pattern(texts []string, fold bool) string {
	rows := make([][]string, len(texts))
	for i, t := range texts {
		rows[i] = words.FindAllString(t, -1)
	}
	same := func(a, b string) bool { return a == b || fold && strings.EqualFold(a, b) }
	if !alike(rows) {
		return s.middle(rows, same)
	}
	var b strings.Builder
	for at, first := range rows[0] {
		var values []string
		equal := true
		for _, r := range rows {
			equal = equal && same(r[at], first)
			values = append(values, r[at])
		}
		before := wordBefore(rows[0], at)
		switch {
		case equal && !(s.one && isCounter(first)):
			if b.WriteString(literal(first)); strings.ContainsFunc(first, unicode.IsLetter) {
				s.words = append(s.words, first)
			}
		case all(values, unique.MatchString):
			b.WriteString("*")
		default:
			b.WriteString(s.capture(before, values))
		}
	}
	return b.String()
}

// wordBefore returns the word before one of a name, with the sign that says that it is its
// name.
func wordBefore(words []string, at int) string {
	if at < 2 {
		return ""
	}
	if words[at-1] == "=" {
		return words[at-2] + "="
	}
	return words[at-2]
}

// isCounter reports whether a word is digits, as files are numbered by.
func isCounter(word string) bool {
	return len(word) > 1 && all(strings.Split(word, ""), func(c string) bool { return c >= "0" && c <= "9" })
}

// alike reports whether names are as many words, with the same between them.
func alike(rows [][]string) bool {
	for _, r := range rows {
		if len(r) != len(rows[0]) {
			return false
		}
		for i := range r {
			letter := func(s string) bool { return strings.ContainsFunc(s[:1], isWord) || s[0] >= 0x80 }
			if letter(r[i]) != letter(rows[0][i]) || !letter(r[i]) && r[i] != rows[0][i] {
				return false
			}
		}
	}
	return true
}

func isWord(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }

// middle captures what stands between the words that all begin and end with.
func (s *segment) middle(rows [][]string, same func(a, b string) bool) string {
	least := len(rows[0])
	for _, r := range rows {
		least = min(least, len(r))
	}
	begin, end := 0, 0
	fits := func(at func(r []string) string) bool {
		return !slices.ContainsFunc(rows, func(r []string) bool { return !same(at(r), at(rows[0])) })
	}
	for begin < least && fits(func(r []string) string { return r[begin] }) {
		begin++
	}
	for end < least-begin && fits(func(r []string) string { return r[len(r)-1-end] }) {
		end++
	}
	var values []string
	empty := false
	for _, r := range rows {
		values = append(values, strings.Join(r[begin:len(r)-end], ""))
		empty = empty || values[len(values)-1] == ""
	}
	var b strings.Builder
	for _, w := range rows[0][:begin] {
		b.WriteString(literal(w))
		s.words = append(s.words, strings.FieldsFunc(w, func(r rune) bool { return !unicode.IsLetter(r) })...)
	}
	across := slices.ContainsFunc(values, func(v string) bool { return strings.Contains(v, "/") })
	switch {
	case empty || across:
		if across { // only ** crosses folders, and it stands for whole ones
			begun := b.String()
			b.Reset()
			b.WriteString(begun[:strings.LastIndexByte(begun, '/')+1] + "**/")
		}
		b.WriteString("*")
		s.notes = append(s.notes, "uncertain: the names have no form in common")
	default:
		b.WriteString(s.capture(wordBefore(rows[0], begin), values))
	}
	for _, w := range rows[0][len(rows[0])-end:] {
		b.WriteString(literal(w))
		s.words = append(s.words, strings.FieldsFunc(w, func(r rune) bool { return !unicode.IsLetter(r) })...)
	}
	return b.String()
}

var captureName = regexp.MustCompile(`^[a-z][a-z_]*$`)

// known are words before a part of a name that say what it is.
var known = regexp.MustCompile(`(?i)^(station|site|sensor|device|meter|region|country|state|city|area|zone|plant|` +
	`shop|store|branch|client|customer|kind|type|table|part|page|chunk|batch|run|seq|shard|version|quarter|q|week|kw)$`)

// counted says of which part of the year the values are numbers, and what stands before them;
// "" where they are not.
func counted(values []string) (name, before string) {
	before = strings.TrimRight(values[0], "0123456789")
	name = map[string]string{"q": "quarter", "w": "week", "kw": "week"}[strings.ToLower(before)]
	for _, v := range values {
		if number, ok := strings.CutPrefix(v, before); !ok || !isCounter("0"+number) || len(number) > 2 ||
			name == "quarter" && (number < "1" || number > "4") {
			return "", ""
		}
	}
	return name, before
}

// capture captures a part of the names that varies.
func (s *segment) capture(before string, values []string) string {
	if n, letter := counted(values); n != "" {
		if s.used[n]++; s.used[n] == 1 {
			s.names = append(s.names, n)
			return letter + "{" + n + ":#}"
		}
	}
	name, kind := "part", ""
	const most = 18 // digits of a number that a pattern captures
	if all(values, func(v string) bool { return isCounter("0"+v) && len(v) <= most }) {
		name, kind = "number", ":#"
	}
	before, named := strings.CutSuffix(before, "=")
	if (named || known.MatchString(before)) && captureName.MatchString(strings.ToLower(before)) {
		name = map[string]string{"q": "quarter", "kw": "week"}[strings.ToLower(before)]
		name = cmp.Or(name, strings.ToLower(before))
	}
	if s.used[name]++; s.used[name] > 1 {
		name = fmt.Sprintf("%s%d", name, s.used[name])
	}
	s.names = append(s.names, name)
	return "{" + name + kind + "}"
}

// nameOf finds what names have in common. They are paths below the landing.
func nameOf(paths []string) naming {
	var n naming
	const most = 2000 // names that are looked at
	paths = spread(paths, most)
	bases, folders := make([]string, len(paths)), false
	for i, p := range paths {
		bases[i] = tail(p)
		zip, _ := inZip(p)
		folders = folders || strings.Contains(zip, "/") || zip == "" && bases[i] != p
	}
	whole := folders && telling(paths)
	if whole {
		copy(bases, paths)
	}
	stems, exts := make([]string, len(bases)), map[string]bool{}
	lower := map[string]bool{}
	for i, b := range bases {
		b = uuidInName.ReplaceAllString(b, anything)
		stems[i] = stem(b)
		ext := strings.TrimPrefix(b, stems[i])
		exts[ext], lower[strings.ToLower(ext)] = true, true
	}
	n.fold = len(lower) < len(exts)
	s := &segment{used: map[string]int{}, one: len(paths) == 1}
	pattern, fold := n.stems(s, stems, n.fold)
	n.fold = n.fold || fold
	if n.fold {
		exts = lower
	}
	if folders && !whole {
		pattern = "**/" + pattern
	}
	pattern += ending(exts)
	if zip, member := inZip(paths[0]); zip != "" && strings.Contains(member, "/") {
		pattern = strings.Replace(pattern, zipped, zipped+"**/", 1)
	}
	var err error
	if n.pattern, err = n.compile(cmp.Or(pattern, "*")); err != nil { // a name that no pattern can say
		n.pattern, _ = filename.Compile("**/*")
		s.notes = append(s.notes, "uncertain: the names have no form in common")
		n.slot, s.names = "", nil
	}
	n.words, n.captures, n.notes = s.words, s.names, append(n.notes, s.notes...)
	switch {
	case len(n.captures) > 0 && !s.one && slices.ContainsFunc(n.captures, func(c string) bool {
		return strings.HasPrefix(c, "part")
	}):
		n.notes = append(n.notes, "what varies in the names is captured as part; give it its name")
	case s.one && len(n.captures) > 0:
		n.notes = append(n.notes, "uncertain: one file was seen; its number is taken for one that changes")
	case s.one && n.slot == "":
		n.notes = append(n.notes, "uncertain: one file was seen, and its name carries no date")
	}
	return n
}

// compile compiles a pattern that looks at capitals as the names do.
func (n *naming) compile(pattern string) (*filename.Pattern, error) {
	if n.fold {
		return filename.CompileFold(pattern)
	}
	return filename.Compile(pattern)
}

// stems writes the pattern of the names without their ends.
func (n *naming) stems(s *segment, stems []string, fold bool) (pattern string, folded bool) {
	form, at, other := dateIn(stems)
	if form == "" {
		fold = fold || capitals(stems)
		return s.pattern(stems, fold), fold
	}
	n.slot = form
	if other != "" {
		n.notes = append(n.notes, "uncertain: the date in the names may also be "+other)
	}
	if strings.Contains(form, "%y") {
		n.notes = append(n.notes, "uncertain: six digits are taken for a date")
	}
	before, after := make([]string, len(stems)), make([]string, len(stems))
	for i, t := range stems {
		before[i], after[i] = t[:at[i][0]], t[at[i][1]:]
	}
	fold = fold || capitals(before) || capitals(after)
	pattern = s.pattern(before, fold) + "{slot:" + form + "}"
	if until, at, _ := dateIn(after); until != "" && until != "%Y" {
		between, rest := make([]string, len(after)), make([]string, len(after))
		for i, t := range after {
			between[i], rest[i] = t[:at[i][0]], t[at[i][1]:]
		}
		s.names = append(s.names, "until")
		return pattern + s.pattern(between, fold) + "{until:" + until + "}" + s.pattern(rest, fold), fold
	}
	return pattern + s.pattern(after, fold), fold
}

// capitals reports whether words that are else the same are written with other capitals.
func capitals(texts []string) bool {
	written := map[string]string{}
	for _, t := range texts {
		for _, w := range words.FindAllString(t, -1) {
			if is, known := written[strings.ToLower(w)]; known && is != w {
				return true
			}
			written[strings.ToLower(w)] = w
		}
	}
	return false
}

// telling reports whether the folders of paths say something: they are as deep, and
// differ in a date, in what is written as name=value, or are all in which files differ.
func telling(paths []string) bool {
	depth := strings.Count(paths[0], "/")
	differ := false
	bases := map[string]bool{}
	for _, p := range paths {
		bases[path.Base(p)] = true
		if zip, _ := inZip(p); zip != "" || strings.Count(p, "/") != depth {
			return false
		}
		differ = differ || path.Dir(p) != path.Dir(paths[0])
	}
	if strings.Contains(path.Dir(paths[0]), "=") || differ && len(bases) < len(paths) { // else the folder alone tells them apart
		return true
	}
	form, at, _ := dateIn(paths)
	return differ && form != "" && at[0][0] < strings.LastIndexByte(paths[0], '/')
}

// ending writes the ends of names.
func ending(exts map[string]bool) string {
	var ends []string
	for e := range exts {
		ends = append(ends, literal(e))
	}
	slices.Sort(ends)
	if len(ends) == 1 {
		return ends[0]
	}
	if slices.Contains(ends, "") {
		return "*"
	}
	for i := range ends {
		ends[i] = strings.TrimPrefix(ends[i], ".")
	}
	return ".(" + strings.Join(ends, "|") + ")"
}

// literal writes a text as a pattern that it fits.
func literal(s string) string {
	var b strings.Builder
	for _, r := range s {
		switch r {
		case '(', ')', '|', '*', '?', '{', '}':
			b.WriteString("[" + string(r) + "]")
		case '[', ']', '\\':
			b.WriteByte('?')
		case '\x01':
			b.WriteByte('*')
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

// spread returns at most so many of a list: the first, the last, and others between
// them.
func spread[T any](of []T, most int) []T {
	if len(of) <= most {
		return slices.Clone(of)
	}
	out := make([]T, most)
	for i := range out {
		out[i] = of[i*(len(of)-1)/(most-1)]
	}
	return out
}

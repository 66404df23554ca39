package filename

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"

	"mullein/internal/core/spelling"
)

// Near is a name that comes close to one that is expected.
type Near struct {
	Path     string  `json:"path"`
	Why      string  `json:"why"`      // in what it differs
	Distance float64 `json:"distance"` // smaller is nearer
}

// numberedCopy is what copying adds to a name: level (1).csv, level - Copy.csv.
var numberedCopy = regexp.MustCompile(`([ _-]*\([0-9]{1,3}\)|[ _-]+copy)(\.[a-z0-9.]+)?$`)

// expected is one way in which an expected name may be written: literal texts,
// with any text between them where a piece is nil.
type expected []*string

const (
	maxWays  = 32
	maxNames = 50_000
)

// Near returns those of the names that almost are what the pattern expects of a
// file with the captures that are known, nearest first: other capitals, the
// date in another order, an extension or a space too many, yesterday's date, a
// letter off. yesterday is the slot before, for the names that carry its date.
func (p *Pattern) Near(known Captures, yesterday time.Time, loc *time.Location, names []string, most int) []Near {
	ways := p.ways(known, loc)
	folded := make([]expected, len(ways))
	squeezed := make([]expected, len(ways))
	for i, w := range ways {
		folded[i], squeezed[i] = w.change(strings.ToLower), w.change(squeeze)
	}
	var orders []expected
	var before []expected
	if slot, ok := known.Slot(); ok {
		for _, c := range p.captures {
			if c.name == "slot" && c.layout != nil {
				for _, other := range c.layout.DateOrders() {
					orders = append(orders, lower(p.waysWith(known, loc, other.Format(slot.In(loc))))...)
				}
				if !yesterday.IsZero() && !yesterday.Equal(slot) {
					before = lower(p.waysWith(known, loc, c.layout.Format(yesterday.In(loc))))
				}
			}
		}
	}
	var out []Near
	for _, name := range names[:min(len(names), maxNames)] {
		if n, ok := nearness(name, ways, folded, squeezed, orders, before); ok {
			out = append(out, n)
		}
	}
	slices.SortFunc(out, func(a, b Near) int {
		if a.Distance != b.Distance {
			if a.Distance < b.Distance {
				return -1
			}
			return 1
		}
		return strings.Compare(a.Path, b.Path)
	})
	return out[:min(most, len(out))]
}

func nearness(name string, ways, folded, squeezed, orders, before []expected) (Near, bool) {
	low := strings.ToLower(name)
	is := func(ways []expected, name string) bool {
		return slices.ContainsFunc(ways, func(w expected) bool { return spelling.Pattern(w).Distance(name, 0) == 0 })
	}
	switch ext := path.Ext(low); {
	case is(ways, name):
		return Near{}, false // it is expected as it stands
	case is(folded, low):
		return Near{name, "capitals differ", 0.2}, true
	case is(squeezed, squeeze(name)):
		return Near{name, "a space or a mark between words more or less", 0.4}, true
	case is(orders, low):
		return Near{name, "the date is written in another order", 0.5}, true
	case ext != "" && is(folded, strings.TrimSuffix(low, ext)):
		return Near{name, fmt.Sprintf("an extension too many: %s", ext), 0.6}, true
	case numberedCopy.MatchString(low) && is(folded, numberedCopy.ReplaceAllString(low, "$2")):
		return Near{name, "a copy's mark in the name", 0.7}, true
	case is(before, low):
		return Near{name, "it carries the date of the slot before", 1.5}, true
	}
	nearest := -1
	for _, w := range folded {
		if !w.sameDigits(low) {
			continue // another time, or another place: somebody else's name
		}
		limit := max(2, w.length()*15/100)
		if d := spelling.Pattern(w).Distance(low, limit); d <= limit && (nearest < 0 || d < nearest) {
			nearest = d
		}
	}
	if nearest < 0 {
		return Near{}, false
	}
	letters := "a letter is off, or two are swapped"
	if nearest > 1 {
		letters = fmt.Sprintf("%d letters are off", nearest)
	}
	return Near{name, letters, float64(nearest)}, true
}

// Expected writes the name that is expected of a file with the captures that
// are known; what is not known shows as *.
func (p *Pattern) Expected(known Captures, loc *time.Location) string {
	b := strings.Builder{}
	for _, piece := range p.ways(known, loc)[0] {
		if piece == nil {
			b.WriteString("*")
		} else {
			b.WriteString(*piece)
		}
	}
	if strings.HasPrefix(p.text, "**/") {
		return strings.TrimPrefix(b.String(), "*")
	}
	return b.String()
}

func lower(ways []expected) []expected {
	for i, w := range ways {
		ways[i] = w.change(strings.ToLower)
	}
	return ways
}

// squeeze drops what people put between words.
func squeeze(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsSpace(r) || r == '_' || r == '-' || r == '.' {
			return -1
		}
		return unicode.ToLower(r)
	}, s)
}

func (p *Pattern) ways(known Captures, loc *time.Location) []expected {
	text := ""
	if slot, ok := known.Slot(); ok {
		for _, c := range p.captures {
			if c.name == "slot" && c.layout != nil {
				text = c.layout.Format(slot.In(loc))
			}
		}
	}
	return p.waysWith(known, loc, text)
}

// waysWith expands the pattern's brackets, with a text for the slot.
func (p *Pattern) waysWith(known Captures, loc *time.Location, slot string) []expected {
	e := expander{p: p, known: known, loc: loc, slot: slot}
	return e.alternatives()
}

type expander struct {
	p     *Pattern
	known Captures
	loc   *time.Location
	slot  string
	pos   int
}

// alternatives expands up to the bracket that closes, or the end.
func (e *expander) alternatives() []expected {
	var done []expected
	now := []expected{nil}
	for ; e.pos < len(e.p.tokens); e.pos++ {
		t := e.p.tokens[e.pos]
		switch t.kind {
		case '(':
			e.pos++
			now = product(now, e.alternatives())
		case '|':
			done, now = append(done, now...), []expected{nil}
		case ')':
			return append(done, now...)
		default:
			now = product(now, []expected{{e.piece(t)}})
		}
	}
	return append(done, now...)
}

func (e *expander) piece(t token) *string {
	text := t.text
	if t.kind == 'c' {
		c := e.p.captures[t.capture]
		switch v := e.known[c.name].(type) {
		case nil:
		case time.Time:
			if text = e.slot; c.name != "slot" {
				text = c.layout.Format(v.In(e.loc))
			}
		default:
			text = fmt.Sprint(v)
		}
	}
	if text == "" {
		return nil
	}
	return &text
}

func product(a, b []expected) []expected {
	var out []expected
	for _, x := range a {
		for _, y := range b {
			if len(out) < maxWays {
				out = append(out, append(slices.Clone(x), y...))
			}
		}
	}
	return out
}

func (e expected) change(f func(string) string) expected {
	out := make(expected, len(e))
	for i, p := range e {
		if p != nil {
			text := f(*p)
			out[i] = &text
		}
	}
	return out
}

// sameDigits reports whether a name has the digits that are expected, in any order.
func (e expected) sameDigits(name string) bool {
	var have [10]int
	free := false
	for _, p := range e {
		if p == nil {
			free = true
			continue
		}
		for _, c := range []byte(*p) {
			if c >= '0' && c <= '9' {
				have[c-'0']++
			}
		}
	}
	for _, c := range []byte(name) {
		if c >= '0' && c <= '9' {
			have[c-'0']--
		}
	}
	for _, n := range have {
		if n > 0 || n < 0 && !free {
			return false
		}
	}
	return true
}

func (e expected) length() (n int) {
	for _, p := range e {
		if p != nil {
			n += len(*p)
		}
	}
	return n
}

// Written writes all names that files with the captures that are known may have. Names of which a part is not known
// are left out.
func (p *Pattern) Written(known Captures, loc *time.Location) []string {
	var out []string
	for _, way := range p.ways(known, loc) {
		if slices.Contains(way, nil) {
			continue
		}
		var b strings.Builder
		for _, piece := range way {
			b.WriteString(*piece)
		}
		out = append(out, b.String())
	}
	return out
}

// Named writes a name that the pattern takes: times are at, numbers are number, and any other text is unique.
func (p *Pattern) Named(at time.Time, number int64, unique string, loc *time.Location) (string, bool) {
	known := Captures{}
	for _, c := range p.captures {
		switch c.kind {
		case '%':
			known[c.name] = at
		case '#':
			known[c.name] = number
		}
	}
	for _, way := range p.ways(known, loc) {
		var b strings.Builder
		for _, piece := range way {
			if piece == nil {
				piece = &unique
			}
			b.WriteString(*piece)
		}
		name := strings.TrimPrefix(b.String(), "/")
		if _, ok := p.Match(name, loc); ok {
			return name, true
		}
	}
	return "", false
}

package filename

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"mullein/internal/core/due"
	"mullein/internal/core/timeformat"
)

// Pattern is a compiled file pattern. It may be used by several goroutines.
//
//   - ?        any text, one character, within a folder
//     **          any text across folders; "**/" also stands for no folder at all
//     [a-z] (a|b) one of these characters, one of these texts
//     {name}      captures text within a folder
//     {name:%Y%m} captures a time by POSIX strftime tokens
//     {name:#}    captures a whole number
type Pattern struct {
	text     string
	re       *regexp.Regexp
	captures []capture
	tokens   []token
	fold     bool
}

// token is a piece of a pattern, for telling which names come close to it.
type token struct {
	kind    byte   // 'l' literal, '*' any text, '?' one character, 'c' capture, and ( | )
	text    string // of a literal
	capture int    // index
}

type capture struct {
	name   string
	kind   byte // 't' text, '#' number, '%' time
	layout *timeformat.Layout
}

// Captures are what a name told: a string, an int64 or a time.Time by name.
type Captures map[string]any

// Slot is the time that the capture named slot holds, if there is one.
func (c Captures) Slot() (time.Time, bool) {
	t, ok := c["slot"].(time.Time)
	return t, ok
}

const (
	maxPattern = 1024
	maxPath    = 4096
)

var captureName = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)

// SyntaxError says what is wrong with a pattern and where.
type SyntaxError struct {
	Pattern string
	Offset  int // in bytes, from 0
	Problem string
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("file pattern %q, character %d: %s", e.Pattern, e.Offset+1, e.Problem)
}

// Compile reads a pattern. Errors are of type [*SyntaxError].
func Compile(pattern string) (*Pattern, error) { return compile(pattern, false) }

// CompileFold reads a pattern that does not look at capitals.
func CompileFold(pattern string) (*Pattern, error) { return compile(pattern, true) }

func compile(pattern string, fold bool) (*Pattern, error) {
	c := compiler{src: pattern, p: &Pattern{text: pattern, fold: fold}, seen: map[string]bool{}}
	if len(pattern) > maxPattern {
		return nil, &SyntaxError{pattern[:40] + "...", 0, fmt.Sprintf("longer than %d bytes", maxPattern)}
	}
	if strings.TrimSpace(pattern) == "" {
		return nil, &SyntaxError{pattern, 0, "empty; write \"*\" for every file of the folder"}
	}
	if strings.HasPrefix(pattern, "/") || strings.Contains("/"+pattern+"/", "/../") {
		return nil, &SyntaxError{pattern, 0, "patterns are relative to the landing and never contain \"..\""}
	}
	if fold {
		c.out.WriteString(`(?i)`)
	}
	c.out.WriteString(`^`)
	if err := c.run(); err != nil {
		return nil, err
	}
	c.out.WriteString(`$`)
	re, err := regexp.Compile(c.out.String())
	if err != nil {
		return nil, &SyntaxError{pattern, 0, "cannot be compiled: " + err.Error()}
	}
	c.p.re = re
	return c.p, nil
}

// String returns the pattern as it was written.
func (p *Pattern) String() string { return p.text }

// Names are the names of the captures, in order.
func (p *Pattern) Names() []string {
	names := make([]string, len(p.captures))
	for i, c := range p.captures {
		names[i] = c.name
	}
	return names
}

// HasSlot reports whether the pattern captures a slot.
func (p *Pattern) HasSlot() bool {
	for _, c := range p.captures {
		if c.name == "slot" {
			return true
		}
	}
	return false
}

// Match reports whether a path belongs, and what it says. Times without an
// offset are in loc. A name that has the form of the pattern but says an
// impossible time, such as 31 February, does not belong.
func (p *Pattern) Match(path string, loc *time.Location) (Captures, bool) {
	if len(path) > maxPath {
		return nil, false
	}
	m := p.re.FindStringSubmatch(path)
	if m == nil {
		return nil, false
	}
	caps := make(Captures, len(p.captures))
	for i, c := range p.captures {
		text := m[i+1]
		switch c.kind {
		case 't':
			caps[c.name] = text
		case '#':
			n, err := strconv.ParseInt(text, 10, 64)
			if err != nil {
				return nil, false
			}
			caps[c.name] = n
		case '%':
			t, err := c.layout.Time([]byte(text), loc)
			if err != nil && p.fold { // the letters between the tokens, as in 20260701t1215
				t, err = c.layout.Time([]byte(strings.ToUpper(text)), loc)
			}
			if err != nil {
				return nil, false
			}
			caps[c.name] = t
		}
	}
	return caps, true
}

type compiler struct {
	src   string
	pos   int
	out   strings.Builder
	p     *Pattern
	seen  map[string]bool
	depth int
}

func (c *compiler) fail(at int, problem string, args ...any) error {
	return &SyntaxError{c.src, at, fmt.Sprintf(problem, args...)}
}

func (c *compiler) run() error {
	for c.pos < len(c.src) {
		at := c.pos
		ch := c.src[c.pos]
		c.pos++
		switch ch {
		case '*':
			c.star(at)
		case '?':
			c.token('?', "")
			c.out.WriteString(`[^/]`)
		case '[':
			if err := c.class(at); err != nil {
				return err
			}
		case '{':
			if err := c.capture(at); err != nil {
				return err
			}
		case '(':
			c.depth++
			c.token('(', "")
			c.out.WriteString(`(?:`)
		case '|':
			if c.depth == 0 {
				return c.fail(at, "| stands outside of brackets; write (a|b)")
			}
			c.token('|', "")
			c.out.WriteByte('|')
		case ')':
			if c.depth == 0 {
				return c.fail(at, ") without (")
			}
			c.depth--
			c.token(')', "")
			c.out.WriteByte(')')
		case ']', '}':
			return c.fail(at, "%c without its opening bracket", ch)
		default:
			_, size := utf8.DecodeRuneInString(c.src[at:])
			c.pos = at + size
			c.token('l', c.src[at:c.pos])
			c.out.WriteString(regexp.QuoteMeta(c.src[at:c.pos]))
		}
	}
	if c.depth > 0 {
		return c.fail(len(c.src), "( is not closed")
	}
	return nil
}

func (c *compiler) token(kind byte, text string) {
	if n := len(c.p.tokens); kind == 'l' && n > 0 && c.p.tokens[n-1].kind == 'l' {
		c.p.tokens[n-1].text += text
		return
	}
	c.p.tokens = append(c.p.tokens, token{kind: kind, text: text, capture: len(c.p.captures)})
}

func (c *compiler) star(at int) {
	c.token('*', "")
	if !strings.HasPrefix(c.src[c.pos:], "*") {
		c.out.WriteString(`[^/]*`)
		return
	}
	c.pos++
	atStart := at == 0 || c.src[at-1] == '/'
	if atStart && strings.HasPrefix(c.src[c.pos:], "/") {
		c.pos++
		c.out.WriteString(`(?:.*/)?`)
		return
	}
	c.out.WriteString(`.*`)
}

func (c *compiler) class(at int) error {
	end := strings.IndexByte(c.src[c.pos:], ']')
	if end < 1 {
		return c.fail(at, "[ is not closed, or empty")
	}
	body := c.src[c.pos : c.pos+end]
	if strings.ContainsAny(body, `\[/`) {
		return c.fail(at, "characters and ranges only within [ ]")
	}
	negated := strings.HasPrefix(body, "!") || strings.HasPrefix(body, "^")
	if negated {
		body = "^/" + body[1:]
	}
	if _, err := regexp.Compile("[" + body + "]"); err != nil {
		return c.fail(at, "[%s] is not a set of characters", body)
	}
	c.token('?', "")
	c.out.WriteString("[" + body + "]")
	c.pos += end + 1
	return nil
}

func (c *compiler) capture(at int) error {
	end := strings.IndexByte(c.src[c.pos:], '}')
	if end < 0 {
		return c.fail(at, "{ is not closed")
	}
	name, form, _ := strings.Cut(c.src[c.pos:c.pos+end], ":")
	c.pos += end + 1
	if !captureName.MatchString(name) {
		return c.fail(at, "%q is not a name for a capture; use a-z, 0-9 and _", name)
	}
	if c.seen[name] {
		return c.fail(at, "{%s} is captured twice", name)
	}
	if c.depth > 0 {
		return c.fail(at, "{%s} stands inside brackets, where it may capture nothing; put it outside", name)
	}
	c.seen[name] = true
	c.token('c', "")
	switch {
	case form == "":
		c.p.captures = append(c.p.captures, capture{name: name, kind: 't'})
		c.out.WriteString(`([^/]+?)`)
	case form == "#":
		c.p.captures = append(c.p.captures, capture{name: name, kind: '#'})
		c.out.WriteString(`([0-9]{1,18})`)
	case strings.Contains(form, "%"):
		layout, err := timeformat.Compile(form)
		if err != nil {
			return c.fail(at, "%s", err.Error())
		}
		c.p.captures = append(c.p.captures, capture{name: name, kind: '%', layout: layout})
		c.out.WriteString(`(` + layout.Regexp() + `)`)
	default:
		return c.fail(at, "{%s:%s}: after the colon comes # for a number, or a time such as %%Y%%m%%d", name, form)
	}
	return nil
}

// Kinds returns each capture's kind: 't' for text, '#' for a number, '%' for a time.
func (p *Pattern) Kinds() map[string]byte {
	kinds := map[string]byte{}
	for _, c := range p.captures {
		kinds[c.name] = c.kind
	}
	return kinds
}

// Unit returns how finely the capture named slot tells slots apart: a unit of
// time, a number, or nothing when there is no such capture.
func (p *Pattern) Unit() due.Unit {
	for _, c := range p.captures {
		if c.name != "slot" {
			continue
		}
		switch {
		case c.kind == '#':
			return due.Number
		case c.kind != '%':
			return due.NoUnit
		case c.layout.Has('M') || c.layout.Has('s'):
			return due.Minute
		case c.layout.Has('H') || c.layout.Has('I'):
			return due.Hour
		case c.layout.Has('d') || c.layout.Has('e') || c.layout.Has('j'):
			return due.Day
		case c.layout.Has('m') || c.layout.Has('b') || c.layout.Has('B'):
			return due.Month
		}
		return due.Year
	}
	return due.NoUnit
}

// Read brings captures that were kept as JSON back to their own kinds.
func (p *Pattern) Read(kept map[string]any) Captures {
	out := Captures{}
	for _, c := range p.captures {
		switch v := kept[c.name].(type) {
		case string:
			if n, err := strconv.ParseInt(v, 10, 64); c.kind == '#' && err == nil {
				out[c.name] = n
			} else if c.kind != '%' {
				out[c.name] = v
			} else if t, err := time.Parse(time.RFC3339, v); err == nil {
				out[c.name] = t
			}
		case float64:
			out[c.name] = int64(v)
		case int64, time.Time:
			out[c.name] = v
		}
	}
	return out
}

// LeftOut says why no feed takes a file, or "": a dot-file or one in a
// dot-folder, one with the name of an upload that is still going on, or an
// empty file that only marks that something is complete.
func LeftOut(path string, size int64) string {
	for _, part := range strings.Split(path, "/") {
		if strings.HasPrefix(part, ".") {
			return "a dot-file"
		}
	}
	lower := strings.ToLower(path)
	for _, end := range []string{".tmp", ".part", ".filepart"} {
		if strings.HasSuffix(lower, end) {
			return "a temporary name, " + end
		}
	}
	if size != 0 {
		return ""
	}
	base := lower[strings.LastIndexByte(lower, '/')+1:]
	if strings.HasPrefix(base, "_") || slices.Contains(markerEnds, base[strings.LastIndexByte(base, '.')+1:]) {
		return "an empty marker file"
	}
	return ""
}

// markerEnds are the extensions that empty marker files have.
var markerEnds = []string{"ok", "done", "ready", "complete", "end", "fin", "marker"}

package timeformat

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"
)

// Layout is a compiled strftime pattern. It may be used by several goroutines.
type Layout struct {
	pattern string
	parts   []part
	exact   bool // only what Format writes is read
}

// part is either one token (token != 0) or a run of literal text.
type part struct {
	token   byte
	pad     byte // what a number is filled up with: '0', ' ', or '-' for nothing
	touches bool // a number that stands beside another
	literal string
}

// Fields are the pieces of a time as they were written. Pieces that the
// pattern does not name keep the values of [Blank]: 1 January of year 1, 0:00.
type Fields struct {
	Year, Month, Day       int
	Hour, Minute, Second   int
	Nanosecond             int
	YearDay                int // 1 to 366, 0 when not given
	Offset                 int // seconds east of UTC, valid when HasOffset
	HasOffset              bool
	hour12, pm, hasMeridem bool
	unix                   int64
	hasUnix                bool
}

// Blank holds what is taken for pieces that a pattern does not name.
var blank = Fields{Year: 1, Month: 1, Day: 1}

// ErrNoMatch says that the text does not have the form of the pattern.
var ErrNoMatch = errors.New("does not match the format")

// ErrNoSuchTime says that the text has the right form but names a day or hour
// that does not exist, such as 31 February.
var ErrNoSuchTime = errors.New("no such date or time")

var composites = strings.NewReplacer("%%", "%%", "%D", "%m/%d/%y", "%F", "%Y-%m-%d", "%R", "%H:%M", "%T", "%H:%M:%S")

// digits are how many digits the numbers have, by token; 0 for what is no number.
var digits = [256]int{'Y': 4, 'y': 2, 'm': 2, 'd': 2, 'H': 2, 'I': 2, 'M': 2, 'S': 2, 'j': 3}

// padded are the tokens of numbers that are filled up with spaces, and those of the
// same numbers with zeros.
var padded = map[byte]byte{'e': 'd', 'k': 'H', 'l': 'I'}

// forms are regular expressions of what is no number of [digits].
var forms = map[byte]string{
	'f': `[0-9]{1,9}`, 's': `[0-9]{1,12}`, 'p': `[AaPp][Mm]`, 'z': `(?:Z|[+-][0-9]{2}:?[0-9]{2})`,
	'b': `[A-Za-z]{3}`, 'B': `[A-Za-z]{3,9}`, 'a': `[A-Za-z]{3}`, 'A': `[A-Za-z]{6,9}`,
}

// form is a regular expression of what Format writes for a part.
func (p part) form() string {
	n := digits[p.token]
	switch {
	case n == 0:
		return forms[p.token]
	case p.pad == '-':
		return fmt.Sprintf(`[0-9]{1,%d}`, n)
	case p.pad == ' ':
		return strings.Repeat(`[ 0-9]`, n-1) + `[0-9]`
	}
	return fmt.Sprintf(`[0-9]{%d}`, n)
}

// Compile reads a pattern such as "%d.%m.%Y %H:%M". The tokens are those of POSIX
// strftime and strptime; %f for a fraction of a second; %k and %l for hours that are
// filled up with a space; and %-d, and so on, for numbers that are not filled up.
// Errors name the token.
func Compile(pattern string) (*Layout, error) {
	if pattern == "" {
		return nil, errors.New("empty time format")
	}
	l := &Layout{pattern: pattern}
	expanded := composites.Replace(pattern)
	literal := strings.Builder{}
	flush := func() {
		if literal.Len() > 0 {
			l.parts = append(l.parts, part{literal: literal.String()})
			literal.Reset()
		}
	}
	for i := 0; i < len(expanded); i++ {
		if expanded[i] != '%' {
			literal.WriteByte(expanded[i])
			continue
		}
		i++
		if i == len(expanded) {
			return nil, fmt.Errorf("time format %q ends in a lone %%", pattern)
		}
		p := part{token: expanded[i], pad: '0'}
		if p.token == '%' {
			literal.WriteByte('%')
			continue
		}
		if p.token == '-' && i+1 < len(expanded) && digits[expanded[i+1]] > 0 && expanded[i+1] != 'Y' {
			i++
			p = part{token: expanded[i], pad: '-'}
		}
		if same, ok := padded[p.token]; ok {
			p = part{token: same, pad: ' '}
		}
		if p.form() == "" {
			return nil, fmt.Errorf("time format %q: unknown token %%%c; use POSIX strftime tokens such as %%Y %%m %%d "+
				"%%H %%M %%S",
				pattern, expanded[i])
		}
		flush()
		l.parts = append(l.parts, p)
	}
	flush()
	for i := 1; i < len(l.parts); i++ {
		if digits[l.parts[i-1].token] > 0 && digits[l.parts[i].token] > 0 {
			l.parts[i-1].touches, l.parts[i].touches = true, true
		}
	}
	return l, nil
}

// String returns the pattern as it was written.
func (l *Layout) String() string { return l.pattern }

// Has reports whether the pattern names the token, such as 'Y'.
func (l *Layout) Has(token byte) bool {
	for _, p := range l.parts {
		if p.token == token {
			return true
		}
	}
	return false
}

// Exact returns a layout that reads only what Format writes: numbers with all their
// digits.
func (l *Layout) Exact() *Layout {
	return &Layout{pattern: l.pattern, parts: l.parts, exact: true}
}

// Regexp returns a regular expression, without groups, for what Format writes.
func (l *Layout) Regexp() string {
	b := strings.Builder{}
	for _, p := range l.parts {
		if p.token == 0 {
			b.WriteString(regexp.QuoteMeta(p.literal))
		} else {
			b.WriteString(p.form())
		}
	}
	return b.String()
}

// Parse reads text into its pieces, as POSIX strptime does: numbers may lack their
// leading zeros, but for %Y, which has four digits, and for numbers that touch others,
// as in %Y%m%d. It allocates nothing, and returns [ErrNoMatch] or [ErrNoSuchTime].
func (l *Layout) Parse(text []byte) (Fields, error) {
	f := blank
	rest := text
	for _, p := range l.parts {
		var ok bool
		if p.token == 0 {
			if len(rest) < len(p.literal) || string(rest[:len(p.literal)]) != p.literal {
				return f, ErrNoMatch
			}
			rest = rest[len(p.literal):]
			continue
		}
		if rest, ok = f.take(p, l.exact, rest); !ok {
			return f, ErrNoMatch
		}
	}
	if len(rest) != 0 {
		return f, ErrNoMatch
	}
	return f, f.settle()
}

// ISO reads a text such as 2026-01-31T14:30:00, with or without a fraction of a second, and
// Z or an offset after it: XML Schema's dateTime. It reads what the layouts
// %Y-%m-%dT%H:%M:%S, and so on, read exactly, without going through their parts.
func ISO(text []byte) (Fields, error) {
	f := blank
	if len(text) < len("2026-01-31T14:30:00") || text[4] != '-' || text[7] != '-' || text[10] != 'T' ||
		text[13] != ':' || text[16] != ':' {
		return f, ErrNoMatch
	}
	bad := byte(0)
	two := func(at int) int {
		tens, ones := text[at]-'0', text[at+1]-'0'
		if tens > 9 || ones > 9 {
			bad = 1
		}
		return int(tens)*10 + int(ones)
	}
	f.Year, f.Month, f.Day = two(0)*100+two(2), two(5), two(8)
	f.Hour, f.Minute, f.Second = two(11), two(14), two(17)
	rest, ok := text[19:], bad == 0
	if ok && len(rest) > 0 && rest[0] == '.' {
		rest, ok = f.fraction(rest[1:])
	}
	if ok && len(rest) > 0 {
		rest, ok = f.offset(rest)
	}
	if !ok || len(rest) > 0 {
		return f, ErrNoMatch
	}
	return f, f.settle()
}

// Time reads text as an instant; a text without an offset is in loc, and moves
// to the next instant where a clock change drops its hour.
func (l *Layout) Time(text []byte, loc *time.Location) (time.Time, error) {
	f, err := l.Parse(text)
	if err != nil {
		return time.Time{}, err
	}
	if f.hasUnix || f.HasOffset {
		return f.In(loc), nil
	}
	return Instant(f.Year, time.Month(f.Month), f.Day, f.Hour, f.Minute, f.Second, f.Nanosecond, loc), nil
}

// Instant is time.Date, but for a time that a clock change drops it returns the
// instant of the change.
func Instant(year int, month time.Month, day, hour, minute, second, nanosecond int, loc *time.Location) time.Time {
	t := time.Date(year, month, day, hour, minute, second, nanosecond, loc)
	shown := time.Date(year, month, day, hour, minute, second, nanosecond, time.UTC)
	if t.Hour() == shown.Hour() && t.Minute() == shown.Minute() {
		return t
	}
	begin, end := t.ZoneBounds()
	if end.IsZero() || !begin.IsZero() && t.Sub(begin) < end.Sub(t) {
		return begin
	}
	return end
}

// In returns the instant that the pieces name; without an offset, in loc.
// In an hour that a clock change doubles, it is the first one; in an hour
// that is dropped, time.Date's choice.
func (f Fields) In(loc *time.Location) time.Time {
	switch {
	case f.hasUnix:
		return time.Unix(f.unix, 0).UTC()
	case f.HasOffset:
		seconds := daysSince1970(f.Year, f.Month, f.Day)*86400 + int64(f.Hour*3600+f.Minute*60+f.Second-f.Offset)
		return time.Unix(seconds, int64(f.Nanosecond)).UTC()
	}
	return time.Date(f.Year, time.Month(f.Month), f.Day, f.Hour, f.Minute, f.Second, f.Nanosecond, loc)
}

// take reads what a token stands for, and returns the rest.
func (f *Fields) take(p part, exact bool, s []byte) (rest []byte, ok bool) {
	if digits[p.token] > 0 {
		n, rest, ok := p.number(s, exact)
		return rest, ok && f.set(p.token, n)
	}
	switch p.token {
	case 'p':
		if len(s) < 2 || (s[1]|0x20) != 'm' || ((s[0]|0x20) != 'a' && (s[0]|0x20) != 'p') {
			return s, false
		}
		f.pm, f.hasMeridem = (s[0]|0x20) == 'p', true
		return s[2:], true
	case 'f':
		return f.fraction(s)
	case 's':
		f.unix, f.hasUnix = 0, true
		n := 0
		for n < len(s) && n < 12 && isDigit(s[n]) {
			f.unix = f.unix*10 + int64(s[n]-'0')
			n++
		}
		return s[n:], n > 0
	case 'z':
		return f.offset(s)
	case 'b', 'B':
		f.Month, rest, ok = name(s, monthNames[:], p.token == 'b')
		f.Month++
		return rest, ok
	}
	_, rest, ok = name(s, dayNames[:], p.token == 'a')
	return rest, ok
}

// set takes a number for the piece that a token stands for. It is false where it
// cannot be one.
func (f *Fields) set(token byte, n int) bool {
	switch token {
	case 'Y':
		f.Year = n
	case 'y':
		// POSIX: 69 to 99 are 1969 to 1999, 00 to 68 are 2000 to 2068.
		f.Year = 2000 + n
		if n >= 69 {
			f.Year = 1900 + n
		}
	case 'm':
		f.Month = n
	case 'd':
		f.Day = n
	case 'H':
		f.Hour = n
	case 'I':
		f.Hour, f.hour12 = n, true
	case 'M':
		f.Minute = n
	case 'S':
		f.Second = n
	case 'j':
		f.YearDay = n
		return n > 0
	}
	return true
}

// number reads the number of a part.
func (p part) number(s []byte, exact bool) (n int, rest []byte, ok bool) {
	least, most := 1, digits[p.token]
	if p.token == 'Y' || (exact || p.touches) && p.pad == '0' {
		least = most
	}
	if p.pad == ' ' {
		for len(s) > 0 && s[0] == ' ' && most > 1 {
			s = s[1:]
			most--
		}
		if exact {
			least = most
		}
	}
	i := 0
	for i < most && i < len(s) && isDigit(s[i]) {
		n = n*10 + int(s[i]-'0')
		i++
	}
	return n, s[i:], i >= least
}

func (f *Fields) fraction(s []byte) ([]byte, bool) {
	i, scale := 0, 100_000_000
	for i < len(s) && i < 9 && isDigit(s[i]) {
		f.Nanosecond += int(s[i]-'0') * scale
		scale /= 10
		i++
	}
	return s[i:], i > 0
}

func (f *Fields) offset(s []byte) ([]byte, bool) {
	f.HasOffset = true
	if len(s) > 0 && s[0] == 'Z' {
		return s[1:], true
	}
	if len(s) < 5 || (s[0] != '+' && s[0] != '-') {
		return s, false
	}
	h, ok := fixed(s[1:], 2)
	rest := s[3:]
	if rest[0] == ':' {
		rest = rest[1:]
	}
	m, ok2 := fixed(rest, 2)
	if !ok || !ok2 || h > 15 || m > 59 {
		return s, false
	}
	f.Offset = h*3600 + m*60
	if s[0] == '-' {
		f.Offset = -f.Offset
	}
	return rest[2:], true
}

// settle brings the pieces together and refuses times that do not exist.
func (f *Fields) settle() error {
	if f.hasMeridem || f.hour12 {
		if f.Hour < 1 || f.Hour > 12 {
			return ErrNoSuchTime
		}
		f.Hour %= 12
		if f.pm {
			f.Hour += 12
		}
	}
	if f.YearDay > 0 {
		d := time.Date(f.Year, 1, f.YearDay, 0, 0, 0, 0, time.UTC)
		if d.Year() != f.Year {
			return ErrNoSuchTime
		}
		f.Month, f.Day = int(d.Month()), d.Day()
	}
	if f.Year < 1 || f.Month < 1 || f.Month > 12 || f.Day < 1 || f.Day > DaysIn(f.Year, f.Month) ||
		f.Hour > 23 || f.Minute > 59 || f.Second > 59 {
		return ErrNoSuchTime
	}
	return nil
}

// Days returns the days from 1 January 1970 to the day in UTC.
func (f Fields) Days() int64 {
	if !f.hasUnix && !f.HasOffset {
		return daysSince1970(f.Year, f.Month, f.Day)
	}
	t := f.In(time.UTC)
	return daysSince1970(t.Year(), int(t.Month()), t.Day())
}

// daysSince1970 returns the days from 1 January 1970 to a day of the Gregorian calendar, of
// year 1 or later. Years are counted from March, so that a leap day is the last.
func daysSince1970(year, month, day int) int64 {
	const toEpoch = 719468 // days from 1 March of year 0
	if month -= 3; month < 0 {
		year, month = year-1, month+12
	}
	return int64(year*365 + year/4 - year/100 + year/400 + (153*month+2)/5 + day - 1 - toEpoch)
}

// DaysIn returns the number of days of a month, 1 to 12, in the Gregorian calendar.
func DaysIn(year, month int) int {
	switch month {
	case 4, 6, 9, 11:
		return 30
	case 2:
		if year%4 == 0 && (year%100 != 0 || year%400 == 0) {
			return 29
		}
		return 28
	}
	return 31
}

var monthNames = [...]string{"january", "february", "march", "april", "may", "june", "july", "august", "september",
	"october", "november", "december"}
var dayNames = [...]string{"sunday", "monday", "tuesday", "wednesday", "thursday", "friday", "saturday"}

// name finds which of names s begins with, in any case.
func name(s []byte, names []string, short bool) (int, []byte, bool) {
	for i, n := range names {
		if short {
			n = n[:3]
		}
		if len(s) < len(n) {
			continue
		}
		same := true
		for j := 0; j < len(n) && same; j++ {
			same = s[j]|0x20 == n[j]
		}
		if same {
			return i, s[len(n):], true
		}
	}
	return 0, s, false
}

func fixed(s []byte, n int) (int, bool) {
	if len(s) < n {
		return 0, false
	}
	v := 0
	for i := 0; i < n; i++ {
		if !isDigit(s[i]) {
			return 0, false
		}
		v = v*10 + int(s[i]-'0')
	}
	return v, true
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

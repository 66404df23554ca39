package timeformat

import (
	"fmt"
	"strings"
	"time"
)

// Format writes a time in the form of the pattern.
func (l *Layout) Format(t time.Time) string {
	b := strings.Builder{}
	for _, p := range l.parts {
		if p.token == 0 {
			b.WriteString(p.literal)
		} else {
			b.WriteString(p.format(t))
		}
	}
	return b.String()
}

// goLayouts are the tokens that Go's own layouts can write.
var goLayouts = map[byte]string{
	'Y': "2006", 'm': "01", 'd': "02", 'H': "15", 'M': "04", 'S': "05", 'y': "06", 'j': "002", 'I': "03",
	'p': "PM", 'z': "-0700", 'b': "Jan", 'B': "January", 'a': "Mon", 'A': "Monday",
}

func (p part) format(t time.Time) string {
	switch p.token {
	case 's':
		return fmt.Sprint(t.Unix())
	case 'f':
		return fmt.Sprintf("%06d", t.Nanosecond()/1000)
	}
	text := t.Format(goLayouts[p.token])
	if n := len(text); n > 0 && digits[p.token] > 0 && p.pad != '0' {
		number := strings.TrimLeft(text[:n-1], "0") + text[n-1:]
		if p.pad == ' ' {
			number = strings.Repeat(" ", n-len(number)) + number
		}
		return number
	}
	return text
}

// DateOrders returns the other ways in which the same day may be written with
// the pattern's own pieces: its year, month and day in another order.
func (l *Layout) DateOrders() []*Layout {
	var at []int
	tokens := ""
	for i, p := range l.parts {
		if strings.IndexByte("Yymd", p.token) >= 0 && p.token != 0 {
			at = append(at, i)
			tokens += string(p.token)
		}
	}
	var out []*Layout
	if len(at) < 2 {
		return nil
	}
	var permute func(left, done string)
	permute = func(left, done string) {
		if left == "" && done != tokens {
			other := &Layout{pattern: l.pattern, parts: append([]part(nil), l.parts...)}
			for i, place := range at {
				other.parts[place].token = done[i]
			}
			out = append(out, other)
		}
		for i := range left {
			permute(left[:i]+left[i+1:], done+left[i:i+1])
		}
	}
	permute(tokens, "")
	return out
}

package cli

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// say writes a line for people. Texts among the arguments come from files and their
// names, and are shown harmlessly.
func (c *command) say(format string, args ...any) {
	shown := make([]any, len(args))
	for i, a := range args {
		switch a := a.(type) {
		case string:
			shown[i] = harmless(a)
		case error:
			shown[i] = harmless(a.Error())
		default:
			shown[i] = a
		}
	}
	fmt.Fprintf(c.out, format, shown...)
}

// harmless shows characters that a terminal would act upon instead of showing them, as
// Go writes them: control characters, marks of the direction of writing, bytes that are
// no UTF-8.
func harmless(s string) string {
	if utf8.ValidString(s) && !strings.ContainsFunc(s, actsUp) {
		return s
	}
	var b strings.Builder
	for len(s) > 0 {
		r, size := utf8.DecodeRuneInString(s)
		switch {
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, `\x%02x`, s[0])
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\r':
			b.WriteString(`\r`)
		case r == '\t':
			b.WriteString(`\t`)
		case actsUp(r) && r < 0x80:
			fmt.Fprintf(&b, `\x%02x`, r)
		case actsUp(r):
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteRune(r)
		}
		s = s[size:]
	}
	return b.String()
}

// harmlessLines is harmless for a text of ours of several lines, each further one after an
// indent.
func harmlessLines(s, indent string) string {
	lines := strings.Split(s, "\n")
	for i := range lines {
		lines[i] = harmless(lines[i])
	}
	return strings.Join(lines, "\n"+indent)
}

// actsUp reports whether a terminal takes a character for more than something to show.
func actsUp(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) || r == '\u2028' || r == '\u2029' ||
		r == '\ufeff'
}

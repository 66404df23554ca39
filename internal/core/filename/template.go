package filename

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"mullein/internal/core/timeformat"
)

// Template is a path made of what a file's name says: {path}, {stem} (the path
// without its last extension), {name} (without folders) and the captures,
// times with a form of their own, as in "done/{slot:%Y}/{catchment}".
type Template struct {
	text  string
	parts []piece
}

type piece struct {
	literal string
	name    string
	layout  *timeformat.Layout
}

// ownNames are what templates may name beside captures.
var ownNames = []string{"path", "stem", "name"}

// CompileTemplate reads a template over captures of the kinds that
// [Pattern.Kinds] gives. Errors are of type [*SyntaxError].
func CompileTemplate(text string, kinds map[string]byte) (*Template, error) {
	t := &Template{text: text}
	fail := func(at int, problem string, args ...any) error {
		return &SyntaxError{text, at, fmt.Sprintf(problem, args...)}
	}
	if text == "" || len(text) > maxPattern {
		return nil, fail(0, "a path of up to %d bytes is needed", maxPattern)
	}
	if strings.HasPrefix(text, "/") || strings.Contains("/"+text+"/", "/../") {
		return nil, fail(0, "the path never leaves the landing roots: no leading /, no \"..\"")
	}
	for at := 0; at < len(text); {
		open := strings.IndexByte(text[at:], '{')
		if open < 0 {
			t.parts = append(t.parts, piece{literal: text[at:]})
			break
		}
		if open > 0 {
			t.parts = append(t.parts, piece{literal: text[at : at+open]})
		}
		at += open
		end := strings.IndexByte(text[at:], '}')
		if end < 0 {
			return nil, fail(at, "{ is not closed")
		}
		name, form, _ := strings.Cut(text[at+1:at+end], ":")
		p := piece{name: name}
		switch kind, captured := kinds[name]; {
		case captured && kind == '%' && form == "":
			return nil, fail(at, "{%s} is a time; say how to write it, as in {%s:%%Y%%m%%d}", name, name)
		case captured && kind == '%':
			layout, err := timeformat.Compile(form)
			if err != nil {
				return nil, fail(at, "%s", err.Error())
			}
			p.layout = layout
		case form != "":
			return nil, fail(at, "{%s} is no time; leave out %q", name, ":"+form)
		case !captured && !slices.Contains(ownNames, name):
			return nil, fail(at, "{%s} is not captured by files; there are {path}, {stem}, {name} and its captures",
				name)
		}
		t.parts = append(t.parts, p)
		at += end + 1
	}
	return t, nil
}

// String returns the template as it was written; "" for none.
func (t *Template) String() string {
	if t == nil {
		return ""
	}
	return t.text
}

// Fixed returns the folders that the template begins with whatever is captured.
func (t *Template) Fixed() string {
	if len(t.parts) == 0 || t.parts[0].literal == "" {
		return ""
	}
	if len(t.parts) == 1 {
		return path.Clean(t.parts[0].literal)
	}
	return strings.Trim(path.Dir(t.parts[0].literal+"x"), "/.")
}

// End returns the text that every path of the template ends in, "" for none.
func (t *Template) End() string { return t.parts[len(t.parts)-1].literal }

// Expand writes the path for a file; times are in loc.
func (t *Template) Expand(file string, captures Captures, loc *time.Location) string {
	b := strings.Builder{}
	for _, p := range t.parts {
		switch v := captures[p.name].(type) {
		case nil:
			switch p.name {
			case "path":
				b.WriteString(file)
			case "stem":
				b.WriteString(strings.TrimSuffix(file, path.Ext(file)))
			case "name":
				b.WriteString(path.Base(file))
			default:
				b.WriteString(p.literal)
			}
		case time.Time:
			b.WriteString(p.layout.Format(v.In(loc)))
		default:
			text := fmt.Sprint(v)
			if strings.Trim(text, ".") == "" { // never a step out of its folder
				text = "_" + text
			}
			b.WriteString(text)
		}
	}
	return path.Clean(b.String())
}

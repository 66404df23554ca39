package settings

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"mullein/internal/core/feed"
	"mullein/internal/core/spelling"
)

// FileName is the settings file of a home folder.
const FileName = "mullein.yaml"

// From says where settings come from.
type From struct {
	Home    string
	File    string   // "" for FileName in the home folder, if there is one
	Environ []string // as [os.Environ] has it
	// Given are values that flags give, by the setting's path.
	Given map[string][]string
}

// Read reads settings: those of the file, over them those of the environment, over them those
// that flags give. What is wrong in the file is a [feed.Problems].
func Read(from From) (*Loaded, error) {
	l := &Loaded{Settings: Default(), sources: map[string]string{}}
	file, named := filepath.Join(from.Home, FileName), from.File != ""
	if named {
		file = from.File
	}
	text, err := os.ReadFile(file)
	switch {
	case errors.Is(err, os.ErrNotExist) && !named:
	case err != nil:
		return nil, fmt.Errorf("read settings: %w", err)
	default:
		if err := l.take(file, text); err != nil {
			return nil, err
		}
		l.File = file
	}
	if err := l.overlay(from); err != nil {
		return nil, err
	}
	return l, l.check()
}

// Loaded is settings with where each comes from.
type Loaded struct {
	Settings
	File    string // that was read; "" for none
	root    ast.Node
	sources map[string]string // by path; the default where it has none
}

const mostBytes = 1 << 20

// take reads the settings file.
func (l *Loaded) take(name string, text []byte) error {
	if len(text) > mostBytes {
		return fmt.Errorf("%s: more than %d bytes", name, mostBytes)
	}
	l.File = name
	parsed, err := parser.ParseBytes(text, 0)
	if err == nil {
		if len(parsed.Docs) > 0 {
			l.root = parsed.Docs[0].Body
		}
		err = yaml.UnmarshalWithOptions(text, &l.Settings, yaml.Strict())
	}
	var broken yaml.Error
	if errors.As(err, &broken) {
		p := feed.Problem{File: name, Line: 1, Column: 1, What: broken.GetMessage()}
		if t := broken.GetToken(); t != nil && t.Position != nil {
			p.Line, p.Column = t.Position.Line, t.Position.Column
			p.What += l.near(p.What, t.Value)
		}
		return feed.Problems{p}
	}
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return nil
}

// near says which setting a word was probably meant to be.
func (l *Loaded) near(what, word string) string {
	if !strings.Contains(what, "unknown field") {
		return ""
	}
	var known []string
	names(reflect.TypeFor[Settings](), func(name string) { known = append(known, name) })
	if near := spelling.Nearest(word, known); near != "" {
		return fmt.Sprintf("; did you mean %q?", near)
	}
	return ""
}

// names calls f with the name of each setting, at all depths.
func names(t reflect.Type, f func(name string)) {
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Map || t.Kind() == reflect.Slice {
		t = t.Elem()
	}
	if t.Kind() != reflect.Struct {
		return
	}
	for field := range t.Fields() {
		f(field.Tag.Get("json"))
		names(field.Type, f)
	}
}

// leaf is one setting.
type leaf struct {
	path   string
	value  reflect.Value
	secret bool
	about  string
}

// leaves calls f with each setting that there is.
func (s *Settings) leaves(f func(leaf) error) error {
	return walk(leaf{value: reflect.ValueOf(s).Elem()}, f)
}

func walk(at leaf, f func(leaf) error) error {
	v := at.value
	if v.Kind() == reflect.Pointer && !v.IsNil() {
		v = v.Elem()
	}
	switch {
	case v.Kind() == reflect.Struct:
		for i := range v.NumField() {
			field := v.Type().Field(i)
			err := walk(leaf{path: under(at.path, field.Tag.Get("json")), value: v.Field(i),
				secret: field.Tag.Get("secret") == "true", about: field.Tag.Get("doc")}, f)
			if err != nil {
				return err
			}
		}
		return nil
	case v.Kind() == reflect.Map && v.Len() > 0:
		keys := v.MapKeys()
		slices.SortFunc(keys, func(a, b reflect.Value) int { return strings.Compare(a.String(), b.String()) })
		for _, key := range keys {
			item := reflect.New(v.Type().Elem()).Elem()
			item.Set(v.MapIndex(key))
			err := walk(leaf{path: under(at.path, key.String()), value: item, secret: at.secret, about: at.about}, f)
			if err != nil {
				return err
			}
			v.SetMapIndex(key, item)
		}
		return nil
	}
	return f(leaf{at.path, at.value, at.secret, at.about})
}

func under(path, name string) string { return strings.TrimPrefix(path+"."+name, ".") }

// Variable returns the name of the environment variable of a setting.
func Variable(path string) string {
	for _, many := range []string{"connections.", "outlets.", "places.", "queues."} {
		if rest, ok := strings.CutPrefix(path, many); ok {
			path = strings.TrimSuffix(many, "s.") + "." + rest
		}
	}
	return "MULLEIN_" + strings.ToUpper(strings.NewReplacer(".", "_", "-", "_").Replace(path))
}

// overlay takes what the environment and flags say.
func (l *Loaded) overlay(from From) error {
	env := map[string]string{}
	for _, e := range from.Environ {
		name, value, _ := strings.Cut(e, "=")
		env[name] = value
		if of, ok := strings.CutPrefix(name, Variable("connections.")); ok {
			if of, ok = strings.CutSuffix(of, "_FILE"); ok {
				value = "" // which is read from the file below
			}
			l.connection(strings.ToLower(strings.ReplaceAll(of, "_", "-")), value, name)
		}
	}
	return l.leaves(func(at leaf) error {
		name := Variable(at.path)
		value, given := env[name]
		if file, ok := env[name+"_FILE"]; ok && !given {
			text, err := os.ReadFile(file)
			if err != nil {
				return fmt.Errorf("%s_FILE: %w", name, err)
			}
			name, value, given = name+"_FILE", strings.TrimRight(string(text), "\r\n"), true
		}
		if given {
			if err := set(at.value, value); err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
			l.sources[at.path] = name
		}
		flags, given := from.Given[at.path]
		if !given {
			return nil
		}
		l.sources[at.path] = "--" + strings.NewReplacer(".", "-", "_", "-", "landing_roots", "landing-root").Replace(at.path)
		if at.value.Kind() == reflect.Slice {
			at.value.Set(reflect.ValueOf(flags))
			return nil
		}
		if err := set(at.value, flags[len(flags)-1]); err != nil {
			return fmt.Errorf("%s: %w", l.sources[at.path], err)
		}
		return nil
	})
}

func (l *Loaded) connection(name, url, source string) {
	if l.Connections == nil {
		l.Connections = map[string]string{}
	}
	l.Connections[name] = url
	l.sources["connections."+name] = source
}

// set reads a value: a text, or YAML where it is more.
func set(to reflect.Value, text string) error {
	switch at := to.Addr().Interface().(type) {
	case *string:
		*at = text
		return nil
	case *Span:
		return at.Set(text)
	case *int:
		n, err := strconv.Atoi(text)
		if err != nil {
			return fmt.Errorf("%q is no whole number", text)
		}
		*at = n
		return nil
	default:
		if err := yaml.UnmarshalWithOptions([]byte(text), at, yaml.Strict()); err != nil {
			return fmt.Errorf("it is no such list or mapping: %w", err)
		}
		return nil
	}
}

// Value is a setting as it is shown.
type Value struct {
	Name   string `json:"name" doc:"Its path in the settings file"`
	Value  string `json:"value" doc:"As YAML; a secret is not shown"`
	Source string `json:"source" doc:"Where it comes from: default, a file with its line, a variable of the environment, or a flag"`
	About  string `json:"about" doc:"What it is"`
}

// hidden stands for a secret.
const hidden = "(secret)"

// List returns all settings, in the order of their documentation. Secrets are not in it.
func (l *Loaded) List() (out []Value) {
	_ = l.leaves(func(at leaf) error {
		source := l.sources[at.path]
		if line, _, ok := l.at(at.path); ok && source == "" {
			source = fmt.Sprintf("%s:%d", l.File, line)
		}
		if source == "" {
			source = "default"
		}
		text := fmt.Sprint(at.value.Interface())
		switch {
		case at.value.IsZero() && at.value.Kind() != reflect.Int64:
			if text = ""; source == "default" && strings.Count(at.path, ".") > 1 { // of an outlet that does not have it
				return nil
			}
		case at.secret:
			text = hidden
		case at.value.Kind() == reflect.Slice || at.value.Kind() == reflect.Map:
			flow, err := yaml.MarshalWithOptions(at.value.Interface(), yaml.Flow(true))
			if err != nil {
				return err
			}
			text = strings.TrimSpace(string(flow))
		}
		out = append(out, Value{at.path, text, source, at.about})
		return nil
	})
	return out
}

// at returns where a setting stands in the file.
func (l *Loaded) at(path string) (line, column int, ok bool) {
	node := l.root
	for _, name := range strings.Split(path, ".") {
		switch n := node.(type) {
		case *ast.MappingNode:
			i := slices.IndexFunc(n.Values, func(v *ast.MappingValueNode) bool { return v.Key.GetToken().Value == name })
			if i < 0 {
				return 0, 0, false
			}
			node, line, column = n.Values[i].Value, n.Values[i].Key.GetToken().Position.Line,
				n.Values[i].Key.GetToken().Position.Column
		case *ast.SequenceNode:
			i, err := strconv.Atoi(name)
			if err != nil || i >= len(n.Values) {
				return 0, 0, false
			}
			node = n.Values[i]
			line, column = node.GetToken().Position.Line, node.GetToken().Position.Column
		default:
			return 0, 0, false
		}
	}
	return line, column, true
}

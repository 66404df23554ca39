package feed

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// A feed may be of several kinds of files: captures of their names stand in the
// table, and each kind may have a schema of its own. Such a feed holds a whole
// feed for each kind's schema; [Feed.Of] gives the one that a file belongs to,
// with its table.

// capture is a name in braces.
var capture = regexp.MustCompile(`\{([^{}]*)\}`)

// capturesIn lists the captures that stand in a text.
func capturesIn(text string) []string {
	var out []string
	for _, m := range capture.FindAllStringSubmatch(text, -1) {
		if !slices.Contains(out, m[1]) {
			out = append(out, m[1])
		}
	}
	return out
}

// kindName is what a capture's value must be, to become part of a table's name.
var kindName = regexp.MustCompile(`^[\pL\pN_-]{1,40}$`)

// HasKinds reports whether the feed's files end in several tables.
func (f *Feed) HasKinds() bool { return len(capturesIn(f.Target.Schema+"."+f.Target.Table)) > 0 }

// Of returns the feed for a file with such captures: with its table's name written
// out and its kind's schema. The feed itself where it has no kinds.
func (f *Feed) Of(captures map[string]any) (*Feed, error) {
	if !f.HasKinds() {
		return f, nil
	}
	of := f
	if f.By != "" {
		kind := fmt.Sprint(captures[f.By])
		if of = f.ByKind[kind]; of == nil {
			return nil, fmt.Errorf("its %s is %q, and the feed has no schema for it", f.By, kind)
		}
	}
	var wrong error
	expand := func(text string) string {
		return capture.ReplaceAllStringFunc(text, func(c string) string {
			name := strings.Trim(c, "{}")
			value := fmt.Sprint(captures[name])
			if captures[name] == nil || !kindName.MatchString(value) {
				wrong = fmt.Errorf("its %s, %q, cannot be part of a table's name: letters, digits, _ and -, up to 40",
					name, value)
			}
			return value
		})
	}
	out := *of
	out.Target.Schema, out.Target.Table = expand(f.Target.Schema), expand(f.Target.Table)
	if wrong == nil && notForData(out.Target.Schema) {
		wrong = fmt.Errorf("the schema %s is not for data", out.Target.Schema)
	}
	if wrong == nil && (len(out.Target.Schema) > 63 || len(out.Target.Table) > 63) {
		wrong = fmt.Errorf("the table's name, %s, is longer than 63 bytes", out.Target.Table)
	}
	return &out, wrong
}

// Ends returns the feed as it ends in a table, nil when it does not end there.
func (f *Feed) Ends(schema, table string) *Feed {
	if !f.HasKinds() {
		if f.Target.Schema == schema && f.Target.Table == table {
			return f
		}
		return nil
	}
	pattern := regexp.QuoteMeta(f.Target.Schema + "." + f.Target.Table)
	names := capturesIn(f.Target.Schema + "." + f.Target.Table)
	for _, name := range names {
		quoted := regexp.QuoteMeta("{" + name + "}")
		pattern = strings.Replace(pattern, quoted, "(?P<c"+fmt.Sprint(slices.Index(names, name))+">.+)", 1)
		pattern = strings.ReplaceAll(pattern, quoted, ".+")
	}
	match := regexp.MustCompile("^" + pattern + "$").FindStringSubmatch(schema + "." + table)
	if match == nil {
		return nil
	}
	captures := map[string]any{}
	for i, name := range names {
		captures[name] = match[i+1]
	}
	of, err := f.Of(captures)
	if err != nil || of.Target.Schema != schema || of.Target.Table != table {
		return nil
	}
	return of
}

// kinds reads a feed with a schema for each kind: each is the whole file with its
// schema in place of all.
func (r *reader) kinds(root *node) *Feed {
	schema := root.get("schema")
	by, kinds := schema.get("by"), schema.get("kinds")
	if by == nil || by.shape != scalar {
		r.failAt(schema, "schema.by is missing: the capture that tells the kinds of files apart")
		return nil
	}
	if kinds.shape != mapping || len(kinds.fields) == 0 || len(kinds.fields) > 200 {
		r.failAt(schema, "schema.kinds takes from 1 to 200 schemas, by the values of {%s}", by.text)
		return nil
	}
	all := map[string]*Feed{}
	var first *Feed
	for _, k := range kinds.fields {
		of := *root
		of.fields = slices.Clone(root.fields)
		for i := range of.fields {
			if of.fields[i].name == "schema" {
				of.fields[i].value = k.value
			}
		}
		r.walk(&of, grammar(), "")
		if len(r.problems) > 0 {
			return nil
		}
		f := r.feed(&of)
		if len(r.problems) > 0 {
			return nil
		}
		all[k.name] = f
		if first == nil {
			first = f
		}
	}
	out := *first
	out.By, out.ByKind = by.text, all
	if !slices.Contains(out.Landing.Files.Names(), by.text) {
		r.failAt(by, "schema.by: the pattern of the files has no capture {%s}", by.text)
	} else if !slices.Contains(capturesIn(out.Target.Schema+"."+out.Target.Table), by.text) {
		r.failAt(root.get("target").get("table"), "target.table: each kind has columns of its own and needs a table "+
			"of its own: put {%s} into its name", by.text)
	}
	return &out
}

// inlineKinds writes the schemas of all kinds in the place of a path with a
// capture, such as schemas/{kind}.json.
func inlineKinds(path string, list func(glob string) ([]string, error),
	read func(name string) ([]byte, error)) (string, error) {
	names := capturesIn(path)
	if len(names) != 1 || strings.Count(path, "{") != 1 {
		return "", fmt.Errorf("%q: one capture may stand in the path of schemas", path)
	}
	before, after, _ := strings.Cut(path, "{"+names[0]+"}")
	files, err := list(before + "*" + after)
	if err != nil {
		return "", err
	}
	slices.Sort(files)
	var kinds []string
	for _, file := range files {
		content, err := read(file)
		if err != nil {
			return "", err
		}
		schema, err := SchemaFile(content)
		if err != nil {
			return "", fmt.Errorf("%s: %w", file, err)
		}
		kind := strings.TrimSuffix(strings.TrimPrefix(file, before), after)
		kinds = append(kinds, fmt.Sprintf("%q: %s", kind, schema))
	}
	if len(kinds) == 0 {
		return "", fmt.Errorf("there is no file like %s", path)
	}
	return fmt.Sprintf("{by: %q, kinds: {%s}}", names[0], strings.Join(kinds, ", ")), nil
}

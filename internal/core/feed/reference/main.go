// Command reference writes docs/feed.schema.json and docs/feed-file.md, and the same of extracts, from
// the grammars of their files. `make docs` runs it.
package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"mullein/internal/core/feed"
)

func main() {
	if err := write(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func write() error {
	if err := writeSchema("docs/feed.schema.json", feed.JSONSchema); err != nil {
		return err
	}
	if err := writeExtracts(); err != nil {
		return err
	}
	example, err := os.ReadFile("internal/demo/feeds/gauge-readings.yaml")
	if err != nil {
		return err
	}
	var b strings.Builder
	b.WriteString(head)
	b.WriteString("```yaml\n" + string(example) + "```\n\n## Every key\n\n")
	table(&b, feed.Reference())
	if err := examples(&b, "examples"); err != nil {
		return err
	}
	b.WriteString(tail)
	return os.WriteFile("docs/feed-file.md", []byte(b.String()), 0o644)
}

func writeSchema(file string, of func() ([]byte, error)) error {
	schema, err := of()
	if err != nil {
		return err
	}
	return os.WriteFile(file, append(schema, '\n'), 0o644)
}

// writeExtracts writes what there is of extracts.
func writeExtracts() error {
	if err := writeSchema("docs/extract.schema.json", feed.ExtractJSONSchema); err != nil {
		return err
	}
	var b strings.Builder
	b.WriteString(extractHead)
	table(&b, feed.ExtractReference())
	if err := examples(&b, "examples/extracts"); err != nil {
		return err
	}
	return os.WriteFile("docs/extract-file.md", []byte(strings.TrimRight(b.String(), "\n")+"\n"), 0o644)
}

const extractHead = `# The file of an extract

<!-- Written by make docs from the grammar in internal/core/feed. -->

One YAML file is one extract; [extracts.md](extracts.md) says what it does. ` + "`mullein extract check FILE`" + ` says what is wrong with it, with line and
column, and needs no service.

## Every key

`

// table adds the keys of a grammar.
func table(b *strings.Builder, keys []feed.KeyReference) {
	b.WriteString("| key | takes | what it says |\n|---|---|---|\n")
	for _, k := range keys {
		about := k.About
		if k.Required {
			about += " **Needed.**"
		}
		fmt.Fprintf(b, "| `%s` | %s | %s |\n", k.Path, k.Takes, strings.ReplaceAll(strings.TrimSpace(about), "|", "\\|"))
	}
}

// examples adds those of a folder of docs, in which every key stands.
func examples(b *strings.Builder, folder string) error {
	files, err := filepath.Glob("docs/" + folder + "/*.yaml")
	if err != nil {
		return err
	}
	fmt.Fprintf(b, "\n## Every key, in examples\n\nThey lie in [examples](%s), and a test reads them.\n\n", folder)
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		fmt.Fprintf(b, "```yaml\n%s```\n\n", text)
	}
	return nil
}

const head = `# The feed file

<!-- Written by make docs from the grammar in internal/core/feed. -->

One YAML file is one feed. ` + "`mullein feed check FILE`" + ` says what is wrong with it, with line and column,
and needs no service; ` + "`mullein feed put FILE`" + ` creates the feed or makes a new version of it.
Editors that know JSON Schema can use [feed.schema.json](feed.schema.json); a service serves it at ` +
	"`/api/v1/feed-schema`" + `.

Columns and dialect follow the open standards Table Schema and Table Dialect (Data Package v2). Ours are ` +
	"`source`" + ` of a
field, and that ` + "`primaryKey`" + ` chooses one row a key instead of failing. Expressions are CEL, times are written
with POSIX strftime tokens, schedules are five-field cron.

## An example

`

const tail = `
## Good to know

- **Which files.** ` + "`*`" + ` and ` + "`?`" + ` stay within a folder, ` + "`**`" + ` crosses folders, ` +
	"`[a-z]`" + ` is one of these characters, ` + "`(a|b)`" + ` one of
  these texts. ` + "`{name}`" + ` captures text, ` + "`{name:%Y%m%d}`" + ` a time, ` + "`{name:#}`" +
	` a whole number. ` + "`{slot}`" + ` is the capture that
  order looks at: arrivals load in the order of slot, then modified time, then name. A name with an impossible time,
  such as 31 February, does not belong. Dot-files and names that end in .tmp, .part or .filepart never do.
- **Reading and checking.** [reading-and-checking.md](reading-and-checking.md) says what each format, type and check does.
- **New, whole, late, missing.** [new-whole-late-missing.md](new-whole-late-missing.md) says how that is decided.
- **Paths.** ` + "`whole_when`" + `, ` + "`put_away`" + ` and ` + "`quarantine`" + ` are made of ` + "`{path}`" +
	`, ` + "`{stem}`" + ` (the path without its last extension), ` + "`{name}`" + `
  (without folders) and the captures, times with a form: ` + "`done/{slot:%Y/%m}/{catchment}`" + `. Where neither ` +
	"`{name}`" + ` nor ` + "`{path}`" + `
  stands in the folder of ` + "`put_away`" + ` or ` + "`quarantine`" + `, the file keeps its name in it.
- **Types.** string → text (format binary → bytea, uuid → uuid), integer → bigint, number → numeric, boolean →
  boolean, datetime → timestamp with time zone, date → date, time → time, year → bigint, yearmonth → date (its first
  day), duration → interval, geopoint → point (longitude, latitude), object, array, list and geojson → jsonb, any → text.
  Nothing is guessed: a datetime without a format is ISO 8601.
- **Expressions.** [What they can say](expressions.md), with an example of each name and function.
- **Null.** A derived column is null when its expression fails because a column that it reads is null. Names are
  ` + "`row.<column>`" + `, ` + "`file.name|path|size|modified|digest|captures.<name>`" + `, ` +
	"`run.id|by|cause|started`" + `, ` + "`feed.name|version`" + ` and
  ` + "`service`" + `.
- **One row a key.** The greatest ` + "`target.newest`" +
	` wins, null being the oldest, then the later line. An older row never
  overwrites a newer one in the table: it is counted as outdated.
- **Unique.** Of the rows with the same value in a column that is ` + "`unique`" +
	`, or the same values in the fields of one of
  ` + "`uniqueKeys`" +
	`, the first in the file stays; the others are rejects. Rows with a null among them are left alone, and so they
  are by ` + "`foreignKeys`" + `.
`

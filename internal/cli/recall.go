package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"mullein/internal/api"
	"mullein/internal/client"
)

func (c *command) recall() *cobra.Command {
	var r api.Recall
	cmd := &cobra.Command{Use: "recall ARRIVAL", Short: "Take what an arrival loaded out of its table again",
		Long: `Take what an arrival loaded out of its table again.

The rows become what they would be if it had never been loaded: what it inserted
goes, what it changed comes back, and what later loads did to those rows is done
again. Rows that somebody else has changed since are left, and listed.
--preview says what would become of the rows and does nothing.`, Args: arguments(1, 1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			n, err := number(args[0], "an arrival")
			if err != nil {
				return err
			}
			if !r.Preview && r.Because == "" {
				return usageError{errors.New("recall needs --because \"...\", which is kept; or --preview")}
			}
			out, err := service.Recall(ctx, n, r)
			if err != nil {
				return err
			}
			return c.show(out, func() { c.recalled(out) })
		})}
	cmd.Flags().StringVar(&r.Because, "because", "", "why; it is kept with who and when")
	cmd.Flags().BoolVar(&r.Preview, "preview", false, "only say what would become of the rows")
	cmd.Flags().BoolVar(&r.Back, "undo", false, "undo a recall: put back what was recalled")
	return cmd
}

func numbers(list []int64) string {
	out := make([]string, len(list))
	for i, n := range list {
		out[i] = strconv.FormatInt(n, 10)
	}
	return strings.Join(out, ", ")
}

func (c *command) recalled(r api.Recalled) {
	done := "Done"
	if r.Preview {
		done = "Preview; nothing was done"
	}
	c.pairs([][2]string{{"table", r.Table}, {"taken out", prefixed("arrival ", numbers(r.Arrivals))},
		{"put back", prefixed("arrival ", numbers(r.Back))}})
	o := r.Outcome
	c.say("\n%s: %s removed, %s restored, %s returned", done, rowsOf(o.Removed), rowsOf(o.Restored),
		rowsOf(o.Returned))
	if o.Same > 0 {
		c.say(", %s as later loads have them", rowsOf(o.Same))
	}
	if o.Left > 0 {
		c.say("; %s left, because somebody else has changed them since", rowsOf(o.Left))
	}
	fmt.Fprintln(c.out, ".")
	if len(o.Samples) > 0 {
		fmt.Fprintln(c.out)
		t := &grid{head: []string{"WHAT", "ROW", "BEFORE", "AFTER"}}
		for _, s := range o.Samples {
			row, before, after := differences(r.Key, s.Before, s.After)
			t.add(text(s.What), text(row), text(before), text(after))
		}
		t.write(c.out)
	}
	if len(r.Later) > 0 {
		fmt.Fprintln(c.out, "\nLater loads that may have left rows alone because of it:")
		t := &grid{head: []string{"ARRIVAL", "PATH", "BALANCE", "ITS FILE"}}
		for _, l := range r.Later {
			what := "held against these rows; " + rowsOf(l.Rows) + " of theirs"
			if l.Why != "" {
				what = "not read again: " + l.Why
			}
			t.add(id(l.Arrival), text(shorten(l.Path, 50)), text(balanceLine(l.Balance)), text(what))
		}
		t.write(c.out)
	}
}

func prefixed(prefix, s string) string {
	if s == "" {
		return ""
	}
	return prefix + s
}

func rowsOf(n int64) string {
	if n == 1 {
		return "1 row"
	}
	return grouped(n) + " rows"
}

// column is a column of a row, as text.
type column struct{ name, value string }

// columnsOf reads the columns of a row, in their order; none for null.
func columnsOf(row json.RawMessage) []column {
	d := json.NewDecoder(bytes.NewReader(row))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return nil
	}
	var out []column
	for d.More() {
		name, err := d.Token()
		var value json.RawMessage
		if err != nil || d.Decode(&value) != nil {
			return out
		}
		c := column{fmt.Sprint(name), string(value)}
		var s string
		switch {
		case string(value) == "null":
			c.value = "-"
		case json.Unmarshal(value, &s) == nil:
			c.value = s
		}
		out = append(out, c)
	}
	return out
}

// minor are lineage columns that tell a reader of a table nothing.
var minor = []string{"row_digest", "loaded_at", "loaded_run", "from_line", "from_file"}

// differences shows which row it is and what differs between before and after;
// where there is only one of them, all of it.
func differences(key []string, before, after json.RawMessage) (row, was, is string) {
	a, b := columnsOf(before), columnsOf(after)
	var keys, old, now []string
	for i := range max(len(a), len(b)) {
		c := append(a[min(i, len(a)):], b[min(i, len(b)):]...)[0]
		switch {
		case slices.Contains(key, c.name):
			keys = append(keys, c.name+"="+c.value)
			continue
		case slices.Contains(minor, c.name), len(a) == len(b) && a[i] == b[i]:
			continue
		}
		if len(a) > 0 {
			old = append(old, a[i].name+"="+a[i].value)
		}
		if len(b) > 0 {
			now = append(now, b[i].name+"="+b[i].value)
		}
	}
	return shorten(strings.Join(keys, " "), 70), shorten(strings.Join(old, " "), 60),
		shorten(strings.Join(now, " "), 60)
}

func (c *command) row() *cobra.Command {
	return &cobra.Command{Use: "row TABLE KEY=VALUE...", Short: "Where a row came from: each load that touched it",
		Args: arguments(2, -1), RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			h, err := service.Row(ctx, args[0], args[1:])
			if err != nil {
				return err
			}
			return c.show(h, func() { c.history(ctx, service, h) })
		})}
}

func (c *command) history(ctx context.Context, service *client.Client, h api.RowHistory) {
	if len(h.Steps) == 0 {
		c.say("%s has no such row, and the journal knows none.\n", h.Table)
		return
	}
	if columnsOf(h.Now) == nil {
		c.say("%s does not have the row any more.\n\n", h.Table)
	}
	t := &grid{head: []string{"AT", "WHAT", "FEED", "ARRIVAL", "FILE", "LINE", "BEFORE", "AFTER", "RECORD"}}
	for _, s := range h.Steps {
		var of, path, record string
		arrival, line := cell{}, cell{}
		what := s.What
		if s.Load != nil {
			of, path, arrival = s.Load.Feed, s.Load.Path, id(s.Load.Arrival)
			if !s.Load.Active {
				what += ", recalled"
			}
			if s.Line > 0 {
				line = integer(s.Line)
				if o, err := service.Original(ctx, s.Load.Arrival, s.Line); err == nil {
					record = o.Text
					if o.Why != "" {
						record = "(" + o.Why + ")"
					}
				}
			}
		}
		_, before, after := differences(h.Key, s.Before, s.After)
		t.add(when(s.At), text(what), text(of), arrival, text(shorten(path, 40)), line, text(before), text(after),
			text(shorten(record, 60)))
	}
	t.write(c.out)
}

func (c *command) verify() *cobra.Command {
	return &cobra.Command{Use: "verify ARRIVAL", Short: "Hold an arrival's file against the table, row by row",
		Args: arguments(1, 1), RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			n, err := number(args[0], "an arrival")
			if err != nil {
				return err
			}
			v, err := service.Verify(ctx, n)
			if err != nil {
				return err
			}
			if err := c.show(v, func() {
				c.pairs([][2]string{{"same", rowsOf(v.Same) + " of the file stand in the table as they are"},
					{"later", rowsOf(v.Later) + " that later loads have written"},
					{"newer", rowsOf(v.Newer) + " whose key an earlier load keeps, because it is newer"},
					{"gone", rowsOf(v.Gone) + " whose key another load has removed, or a newer one does not have"},
					{"different", rowsOf(v.Different) + " that the table holds otherwise, and no later load did it"},
					{"missing", rowsOf(v.Missing) + " whose key the table does not have"},
					{"repeated", rowsOf(v.Repeated) + " that lost against another row of the file"}})
				if len(v.Samples) > 0 {
					fmt.Fprintln(c.out)
					t := &grid{head: append([]string{"WHAT", "LINE"}, v.Columns...)}
					for _, s := range v.Samples {
						row := []cell{text(s.What), integer(s.Line)}
						for _, x := range s.Values {
							row = append(row, text(shorten(valueOr(x, "-"), 30)))
						}
						t.add(row...)
					}
					t.write(c.out)
				}
			}); err != nil {
				return err
			}
			if v.Different+v.Missing > 0 {
				return errWrong
			}
			return nil
		})}
}

func valueOr(s *string, none string) string {
	if s == nil {
		return none
	}
	return *s
}

func (c *command) target() *cobra.Command {
	collapse, rows, most := false, false, 20
	cmd := &cobra.Command{Use: "target TABLE", Short: "A table that feeds end in: its shape, its sizes, its last " +
		"loads", Args: arguments(1, 1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			if collapse {
				out, err := service.Collapse(ctx, args[0])
				if err != nil {
					return err
				}
				return c.show(out, func() {
					c.say("%s: %s went; each key stands once now\n", args[0],
						rowsOf(out.Rows))
				})
			}
			v, err := service.Target(ctx, args[0])
			if err != nil {
				return err
			}
			if rows {
				if len(v.Feeds) == 0 {
					return fmt.Errorf("no feed ends in %s now; mullein sql shows its rows", args[0])
				}
				found, err := service.Rows(ctx, v.Feeds[0], v.Table, 0, most)
				if err != nil {
					return err
				}
				return c.show(found, func() { c.rowTable(found) })
			}
			return c.show(v, func() { c.targetView(v) })
		})}
	cmd.Flags().BoolVar(&rows, "rows", false, "show rows instead")
	cmd.Flags().IntVar(&most, "limit", most, "with --rows: how many, 1 to 1000")
	cmd.Flags().BoolVar(&collapse, "collapse", false, "where keys stand more than once: leave the newest row of each, "+
		"and make the key")
	return cmd
}

func (c *command) targetView(v api.TargetView) {
	c.pairs([][2]string{{"table", v.Table}, {"about", v.About}, {"feeds", strings.Join(v.Feeds, ", ")},
		{"mode", strings.TrimSuffix(v.Mode+" by "+strings.Join(v.Key, ", "), " by ")},
		{"rows", grouped(v.Rows)}, {"size", bytesOf(v.Bytes) + ", and " + bytesOf(v.IndexBytes) + " of indexes"},
		{"journal", grouped(v.Entries) + " entries, kept " + v.Kept}})
	fmt.Fprintln(c.out)
	t := &grid{head: []string{"COLUMN", "TYPE", "KEY", "NOT NULL", "ABOUT"}}
	for _, col := range v.Columns {
		t.add(text(col.Name), text(col.Type), text(yes(col.Key)), text(yes(col.NotNull)), text(shorten(col.About, 60)))
	}
	t.write(c.out)
	fmt.Fprintln(c.out)
	t = &grid{head: []string{"AT", "ARRIVAL", "FEED", "PATH", "BALANCE", "ROWS BEFORE", "AFTER", ""}}
	for _, l := range v.Loads {
		before, after, off := cell{}, cell{}, ""
		if l.RowsBefore != nil {
			before, after = integer(*l.RowsBefore), integer(*l.RowsAfter)
		}
		if !l.Active {
			off = "recalled"
		}
		t.add(when(&l.CommittedAt), id(l.Arrival), text(l.Feed), text(shorten(l.Path, 40)),
			text(balanceLine(l.Balance)), before, after, text(off))
	}
	t.write(c.out)
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return ""
}

func bytesOf(n int64) string {
	const units = "KMGT"
	if n < 1024 {
		return strconv.FormatInt(n, 10) + " B"
	}
	x, i := float64(n)/1024, 0
	for x >= 1024 && i < len(units)-1 {
		x, i = x/1024, i+1
	}
	return fmt.Sprintf("%.1f %ciB", x, units[i])
}

package cli

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"mullein/internal/api"
	"mullein/internal/client"
	"mullein/internal/reading"
)

func (c *command) rejects() *cobra.Command {
	var most int
	cmd := &cobra.Command{Use: "rejects FEED|ARRIVAL", Short: "Rows that were left out, and why",
		Args: arguments(1, 1), RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			feed, arrival, err := feedOrArrival(ctx, service, args[0])
			if err != nil {
				return err
			}
			groups, err := service.RejectGroups(ctx, feed, arrival)
			if err != nil {
				return err
			}
			list, err := service.Rejects(ctx, feed, arrival, api.Reject{}, most)
			if err != nil {
				return err
			}
			return c.show(list, func() { c.rejectTables(groups, list) })
		})}
	cmd.Flags().IntVar(&most, "limit", 50, "how many, 1 to 1000")
	cmd.AddCommand(c.exportRejects(), c.handIn())
	return cmd
}

func (c *command) rejectTables(groups api.RejectGroupList, list api.RejectList) {
	if len(list.Items) == 0 {
		fmt.Fprintln(c.out, "No rejects.")
		return
	}
	t := &grid{head: []string{"BROKE", "COLUMN", "REJECTS", "OPEN", "ARRIVALS", "EXAMPLE", "WHY"}}
	for _, g := range groups.Items {
		t.add(text(g.Rule), text(g.ColumnName), integer(g.Count), integer(g.Open), integer(g.Arrivals),
			text(shorten(g.Example, 24)), text(shorten(g.Reason, 60)))
	}
	t.write(c.out)
	var unkept int64
	for _, g := range groups.Items {
		unkept += g.Count - g.Kept
	}
	if unkept > 0 {
		c.say("%s of them are counted only: the first 1,000 of a file are kept\n", grouped(unkept))
	}
	fmt.Fprintln(c.out)
	t = &grid{head: []string{"ARRIVAL", "PATH", "LINE", "COLUMN", "VALUE", "WHY", "ORIGINAL"}}
	for _, r := range list.Items {
		why := r.Reason
		if r.MendedIn != nil {
			why = fmt.Sprintf("mended in arrival %d", *r.MendedIn)
		}
		t.add(id(r.ArrivalID), text(r.Path), id(r.Line), text(r.ColumnName), text(shorten(r.Value, 24)),
			text(shorten(why, 60)), text(shorten(r.Original, 70)))
	}
	t.write(c.out)
	if list.More {
		c.say("There are more; --limit takes up to 1000.\n")
	}
}

// rejectColumns are those of an export. A person changes original.
var rejectColumns = []string{"arrival", "number", "path", "line", "column", "value", "reason", "original"}

func (c *command) exportRejects() *cobra.Command {
	var to string
	cmd := &cobra.Command{Use: "export FEED|ARRIVAL",
		Short: "Rejects as CSV, with the reason; mend the column original, then hand it in", Args: arguments(1, 1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			feed, arrival, err := feedOrArrival(ctx, service, args[0])
			if err != nil {
				return err
			}
			out := c.out
			if to != "" {
				file, err := os.Create(to)
				if err != nil {
					return err
				}
				defer file.Close()
				out = file
			}
			return exportTo(ctx, service, feed, arrival, out)
		})}
	cmd.Flags().StringVar(&to, "to", "", "a file (default: what the terminal shows)")
	return cmd
}

// exportTo writes rejects that are not mended yet, page by page.
func exportTo(ctx context.Context, service *client.Client, feed string, arrival int64, to io.Writer) error {
	w := csv.NewWriter(to)
	if err := w.Write(rejectColumns); err != nil {
		return err
	}
	var last api.Reject
	for {
		const page = 1000
		list, err := service.Rejects(ctx, feed, arrival, last, page)
		if err != nil {
			return err
		}
		for _, r := range list.Items {
			last = r.Reject
			if r.MendedIn != nil {
				continue
			}
			if err := w.Write([]string{strconv.FormatInt(r.ArrivalID, 10), strconv.Itoa(r.Number), guarded(r.Path),
				strconv.FormatInt(r.Line, 10), guarded(r.ColumnName), guarded(r.Value), guarded(r.Reason),
				guarded(r.Original)}); err != nil {
				return err
			}
		}
		if !list.More {
			w.Flush()
			return w.Error()
		}
	}
}

// guarded puts an apostrophe before a cell that a spreadsheet would take for a formula,
// and before one that has such a guard already.
func guarded(cell string) string {
	if cell != "" && strings.ContainsRune("=+-@\t\r'", rune(cell[0])) {
		return "'" + cell
	}
	return cell
}

// unguarded takes the guard off again.
func unguarded(cell string) string {
	if bare, ok := strings.CutPrefix(cell, "'"); ok && guarded(bare) != bare {
		return bare
	}
	return cell
}

func (c *command) handIn() *cobra.Command {
	var because string
	cmd := &cobra.Command{Use: "hand-in FILE", Short: "Load rejects that were mended in an export; rows left as they " +
		"were are passed over", Args: arguments(1, 1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			if because == "" {
				return usageError{errors.New("hand-in needs --because \"...\": the reason is kept")}
			}
			mended, order, err := readMended(ctx, service, args[0])
			if err != nil {
				return err
			}
			if len(order) == 0 {
				fmt.Fprintln(c.out, "Nothing was changed in the column original; nothing is handed in.")
				return nil
			}
			var out []api.Arrival
			for _, of := range order {
				a, err := service.Mend(ctx, of, api.Mend{Rows: mended[of], Because: because})
				if err != nil {
					return err
				}
				out = append(out, a)
			}
			return c.show(out, func() {
				for i, a := range out {
					c.say("%d rows of arrival %d are handed in as arrival %d.\n", len(mended[order[i]]),
						order[i], a.ID)
				}
			})
		})}
	cmd.Flags().StringVar(&because, "because", "", "why; it is kept with who and when")
	return cmd
}

// readMended reads an export and finds the rows that were changed.
func readMended(ctx context.Context, service *client.Client, name string) (mended map[int64][]api.MendedRow,
	order []int64, err error) {
	file, err := os.Open(name)
	if err != nil {
		return nil, nil, err
	}
	defer file.Close()
	r := csv.NewReader(file)
	head, err := r.Read()
	if err != nil || strings.Join(head, ",") != strings.Join(rejectColumns, ",") {
		return nil, nil, fmt.Errorf("%s: the first line must be %s, as rejects export writes it", name,
			strings.Join(rejectColumns, ","))
	}
	mended = map[int64][]api.MendedRow{}
	were := map[int64]map[int]string{}
	for {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return mended, order, nil
		}
		if err != nil {
			return nil, nil, fmt.Errorf("%s: %w", name, err)
		}
		line, _ := r.FieldPos(0)
		of, err1 := strconv.ParseInt(row[0], 10, 64)
		n, err2 := strconv.Atoi(row[1])
		if err1 != nil || err2 != nil {
			return nil, nil, fmt.Errorf("%s:%d: arrival and number must stay as they were exported", name, line)
		}
		if were[of] == nil {
			list, err := service.Rejects(ctx, "", of, api.Reject{}, reading.MaxRejects)
			if err != nil {
				return nil, nil, err
			}
			were[of] = map[int]string{}
			for _, reject := range list.Items {
				were[of][reject.Number] = reject.Original
			}
		}
		if text := unguarded(row[len(rejectColumns)-1]); text != were[of][n] {
			if mended[of] == nil {
				order = append(order, of)
			}
			mended[of] = append(mended[of], api.MendedRow{Number: n, Text: text})
		}
	}
}

func (c *command) checks() *cobra.Command {
	var most int
	cmd := &cobra.Command{Use: "checks FEED [CHECK]",
		Short: "What must be true of a feed's files, and what each check saw", Args: arguments(1, 2),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			if len(args) == 1 {
				list, err := service.Checks(ctx, args[0])
				if err != nil {
					return err
				}
				return c.show(list, func() { c.checkTable(list) })
			}
			list, err := service.CheckHistory(ctx, args[0], args[1], most)
			if err != nil {
				return err
			}
			return c.show(list, func() {
				t := &grid{head: []string{"WHEN", "ARRIVAL", "HELD", "SAW"}}
				for _, r := range list.Items {
					t.add(when(&r.At), id(r.ArrivalID), text(held(r.Held)), text(shorten(r.Saw, 100)))
				}
				t.write(c.out)
			})
		})}
	cmd.Flags().IntVar(&most, "limit", 30, "how many results, 1 to 1000")
	return cmd
}

func held(yes bool) string {
	if yes {
		return "holds"
	}
	return "broken"
}

func (c *command) checkTable(list api.FeedCheckList) {
	if len(list.Items) == 0 {
		fmt.Fprintln(c.out, "No checks beyond the columns' constraints.")
		return
	}
	t := &grid{head: []string{"CHECK", "OF", "ELSE", "LAST", "SAW", "MUST"}}
	for _, k := range list.Items {
		last, saw := "-", ""
		if k.Last != nil {
			last, saw = held(k.Last.Held), k.Last.Saw
		}
		t.add(text(k.Name), text(string(k.Scope)), text(string(k.Else)), text(last), text(shorten(saw, 60)),
			text(shorten(k.Must, 60)))
	}
	t.write(c.out)
}

func (c *command) rehearse() *cobra.Command {
	var r client.Rehearsed
	var send string
	cmd := &cobra.Command{Use: "rehearse FEED|FILE.yaml", Short: "Say what a load would do, and do nothing",
		Args: arguments(1, 1), RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			r.Feed = args[0]
			if strings.HasSuffix(args[0], ".yaml") || strings.HasSuffix(args[0], ".yml") {
				definition, err := readFeedFile(args[0])
				if err != nil {
					return err
				}
				r.Feed, r.Definition = "", string(definition)
			}
			if send != "" {
				file, err := os.Open(send)
				if err != nil {
					return err
				}
				defer file.Close()
				r.File, r.Name = file, filepath.Base(send)
			}
			out, err := service.Rehearse(ctx, r)
			if err != nil {
				return err
			}
			if err := c.show(out, func() { c.rehearsal(out) }); err != nil {
				return err
			}
			if out.Refused != "" {
				return errWrong
			}
			return nil
		})}
	cmd.Flags().StringVar(&r.Path, "file", "", "a file below the landing (default: the one that would be next)")
	cmd.Flags().StringVar(&send, "send", "", "a file of one's own, which is sent up")
	cmd.Flags().BoolVar(&r.Deep, "deep", false, "execute the statements too, and roll back")
	return cmd
}

func (c *command) rehearsal(r api.Rehearsal) {
	if !r.Waits {
		c.say("Nothing of %s would be loaded next: no file waits. This is about the newest that came.\n", r.Feed)
	}
	c.say("Rehearsal of %s for %s: nothing was loaded.\n", r.Path, r.Feed)
	if r.Refused != "" {
		c.say("It would be refused: %s\n", r.Refused)
	}
	if r.Known != "" {
		c.say("Of this very file: %s.\n", r.Known)
	}
	for _, s := range r.Shape {
		fmt.Fprintf(c.out, "  %s\n", harmlessLines(s, "  "))
	}
	fmt.Fprintln(c.out, balanceLine(r.Balance))
	for _, w := range r.Warnings {
		fmt.Fprintf(c.out, "Look at this: %s.\n", harmlessLines(w, "  "))
	}
	if len(r.Checks) > 0 {
		t := &grid{head: []string{"CHECK", "", "SAW"}}
		for _, k := range r.Checks {
			t.add(text(k.Name), text(held(k.Held)), text(shorten(k.Saw, 100)))
		}
		t.write(c.out)
	}
	if len(r.Samples) > 0 {
		t := &grid{head: append([]string{"LINE", "WOULD BE"}, r.Columns...)}
		for _, s := range r.Samples {
			cells := []cell{id(s.Line), text(s.What)}
			for i, v := range s.Values {
				shown := shorten(orNothing(v), 30)
				for _, k := range s.Changed {
					if k == i {
						shown = shorten(orNothing(s.Before[i]), 30) + " > " + shown
					}
				}
				cells = append(cells, text(shown))
			}
			t.add(cells...)
		}
		t.write(c.out)
	}
	if len(r.Rejects) > 0 {
		t := &grid{head: []string{"LINE", "COLUMN", "VALUE", "REJECTED BECAUSE"}}
		for _, k := range r.Rejects {
			t.add(id(k.Line), text(k.ColumnName), text(shorten(k.Value, 24)), text(shorten(k.Reason, 80)))
		}
		t.write(c.out)
	}
	if r.Traces != "" {
		c.say("Traces: %s.\n", r.Traces)
	}
}

func orNothing(v *string) string {
	if v == nil {
		return ""
	}
	return *v
}

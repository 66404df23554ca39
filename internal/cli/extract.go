package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"mullein/internal/api"
	"mullein/internal/client"
	"mullein/internal/core/feed"
)

// parsedExtract is the file of an extract that was read.
type parsedExtract struct {
	file, text string
	extract    *feed.Extract
}

// isExtract reports whether a file defines an extract.
func isExtract(path string) (bool, error) {
	f, err := os.Open(path)
	if err != nil {
		return false, err
	}
	defer f.Close()
	const looked = 64 << 10
	text, err := io.ReadAll(bufio.NewReader(io.LimitReader(f, looked)))
	return feed.IsExtract(text), err
}

func readExtract(path string) (parsedExtract, error) {
	text, err := readSmall(path)
	if err != nil {
		return parsedExtract{}, err
	}
	x, err := feed.ParseExtract(path, text)
	return parsedExtract{path, string(text), x}, err
}

// putExtracts returns what became of those that were put, up to the first that could not be.
func putExtracts(ctx context.Context, service *client.Client, extracts []parsedExtract) ([]api.ExtractChecked, error) {
	puts := []api.ExtractChecked{}
	for _, x := range extracts {
		put, err := service.PutExtract(ctx, x.extract.Name, x.file, x.text)
		if err != nil {
			return puts, fmt.Errorf("%s: %w", x.file, err)
		}
		puts = append(puts, put)
	}
	return puts, nil
}

func (c *command) extractsPut(puts []api.ExtractChecked) {
	for _, p := range puts {
		what := "as it was"
		switch {
		case p.Changed && p.Version == 1:
			what = "created"
		case p.Changed:
			what = "changed"
		}
		c.say("%s: %s, version %d\n", p.Extract, what, p.Version)
		for _, note := range p.Notes {
			c.say("  %s\n", note)
		}
	}
}

func (c *command) extract() *cobra.Command {
	cmd := &cobra.Command{Use: "extract", Short: "Rows of databases that are written as files into landings"}
	cmd.AddCommand(c.extractPut(), c.extractCheck(), c.extractList(), c.extractShow(), c.extractRun(), c.extractRehearse(), c.extractWindows(), c.extractMark(),
		c.extractPause("pause", "Keep runs from beginning by themselves", true), c.extractPause("resume", "End a pause", false),
		&cobra.Command{Use: "remove EXTRACT", Short: "Remove an extract and its history; the files that it wrote stay", Args: arguments(1, 1),
			RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
				return service.RemoveExtract(ctx, args[0])
			})})
	return cmd
}

func (c *command) extractPut() *cobra.Command {
	return &cobra.Command{Use: "put FILE...", Short: "Create or change extracts; how far they have come stays", Args: arguments(1, -1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			var extracts []parsedExtract
			for _, path := range args {
				x, err := readExtract(path)
				if err != nil {
					return err
				}
				extracts = append(extracts, x)
			}
			puts, err := putExtracts(ctx, service, extracts)
			return errors.Join(err, c.show(puts, func() { c.extractsPut(puts) }))
		})}
}

func (c *command) extractCheck() *cobra.Command {
	return &cobra.Command{Use: "check FILE...", Short: "Say what is wrong with files of extracts, without a service", Args: arguments(1, -1),
		RunE: func(_ *cobra.Command, args []string) error {
			wrong := false
			for _, path := range args {
				switch x, err := readExtract(path); {
				case errors.As(err, new(feed.Problems)):
					wrong = true
					fmt.Fprintln(c.out, err)
				case err != nil:
					return err
				default:
					c.say("%s: good. extract %s -> %s/%s\n", path, x.extract.Name, x.extract.Files.Landing.At, x.extract.Files.Name)
				}
			}
			if wrong {
				return errWrong
			}
			return nil
		}}
}

func (c *command) extractList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "All extracts, and how far they have come", Args: arguments(0, 0),
		RunE: c.call(func(ctx context.Context, service *client.Client, _ []string) error {
			list, err := service.Extracts(ctx)
			if err != nil {
				return err
			}
			return c.show(list, func() {
				if len(list.Items) == 0 {
					fmt.Fprintln(c.out, "No extracts; `mullein extract put FILE` makes one. docs/extracts.md shows how.")
					return
				}
				t := &grid{head: []string{"EXTRACT", "STATE", "FROM", "TO", "MARK", "RUNS", "LAST ROWS", "NEXT", "PROBLEM"}}
				for _, x := range list.Items {
					rows := text("")
					if x.Last != nil {
						rows = integer(x.Last.Rows)
					}
					t.add(text(x.Name), text(x.State), text(shorten(x.Connection+": "+oneLine(x.From), 40)), text(x.Landing), text(x.Mark),
						integer(x.Runs), rows, when(x.NextAt), text(shorten(oneLine(x.Problem), 60)))
				}
				t.write(c.out)
			})
		})}
}

func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

func (c *command) extractShow() *cobra.Command {
	var definition bool
	cmd := &cobra.Command{Use: "show EXTRACT", Short: "One extract, its last window, and its file", Args: arguments(1, 1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			x, err := service.Extract(ctx, args[0])
			if err != nil {
				return err
			}
			return c.show(x, func() {
				if definition {
					fmt.Fprint(c.out, x.Definition)
					return
				}
				c.extractShown(x)
			})
		})}
	cmd.Flags().BoolVar(&definition, "file", false, "only its file")
	return cmd
}

func (c *command) extractShown(x api.Extract) {
	c.say("%s: %s", x.Name, x.State)
	if x.About != "" {
		c.say("  %s", x.About)
	}
	fmt.Fprintln(c.out)
	by := "all rows each time"
	switch {
	case x.Daily:
		by = "by days of " + x.By
	case x.By != "":
		by = "by " + x.By
	}
	c.say("  from      %s: %s, %s\n", x.Connection, oneLine(x.From), by)
	c.say("  to        %s/%s\n", x.Landing, x.Files)
	taken := "no feed takes its files"
	if len(x.Feeds) > 0 {
		taken = strings.Join(x.Feeds, ", ")
	}
	c.say("  feeds     %s\n", taken)
	if x.By != "" {
		mark := x.Mark
		if mark == "" {
			mark = "none yet"
		}
		c.say("  mark      %s\n", mark)
	}
	if x.NextAt != nil {
		c.say("  next      %s\n", when(x.NextAt).text)
	}
	if x.Problem != "" {
		again := "it waits for a person, or for its schedule"
		if x.TryAfter != nil {
			again = "it is tried again at " + when(x.TryAfter).text
		}
		c.say("  problem   %s; %s\n", oneLine(x.Problem), again)
	}
	if w := x.Last; w != nil {
		c.say("  last      run %d, %s: %s, %s, %s of %s\n", w.Run, w.State, w.Window, rowsOf(w.Rows), plural(int64(len(w.Files)), "file"), bytesOf(w.Bytes))
	}
}

func (c *command) extractRun() *cobra.Command {
	var wait bool
	cmd := &cobra.Command{Use: "run EXTRACT", Short: "Write now what is new", Args: arguments(1, 1),
		Long: "Write now what is new. With --wait it returns when that is done; exit code 3 when it failed.",
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			before, err := service.Extract(ctx, args[0])
			if err == nil {
				err = service.RunExtract(ctx, args[0])
			}
			if err != nil || !wait {
				if err == nil {
					c.say("%s: it begins\n", args[0])
				}
				return err
			}
			x, err := awaitExtract(ctx, service, args[0])
			if err != nil {
				return err
			}
			var windows api.ExtractWindowList
			if windows, err = service.ExtractWindows(ctx, args[0], 0, int(min(1000, max(1, x.Runs-before.Runs)))); err != nil {
				return err
			}
			fresh := api.ExtractWindowList{Items: []api.ExtractWindow{}}
			for _, w := range windows.Items {
				if w.Run > before.Runs || before.Last != nil && w.Run == before.Runs && before.Last.State == "running" {
					fresh.Items = append(fresh.Items, w)
				}
			}
			return c.checked(x.Problem != "", fresh, func() {
				for _, w := range fresh.Items {
					c.say("run %d, %s: %s\n  %s\n", w.Run, w.State, w.Window, w.Line)
				}
				switch {
				case x.Problem != "":
					c.say("%s: %s\n", args[0], oneLine(x.Problem))
				case len(fresh.Items) == 0:
					c.say("%s: no day more is over\n", args[0])
				}
			})
		})}
	cmd.Flags().BoolVar(&wait, "wait", false, "until it is done")
	return cmd
}

// awaitExtract waits until an extract is not at work.
func awaitExtract(ctx context.Context, service *client.Client, name string) (api.Extract, error) {
	const every = 200 * time.Millisecond
	for {
		x, err := service.Extract(ctx, name)
		if err != nil || x.State != "working" {
			return x, err
		}
		select {
		case <-ctx.Done():
			return x, ctx.Err()
		case <-time.After(every):
		}
	}
}

func (c *command) extractRehearse() *cobra.Command {
	return &cobra.Command{Use: "rehearse EXTRACT", Short: "Say which window a run would write now, and how many rows; nothing is written", Args: arguments(1, 1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			r, err := service.RehearseExtract(ctx, args[0])
			if err != nil {
				return err
			}
			return c.show(r, func() {
				if r.Empty {
					c.say("%s: nothing is new since %s\n", r.Extract, r.Mark)
				} else {
					c.say("%s: %s, %s, into %s\n", r.Extract, rowsOf(r.Rows), r.Window, strings.Join(r.Names, ", "))
				}
				if r.Ahead > 0 {
					c.say("  %s later than the database's clock; they wait\n", rowsOf(r.Ahead))
				}
				if r.Blank > 0 {
					c.say("  %s without a value in the column, in no window\n", rowsOf(r.Blank))
				}
				t := &grid{head: []string{"COLUMN", "TYPE"}}
				for _, col := range r.Columns {
					t.add(text(col.Name), text(col.Type))
				}
				t.write(c.out)
			})
		})}
}

func (c *command) extractWindows() *cobra.Command {
	var most int
	var before int64
	cmd := &cobra.Command{Use: "windows EXTRACT", Short: "The windows of an extract, the newest first, and what feeds made of them", Args: arguments(1, 1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			list, err := service.ExtractWindows(ctx, args[0], before, most)
			if err != nil {
				return err
			}
			return c.show(list, func() {
				t := &grid{head: []string{"RUN", "STATE", "BEGAN", "WINDOW", "ROWS", "FILES", "SIZE", "WHERE THEY WENT"}}
				for _, w := range list.Items {
					line := w.Line
					if w.Reason != "" {
						line = oneLine(w.Reason)
					}
					t.add(integer(w.Run), state(w.State), when(&w.StartedAt), text(w.Window), integer(w.Rows), integer(int64(len(w.Files))), text(bytesOf(w.Bytes)), text(line))
				}
				t.write(c.out)
				if list.Next > 0 {
					c.say("And older ones: --before %d\n", list.Next)
				}
			})
		})}
	cmd.Flags().IntVar(&most, "limit", 20, "how many, 1 to 1000")
	cmd.Flags().Int64Var(&before, "before", 0, "only runs before this one")
	return cmd
}

func (c *command) extractMark() *cobra.Command {
	var set, because string
	var backTo int64
	cmd := &cobra.Command{Use: "mark EXTRACT", Short: "How far an extract has come; or set that", Args: arguments(1, 1),
		Long: "Print how far an extract has come. --set takes what is up to there as written; --back-to has the rows of a run, and of those after it, written again.",
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			setting := set != "" || backTo > 0
			if setting && because == "" {
				return usageError{errors.New("setting a mark needs --because \"...\": the reason is kept")}
			}
			var x api.Extract
			var err error
			if setting {
				x, err = service.MarkExtract(ctx, args[0], api.ExtractMark{Mark: set, Run: backTo, Because: because})
			} else {
				x, err = service.Extract(ctx, args[0])
			}
			if err != nil {
				return err
			}
			return c.show(x, func() {
				if x.Mark == "" {
					c.say("%s: no mark; the next window begins with the smallest value\n", x.Name)
					return
				}
				c.say("%s: %s\n", x.Name, x.Mark)
			})
		})}
	cmd.Flags().StringVar(&set, "set", "", "the value up to which all is written, as the database writes it")
	cmd.Flags().Int64Var(&backTo, "back-to", 0, "back to where this run began")
	cmd.Flags().StringVar(&because, "because", "", "why; it is kept with who and when")
	return cmd
}

func (c *command) extractPause(use, short string, pause bool) *cobra.Command {
	var because string
	cmd := &cobra.Command{Use: use + " EXTRACT", Short: short, Args: arguments(1, 1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			if because == "" {
				return usageError{fmt.Errorf("%s needs --because \"...\": the reason is kept", use)}
			}
			return service.PauseExtract(ctx, args[0], pause, because)
		})}
	cmd.Flags().StringVar(&because, "because", "", "why; it is kept with who and when")
	return cmd
}

package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"strings"

	"github.com/spf13/cobra"

	"mullein/internal/api"
	"mullein/internal/client"
	"mullein/internal/core/rollup"
)

// parsedRollup is a rollup's file that was read.
type parsedRollup struct {
	file, text string
	rollup     *rollup.Rollup
}

func readRollup(path string) (parsedRollup, error) {
	text, err := readSmall(path)
	if err != nil {
		return parsedRollup{}, err
	}
	r, err := rollup.Parse(path, text)
	return parsedRollup{path, string(text), r}, err
}

var ofRollup = regexp.MustCompile(`(?m)^rollup:`)

// isRollup reports whether a file defines a rollup, and no feed.
func isRollup(path string) (bool, error) {
	f, err := os.Open(path)
	if err != nil {
		return false, err
	}
	defer f.Close()
	return ofRollup.MatchReader(bufio.NewReader(io.LimitReader(f, rollup.MaxFile))), nil
}

// rollupPut is a rollup that was put.
type rollupPut struct {
	Rollup string `json:"rollup"`
	Table  string `json:"table"`
}

// putRollups returns those that were put, up to the first that could not be.
func putRollups(ctx context.Context, service *client.Client, rollups []parsedRollup) ([]rollupPut, error) {
	puts := []rollupPut{}
	for _, r := range rollups {
		if err := service.PutRollup(ctx, r.rollup.Name, r.file, r.text); err != nil {
			return puts, fmt.Errorf("%s: %w", r.file, err)
		}
		puts = append(puts, rollupPut{r.rollup.Name, r.rollup.Table})
	}
	return puts, nil
}

func (c *command) rollupsPut(puts []rollupPut) {
	for _, p := range puts {
		c.say("%s: put; it is kept in %s\n", p.Rollup, p.Table)
	}
}

func (c *command) rollup() *cobra.Command {
	cmd := &cobra.Command{Use: "rollup", Short: "Derived tables, recomputed for the keys that loads touched"}
	put := &cobra.Command{Use: "put FILE...", Short: "Create or change rollups", Args: arguments(1, -1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			var rollups []parsedRollup
			for _, path := range args {
				r, err := readRollup(path)
				if err != nil {
					return err
				}
				rollups = append(rollups, r)
			}
			puts, err := putRollups(ctx, service, rollups)
			return errors.Join(err, c.show(puts, func() { c.rollupsPut(puts) }))
		})}
	list := &cobra.Command{Use: "list", Short: "All rollups", Args: arguments(0, 0),
		RunE: c.call(func(ctx context.Context, service *client.Client, _ []string) error {
			list, err := service.Rollups(ctx)
			if err != nil {
				return err
			}
			return c.show(list, func() {
				if len(list.Items) == 0 {
					fmt.Fprintln(c.out, "There are no rollups; `mullein rollup put FILE` makes one.")
					return
				}
				t := &grid{head: []string{"ROLLUP", "TABLE", "BY", "FROM", "COMPUTED", "WAITING", "PROBLEM"}}
				for _, r := range list.Items {
					t.add(text(r.Name), text(r.Table), text(strings.Join(r.Key, ", ")),
						text(strings.Join(r.Sources, ", ")), when(r.ComputedAt), integer(r.Waiting),
						text(shorten(r.Problem, 80)))
				}
				t.write(c.out)
			})
		})}
	rebuild := &cobra.Command{Use: "rebuild ROLLUP", Short: "Compute a rollup as a whole", Args: arguments(1, 1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			out, err := service.RebuildRollup(ctx, args[0])
			if err != nil {
				return err
			}
			return c.show(out, func() { c.say("%s: %s\n", args[0], rowsOf(out.Rows)) })
		})}
	verify := &cobra.Command{Use: "verify ROLLUP", Short: "Compare a rollup with a full computation",
		Args: arguments(1, 1), RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			v, err := service.VerifyRollup(ctx, args[0])
			if err != nil {
				return err
			}
			if err := c.show(v, func() { c.rollupVerified(args[0], v) }); err != nil {
				return err
			}
			if v.Wrong+v.Missing+v.Surplus > 0 {
				return errWrong
			}
			return nil
		})}
	remove := &cobra.Command{Use: "remove ROLLUP", Short: "End a rollup; its table stays", Args: arguments(1, 1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			return service.RemoveRollup(ctx, args[0])
		})}
	cmd.AddCommand(put, list, rebuild, verify, remove)
	return cmd
}

func (c *command) rollupVerified(name string, v api.RollupVerified) {
	c.say("%s: %s, of which %s are as the select gives them; %s wrong, %s missing, %s surplus\n", name,
		rowsOf(v.Rows), grouped(v.Same), grouped(v.Wrong), grouped(v.Missing), grouped(v.Surplus))
	for _, s := range v.Samples {
		c.say("  %s\n", s)
	}
}

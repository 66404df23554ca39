package cli

import (
	"errors"

	"github.com/spf13/cobra"
)

// BenchOptions is what `bench` was called with.
type BenchOptions struct {
	Database string // of a server that is to be measured; "" for a private PostgreSQL
	Most     int    // rows of the largest table
	Rounds   int
	Only     string // a regular expression for the names of the shapes to measure; "" for all
	List     bool   // name the shapes, and measure nothing
}

func (c *command) bench(p Program) *cobra.Command {
	var o BenchOptions
	cmd := &cobra.Command{Use: "bench", Short: "Measure loads of many shapes on this machine, beside a script by hand",
		Long: `Measures how long loads of many shapes take: how large the table is, what its key is, how many
rows come, in what files, and how many of them are changed. Each is held against what one would
write by hand (COPY into a temporary table, INSERT ... ON CONFLICT), in turns, with the same
columns. It prints a table in Markdown.

A service of its own works in a database of its own, which is made on the server of --database
and dropped in the end, and in a folder for temporary files. With --rows 2000000 it takes about an
hour and 3 GB; with 20000000, hours and 30 GB; with 50000000, 45 GB.`,
		Example: `  mullein bench --database postgres://loader@db/river --only '^2000000/text.*/1x20000/'
  mullein bench --list`,
		Args: arguments(0, 0), RunE: func(cmd *cobra.Command, _ []string) error {
			if o.Rounds < 1 || o.Most < 1 {
				return usageError{errors.New("--rounds and --rows take a number from 1 on")}
			}
			return p.Bench(cmd.Context(), o)
		}}
	f := cmd.Flags()
	f.StringVar(&o.Database, "database", "", "the address of a database of the server; a private PostgreSQL if not given")
	f.IntVar(&o.Most, "rows", 2_000_000, "the most rows of a table")
	f.IntVar(&o.Rounds, "rounds", 3, "how often each shape is measured, at the most; the median counts")
	f.StringVar(&o.Only, "only", "", "measure only shapes whose names this regular expression matches")
	f.BoolVar(&o.List, "list", false, "name the shapes, and measure nothing")
	return cmd
}

package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"mullein/internal/backup"
	"mullein/internal/core/feed"
	"mullein/internal/settings"
)

func (c *command) backup(p Program) *cobra.Command {
	return &cobra.Command{Use: "backup FILE", Short: "Write the records and the settings into a file, while services work",
		Args: arguments(1, 1), Long: `Writes the records (feeds, arrivals, rejects, slots, notices, tokens and the rest) and the settings file of the
home folder into one file, by PostgreSQL's pg_dump. Tables with rows are not in it.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			database, err := c.database(p, feed.MainConnection)
			if err != nil {
				return err
			}
			meta, err := backup.Write(cmd.Context(), database, c.home, p.Version, args[0])
			if err != nil {
				return err
			}
			info, err := os.Stat(args[0])
			if err != nil {
				return err
			}
			return c.show(meta, func() {
				c.say("%s: %s, %s arrivals, %s bytes\n", args[0], plural(meta.Feeds, "feed"), grouped(meta.Arrivals), grouped(info.Size()))
			})
		}}
}

func (c *command) restore(p Program) *cobra.Command {
	return &cobra.Command{Use: "restore FILE", Short: "Put back records and settings, while no service works",
		Args: arguments(1, 1), Long: `Puts back what ` + "`mullein backup`" + ` wrote, in one transaction, and says how that differs from what the tables hold: what was
loaded since is known there, and is not loaded twice. Start a service afterwards, and ` + "`mullein reconcile --mend`" + ` records what was
loaded since, and fetches back files that were put away.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			home, err := filepath.Abs(c.home)
			if err != nil {
				return err
			}
			from := settings.From{Home: c.home, File: c.settings, Environ: os.Environ()}
			said, err := settings.Read(from)
			if err != nil {
				return err
			}
			database, done, err := p.Open(cmd.Context(), home, said.Database)
			if err != nil {
				return err
			}
			defer done()
			restored, err := backup.Restore(cmd.Context(), database, home, args[0])
			if err != nil {
				return err
			}
			found, err := p.Reconcile(cmd.Context(), ServeOptions{Home: c.home, Settings: said, From: from}, database)
			if err != nil {
				return fmt.Errorf("the records are back; what the tables hold could not be compared: %w", err)
			}
			whole := struct {
				backup.Restored
				Differences map[string][]string `json:"differences"`
			}{restored, found}
			return c.show(whole, func() { c.sayRestored(restored, found) })
		}}
}

func (c *command) sayRestored(r backup.Restored, found map[string][]string) {
	c.say("The records of %s are back: %s, %s arrivals.\n", r.At.Local().Format("2006-01-02 15:04:05"), plural(r.Feeds, "feed"),
		grouped(r.Arrivals))
	if r.Settings != "" {
		c.say("The settings are in %s.\n", r.Settings)
	}
	if len(found) == 0 {
		fmt.Fprintln(c.out, "The tables hold nothing that the records do not know of.")
		return
	}
	t := &grid{head: []string{"FEED", "DIFFERENCE"}}
	for name, list := range found {
		for _, d := range list {
			t.add(text(name), text(d))
		}
	}
	t.write(c.out)
	fmt.Fprintln(c.out, "\nNothing is loaded twice. Start the service; mullein reconcile --mend records what was loaded since.")
}

// Opener returns the address of the database with the records, and what is to be done when it is
// not needed any more.
type Opener func(ctx context.Context, home, database string) (url string, done func(), err error)

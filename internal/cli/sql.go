package cli

import (
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"

	"github.com/spf13/cobra"

	"mullein/internal/core/feed"
	"mullein/internal/settings"
)

func (c *command) sql(p Program) *cobra.Command {
	connection, address := feed.MainConnection, false
	cmd := &cobra.Command{Use: "sql [-- PSQL-ARGUMENT...]", Short: "Open psql on the database", Args: arguments(0, -1),
		Long: `Opens psql on the database of the records and of the tables: the private one of the home folder, or
that which the settings name; with --connection, another of theirs. What stands behind -- is
handed to psql: mullein sql -- -c "SELECT count(*) FROM river.gauge_reading"`,
		RunE: func(cmd *cobra.Command, args []string) error {
			database, err := c.database(p, connection)
			if err != nil {
				return err
			}
			if address {
				fmt.Fprintln(c.out, database)
				return nil
			}
			return c.psql(database, args)
		}}
	cmd.Flags().StringVar(&connection, "connection", connection, "a database by the name that feeds know it by")
	cmd.Flags().BoolVar(&address, "url", false, "print the address, with the password in it, and open nothing")
	return cmd
}

// database returns how to connect to a database.
func (c *command) database(p Program, connection string) (string, error) {
	said, err := settings.Read(settings.From{Home: c.home, File: c.settings, Environ: os.Environ()})
	if err != nil {
		return "", err
	}
	if connection != feed.MainConnection {
		if database := said.Connections[connection]; database != "" {
			return database, nil
		}
		return "", fmt.Errorf("the settings name no database %q under connections", connection)
	}
	if said.Database != "" {
		return said.Database, nil
	}
	home, err := filepath.Abs(c.home)
	if err != nil {
		return "", err
	}
	return p.Private(home)
}

// psql opens psql. The password goes by the environment: arguments stand in the list of
// processes, which everybody can read.
func (c *command) psql(database string, args []string) error {
	at, err := url.Parse(database)
	if err != nil || at.Scheme != "postgres" && at.Scheme != "postgresql" {
		return errors.New("the database is not given as an address such as postgres://user@host/name")
	}
	env := os.Environ()
	if password, given := at.User.Password(); given {
		env = append(env, "PGPASSWORD="+password)
		at.User = url.User(at.User.Username())
	}
	program, err := exec.LookPath("psql")
	if err != nil {
		return fmt.Errorf("%w; it comes with Debian's package postgresql-client", err)
	}
	run := exec.Command(program, append([]string{at.String()}, args...)...)
	run.Env, run.Stdin, run.Stdout, run.Stderr = env, c.in, c.out, c.errOut
	if err := run.Run(); err != nil {
		return fmt.Errorf("psql: %w", err)
	}
	return nil
}

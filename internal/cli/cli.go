package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/viper"
	"golang.org/x/term"

	"mullein/internal/client"
	"mullein/internal/core/feed"
	"mullein/internal/ledger"
)

// The exit codes.
const (
	exitGood  = 0
	exitError = 1
	exitUsage = 2
	exitWrong = 3 // the work was done, and something was refused, failed or missing
)

// ServeOptions is what `serve` and `demo` were called with.
type ServeOptions struct {
	Home           string
	Listen         string
	Database       string
	LandingRoots   []string
	Connections    map[string]string // URLs of further databases with targets, by name
	Sessions       int
	RecordSessions int
	AddedColumns   int
	Keep           ledger.Keep // how long records are kept
	Once           bool        // demo: a full example, then exit
}

// Program is what the command line cannot do through the API: being a service.
type Program struct {
	Serve func(ctx context.Context, o ServeOptions) error
	Demo  func(ctx context.Context, o ServeOptions) error
	// Private returns how to connect to the private database of a home folder.
	Private func(home string) (url string, err error)
	Version string
}

// errWrong ends a command with exit code 3, with nothing more to say.
var errWrong = errors.New("something was refused, failed or missing")

// usageError marks errors of the caller's words.
type usageError struct{ error }

// Run executes a command line and returns its exit code.
func Run(ctx context.Context, p Program, args []string, stdout, stderr io.Writer) int {
	c := &command{in: os.Stdin, out: stdout, errOut: stderr, settings: viper.New()}
	root := c.root(p)
	root.SetArgs(args)
	root.SetOut(stdout)
	root.SetErr(stderr)
	err := root.ExecuteContext(ctx)
	var usage usageError
	switch {
	case err == nil:
		return exitGood
	case errors.Is(err, errWrong):
		return exitWrong
	case errors.As(err, &usage), strings.HasPrefix(err.Error(), "unknown command"):
		c.fail(err, "See `mullein --help`.\n")
		return exitUsage
	}
	c.fail(err, "")
	return exitError
}

// fail says why a command could not be carried out, in the form that was asked for.
func (c *command) fail(err error, hint string) {
	if !c.json() {
		fmt.Fprintf(c.errOut, "mullein: %v\n%s", err, hint)
		return
	}
	e := json.NewEncoder(c.errOut)
	e.SetIndent("", "  ")
	_ = e.Encode(map[string]string{"error": err.Error()}) // nobody could be told
}

// command carries what all commands share.
type command struct {
	in          io.Reader
	out, errOut io.Writer
	settings    *viper.Viper
	format      string // table or json
	home        string
}

func (c *command) root(p Program) *cobra.Command {
	root := &cobra.Command{
		Use: "mullein",
		Short: "Mullein takes in the files that suppliers leave, and tells what came, what did not, and what was " +
			"wrong.",
		Long: `Mullein takes in the files that suppliers leave in folders: it notices each file, waits until it
is whole, reads and checks it, keeps one row a key, merges the rows into the target table, and
remembers what became of each file and each row.

  mullein demo             a service with sample suppliers at work
  mullein serve            a service
  mullein feed put FILE    create or change a feed

Other commands speak to a service: the one of the home folder, or MULLEIN_SERVER with MULLEIN_TOKEN.`,
		Version:       p.Version,
		SilenceErrors: true, SilenceUsage: true,
		PersistentPreRunE: func(*cobra.Command, []string) error {
			if c.format != "table" && c.format != "json" {
				return usageError{fmt.Errorf("-o takes table or json, not %q", c.format)}
			}
			return nil
		},
	}
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usageError{err} })
	root.PersistentFlags().StringVarP(&c.format, "output", "o", "table", "table for people, json for programs")
	root.PersistentFlags().StringVar(&c.home, "home", ".mullein", "the service's own folder")
	c.settings.SetEnvPrefix("MULLEIN")
	c.settings.AutomaticEnv()
	root.CompletionOptions.HiddenDefaultCmd = true
	root.AddCommand(c.token(), c.serve(p), c.demo(p), c.feed(), c.run(), c.cancel(), c.deliver(), c.status(),
		c.ledger(),
		c.arrival(), c.rejects(), c.checks(), c.rehearse(), c.rows(), c.runs(), c.due(),
		c.verb("redo", "Load arrivals again, what was loaded as a new generation that undoes the old"),
		c.verb("skip", "Never load arrivals"),
		c.verb("hold", "Let arrivals wait for a person"), c.verb("release", "Let held arrivals go on"), c.accept(),
		c.excuse(), c.reconcile(), c.recall(), c.row(), c.verify(), c.target(), c.rollup(), c.watch(), c.sql(p))
	return root
}

// arguments makes wrong counts of arguments usage errors that name the usage.
func arguments(least, most int) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) < least || most >= 0 && len(args) > most {
			return usageError{fmt.Errorf("usage: %s", cmd.UseLine())}
		}
		return nil
	}
}

func (c *command) serveFlags(cmd *cobra.Command, o *ServeOptions) {
	cmd.Flags().StringVar(&o.Listen, "listen", "127.0.0.1:8471", "address and port; port 0 takes a free one")
	cmd.Flags().StringVar(&o.Database, "database", "",
		"PostgreSQL URL; without it, one of its own on loopback (or MULLEIN_DATABASE)")
	cmd.Flags().StringArrayVar(&o.LandingRoots, "landing-root", nil,
		"a folder below which landings may be; repeatable (default: the folder landings in the home folder)")
	cmd.Flags().StringArray("connection", nil, "name=URL of a further database with targets; repeatable (or "+
		"MULLEIN_CONNECTION_NAME, which keeps the password from lists of processes)")
	cmd.Flags().IntVar(&o.Sessions, "sessions", 16, "sessions of each database with targets, at the most; 3 or more")
	cmd.Flags().IntVar(&o.RecordSessions, "record-sessions", 8,
		"sessions of the database with the records, at the most; 3 or more")
	cmd.Flags().IntVar(&o.AddedColumns, "added-columns", 100,
		"columns that a file may add to a table with extra_columns: add, at the most; 1 or more")
	o.Keep = ledger.DefaultKeep
	for _, of := range []struct {
		to   *time.Duration
		name string
		what string
	}{
		{&o.Keep.Rejects, "rejects", "the texts of rejects; what was counted stays"},
		{&o.Keep.Events, "events", "events"}, {&o.Keep.Runs, "runs", "runs"},
		{&o.Keep.Checks, "checks", "what checks saw"},
		{&o.Keep.Slots, "slots", "slots"}, {&o.Keep.Decisions, "decisions", "decisions"},
		{&o.Keep.Arrivals, "arrivals", "earlier versions of files that are not what is loaded"},
		{&o.Keep.Order, "order", "deleted keys, and what else tells late rows from new ones,"},
	} {
		cmd.Flags().Var((*span)(of.to), "keep-"+of.name, "how long "+of.what+" are kept; 0 for ever")
	}
}

// span is a duration as feed files write it.
type span time.Duration

// String writes it.
func (s *span) String() string { return feed.Span(time.Duration(*s)) }

// Set reads it.
func (s *span) Set(text string) error {
	d, err := feed.ParseSpan(text)
	*s = span(d)
	return err
}

// Type is what help calls it.
func (s *span) Type() string { return "duration" }

func (c *command) serve(p Program) *cobra.Command {
	var o ServeOptions
	cmd := &cobra.Command{
		Use: "serve", Short: "Run the service", Args: arguments(0, 0),
		RunE: func(cmd *cobra.Command, _ []string) error { return c.begin(cmd, o, p.Serve) },
	}
	c.serveFlags(cmd, &o)
	return cmd
}

func (c *command) demo(p Program) *cobra.Command {
	var o ServeOptions
	cmd := &cobra.Command{
		Use: "demo", Short: "Run the service with sample suppliers at work", Args: arguments(0, 0),
		RunE: func(cmd *cobra.Command, _ []string) error { return c.begin(cmd, o, p.Demo) },
	}
	c.serveFlags(cmd, &o)
	cmd.Flags().BoolVar(&o.Once, "once", false, "a full example with the same content every time, then exit")
	return cmd
}

// begin completes the options and runs the service.
func (c *command) begin(cmd *cobra.Command, o ServeOptions, run func(context.Context, ServeOptions) error) error {
	if o.Sessions < 3 || o.RecordSessions < 3 {
		return usageError{errors.New("--sessions and --record-sessions take 3 or more")}
	}
	if o.AddedColumns < 1 {
		return usageError{errors.New("--added-columns takes 1 or more")}
	}
	o.Home = c.home
	if o.Database == "" {
		o.Database = c.settings.GetString("database")
	}
	given, err := cmd.Flags().GetStringArray("connection")
	if err != nil {
		return err
	}
	o.Connections = connections()
	for _, g := range given {
		name, url, ok := strings.Cut(g, "=")
		if !ok || name == "" || name == feed.MainConnection {
			return usageError{fmt.Errorf("--connection takes name=URL with another name than %s, not %q",
				feed.MainConnection, name)}
		}
		o.Connections[name] = url
	}
	return run(cmd.Context(), o)
}

// connections are the databases that the environment names.
func connections() map[string]string {
	out := map[string]string{}
	for _, variable := range os.Environ() {
		if name, ok := strings.CutPrefix(variable, "MULLEIN_CONNECTION_"); ok {
			name, url, _ := strings.Cut(name, "=")
			out[strings.ToLower(strings.ReplaceAll(name, "_", "-"))] = url
		}
	}
	return out
}

// client returns a client of the service that the caller means.
func (c *command) client() (*client.Client, error) {
	address, token := c.settings.GetString("server"), c.settings.GetString("token")
	if address == "" {
		text, err := os.ReadFile(filepath.Join(c.home, "address"))
		if errors.Is(err, os.ErrNotExist) {
			return nil, fmt.Errorf("no service was started with the home folder %s; start one with `mullein serve`, "+
				"give --home, or set MULLEIN_SERVER and MULLEIN_TOKEN", c.home)
		}
		if err != nil {
			return nil, fmt.Errorf("find the service: %w", err)
		}
		address = strings.TrimSpace(string(text))
	}
	if token == "" {
		text, err := os.ReadFile(filepath.Join(c.home, "owner.token"))
		if err != nil {
			return nil, fmt.Errorf("find the token: %w; set MULLEIN_TOKEN", err)
		}
		token = string(bytes.TrimSpace(text))
	}
	return client.New(address, token), nil
}

// call wraps a command that speaks to a service.
func (c *command) call(do func(ctx context.Context, api *client.Client, args []string) error) func(*cobra.Command,
	[]string) error {
	return func(cmd *cobra.Command, args []string) error {
		api, err := c.client()
		if err != nil {
			return err
		}
		return do(cmd.Context(), api, args)
	}
}

// terminal reports whether people look on.
func terminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

func (c *command) json() bool { return c.format == "json" }

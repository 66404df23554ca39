package cli

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"mullein/internal/client"
	"mullein/internal/core/feed"
	"mullein/internal/settings"
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
	Home     string
	Settings *settings.Loaded
	From     settings.From // where the settings come from, to read them again
	Once     bool          // demo: a full example, then exit
}

// Program is what the command line cannot do through the API: being a service.
type Program struct {
	Serve func(ctx context.Context, o ServeOptions) error
	Demo  func(ctx context.Context, o ServeOptions) error
	Bench func(ctx context.Context, o BenchOptions) error
	// Private returns how to connect to the private database of a home folder.
	Private func(home string) (url string, err error)
	// Open returns the address of the database with the records, and starts the private one where
	// none is named.
	Open Opener
	// Reconcile says of each feed how its records differ from what its table holds.
	Reconcile func(ctx context.Context, o ServeOptions, database string) (map[string][]string, error)
	Version   string
}

// errWrong ends a command with exit code 3, with nothing more to say.
var errWrong = errors.New("something was refused, failed or missing")

// usageError marks errors of the caller's words.
type usageError struct{ error }

// Run executes a command line and returns its exit code.
func Run(ctx context.Context, p Program, args []string, stdout, stderr io.Writer) int {
	c := &command{in: os.Stdin, out: stdout, errOut: stderr}
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
	// Problem details, as RFC 9457 has them and the API answers.
	problem := struct {
		Title  string `json:"title"`
		Status int    `json:"status,omitempty"`
		Detail string `json:"detail"`
	}{Title: "The command failed", Detail: err.Error()}
	var refused *client.Error
	if errors.As(err, &refused) {
		problem.Title, problem.Status = refused.Title, refused.Status
	}
	e := json.NewEncoder(c.errOut)
	e.SetIndent("", "  ")
	_ = e.Encode(problem) // nobody could be told
}

// Command returns the command line as a whole, for its manual.
func Command(p Program) *cobra.Command {
	return (&command{in: os.Stdin, out: os.Stdout, errOut: os.Stderr}).root(p)
}

// command carries what all commands share.
type command struct {
	in          io.Reader
	out, errOut io.Writer
	format      string // table or json
	home        string
	settings    string // a settings file; "" for that of the home folder
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
			if !slices.Contains([]string{"table", "json", "jsonl", "csv"}, c.format) {
				return usageError{fmt.Errorf("-o takes table, json, jsonl or csv, not %q", c.format)}
			}
			return nil
		},
	}
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usageError{err} })
	root.PersistentFlags().StringVarP(&c.format, "output", "o", "table", "table for people, json for programs; of lists, jsonl with an item a line, and csv")
	root.PersistentFlags().StringVar(&c.home, "home", cmp.Or(os.Getenv("MULLEIN_HOME"), ".mullein"),
		"the service's own folder (or MULLEIN_HOME)")
	root.PersistentFlags().StringVar(&c.settings, "settings", os.Getenv("MULLEIN_SETTINGS"),
		"the settings file (or MULLEIN_SETTINGS; default: "+settings.FileName+" in the home folder, if there is one)")
	root.AddCommand(c.token(), c.user(), c.serve(p), c.demo(p), c.feed(), c.run(), c.cancel(), c.deliver(), c.status(),
		c.ledger(),
		c.arrival(), c.rejects(), c.checks(), c.rehearse(), c.rows(), c.runs(), c.due(),
		c.verb("redo", "Load arrivals again, what was loaded as a new generation that undoes the old"),
		c.verb("skip", "Never load arrivals"),
		c.verb("hold", "Let arrivals wait for a person"), c.verb("release", "Let held arrivals go on"), c.accept(),
		c.excuse(), c.reconcile(), c.recall(), c.row(), c.verify(), c.target(), c.rollup(), c.watch(), c.sql(p), c.settingsCommand(), c.notices(), c.notice(), c.outlet(), c.place(), c.extract(),
		c.problems(), c.volumes(), c.acts(), c.backup(p), c.restore(p), c.doctor(p), c.bench(p))
	c.complete(root)
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

// serveFlags adds flags for settings to a command.
func (c *command) serveFlags(cmd *cobra.Command) {
	cmd.Flags().String("listen", "", "address and port; port 0 takes a free one (default: 127.0.0.1:8471)")
	cmd.Flags().String("database", "", "PostgreSQL URL; without it, one of its own on loopback")
	cmd.Flags().StringArray("landing-root", nil,
		"a folder below which landings may be; repeatable (default: the folder landings in the home folder)")
	cmd.Flags().StringArray("connection", nil, "name=URL of a further database with targets; repeatable (or "+
		"MULLEIN_CONNECTION_NAME, which keeps the password from lists of processes)")
	cmd.Flags().String("sessions", "", "sessions of each database with targets, at the most; 3 or more (default: 16)")
	cmd.Flags().String("record-sessions", "",
		"sessions of the database with the records, at the most; 3 or more (default: 8)")
	cmd.Flags().String("added-columns", "",
		"columns that a file may add to a table with extra_columns: add, at the most; 1 or more (default: 100)")
	for _, of := range [][3]string{
		{"rejects", "the texts of rejects", "90d"}, {"events", "events", "7d"}, {"runs", "runs", "400d"},
		{"checks", "what checks saw", "400d"}, {"slots", "slots", "400d"}, {"decisions", "decisions", "1095d"},
		{"arrivals", "earlier versions of files that are not what is loaded", "1095d"},
		{"order", "deleted keys, and what else tells late rows from new ones,", "400d"},
		{"notices", "notices, and problems that are over,", "90d"},
	} {
		cmd.Flags().String("keep-"+of[0], "", "how long "+of[1]+" are kept; 0 for ever (default: "+of[2]+")")
	}
}

// given returns the values of flags by the paths of their settings.
func given(cmd *cobra.Command) map[string][]string {
	out := map[string][]string{}
	cmd.Flags().Visit(func(f *pflag.Flag) {
		switch {
		case f.Name == "landing-root":
			out["landing_roots"], _ = cmd.Flags().GetStringArray(f.Name)
		case strings.HasPrefix(f.Name, "keep-"):
			out["keep."+strings.TrimPrefix(f.Name, "keep-")] = []string{f.Value.String()}
		default:
			out[strings.ReplaceAll(f.Name, "-", "_")] = []string{f.Value.String()}
		}
	})
	return out
}

func (c *command) serve(p Program) *cobra.Command {
	var o ServeOptions
	cmd := &cobra.Command{
		Use: "serve", Short: "Run the service", Args: arguments(0, 0),
		RunE: func(cmd *cobra.Command, _ []string) error { return c.begin(cmd, o, p.Serve) },
	}
	c.serveFlags(cmd)
	return cmd
}

func (c *command) demo(p Program) *cobra.Command {
	var o ServeOptions
	cmd := &cobra.Command{
		Use: "demo", Short: "Run the service with sample suppliers at work", Args: arguments(0, 0),
		RunE: func(cmd *cobra.Command, _ []string) error { return c.begin(cmd, o, p.Demo) },
	}
	c.serveFlags(cmd)
	cmd.Flags().BoolVar(&o.Once, "once", false, "a full example with the same content every time, then exit")
	return cmd
}

// begin reads the settings and runs the service.
func (c *command) begin(cmd *cobra.Command, o ServeOptions, run func(context.Context, ServeOptions) error) error {
	from, err := c.from(cmd)
	if err != nil {
		return usageError{err}
	}
	if o.Settings, err = settings.Read(from); err != nil {
		return usageError{err}
	}
	o.Home, o.From = c.home, from
	return run(cmd.Context(), o)
}

// from says where the settings of a command come from.
func (c *command) from(cmd *cobra.Command) (settings.From, error) {
	from := settings.From{Home: c.home, File: c.settings, Environ: os.Environ(), Given: given(cmd)}
	databases, err := cmd.Flags().GetStringArray("connection")
	if err != nil { // the command has no such flag
		return from, nil
	}
	for _, g := range databases {
		name, url, ok := strings.Cut(g, "=")
		if !ok || name == "" || name == feed.MainConnection {
			return from, fmt.Errorf("--connection takes name=URL with another name than %s, not %q", feed.MainConnection, name)
		}
		from.Environ = append(from.Environ, settings.Variable("connections."+name)+"="+url)
	}
	return from, nil
}

// client returns a client of the service that the caller means.
func (c *command) client() (*client.Client, error) {
	address, token := os.Getenv("MULLEIN_SERVER"), os.Getenv("MULLEIN_TOKEN")
	own := address == ""
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
	service := client.New(address, token)
	if own && strings.HasPrefix(address, "https://") {
		return service, c.trustOwn(service)
	}
	return service, nil
}

// trustOwn has a client trust the certificate of the service of the home folder.
func (c *command) trustOwn(service *client.Client) error {
	said, err := settings.Read(settings.From{Home: c.home, File: c.settings, Environ: os.Environ()})
	if err != nil || said.TLS == nil {
		return err
	}
	text, err := os.ReadFile(said.TLS.Certificate)
	if err == nil {
		err = service.Trust(text)
	}
	if err != nil {
		return fmt.Errorf("the service's certificate: %w", err)
	}
	return nil
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

// json reports whether programs read the output, as JSON.
func (c *command) json() bool { return c.format == "json" || c.format == "jsonl" }

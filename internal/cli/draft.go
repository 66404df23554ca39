package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"mullein/internal/api"
	"mullein/internal/client"
	"mullein/internal/core/decode"
	"mullein/internal/core/draft"
	"mullein/internal/core/feed"
)

func (c *command) draft() *cobra.Command {
	var at, to, into string
	connection := feed.MainConnection
	var try bool
	cmd := &cobra.Command{Use: "draft FILE...|FOLDER|place:NAME/FOLDER", Short: "Propose feeds from sample files, one for each kind of " +
		"file", Args: arguments(1, 1000), RunE: func(cmd *cobra.Command, args []string) error {
		out, samples, err := c.propose(cmd.Context(), args, api.DraftWanted{At: at, Into: into, Connection: connection}, try)
		if err != nil {
			return err
		}
		if to != "" {
			if err := out.write(to); err != nil {
				return err
			}
		}
		if try {
			if err := c.try(cmd.Context(), out.Feeds, samples); err != nil {
				return err
			}
		}
		return c.checked(out.wrong(), out, func() { c.sayDrafts(out) })
	}}
	cmd.Flags().StringVar(&at, "at", "landing", "the landing folder that the feeds name")
	cmd.Flags().StringVar(&to, "to", "", "write the feed files into this folder, each under its name (default: show "+
		"them)")
	cmd.Flags().StringVar(&into, "into", "", "draft for this table, schema.table, which is there already")
	cmd.Flags().StringVar(&connection, "connection", connection, "with --into: the table's database, by the name that feeds "+
		"know it by")
	cmd.Flags().BoolVar(&try, "try", false, "rehearse each feed on its first samples: the service says what a load "+
		"would do, and does nothing")
	return cmd
}

// propose proposes feeds from sample files, or from a folder of a place. samples are those that are on this machine.
func (c *command) propose(ctx context.Context, args []string, of api.DraftWanted, try bool) (*drafts, []draft.Sample, error) {
	if strings.HasPrefix(args[0], "place:") {
		if len(args) > 1 || try {
			return nil, nil, usageError{errors.New("of a place, one folder is drafted from, and --try has no samples to send; put the feed and rehearse it")}
		}
		of.At = args[0]
		out, err := c.draftAtPlace(ctx, of)
		return out, nil, err
	}
	samples, err := samplesOf(ctx, args)
	if err != nil {
		return nil, nil, err
	}
	o := draft.Options{At: of.At, Taken: c.feedNames(ctx)}
	if of.Into != "" {
		if o.Into, err = c.into(ctx, of.Connection, of.Into); err != nil {
			return nil, nil, err
		}
	}
	result, err := draft.Propose(samples, o)
	if err != nil {
		return nil, nil, err
	}
	return newDrafts(result), samples, nil
}

// into asks the service for a table.
func (c *command) into(ctx context.Context, connection, name string) (*draft.Into, error) {
	service, err := c.client()
	if err != nil {
		return nil, err
	}
	shape, err := service.Table(ctx, connection, name)
	if err != nil {
		return nil, err
	}
	out := &draft.Into{Connection: connection, Table: shape.Table}
	var key []string
	for _, col := range shape.Columns {
		out.Columns = append(out.Columns, draft.IntoColumn{Name: col.Name, Type: col.Type, NotNull: col.NotNull})
		if col.Key {
			key = append(key, col.Name)
		}
	}
	if key != nil {
		out.Keys, out.Primary = append(out.Keys, key), true
	}
	out.Keys = append(out.Keys, shape.Unique...)
	return out, nil
}

// drafts are feeds that are proposed, and files that none is proposed for.
type drafts struct {
	Feeds   []draftedFeed  `json:"feeds"`
	LeftOut []api.LeftFile `json:"left_out"`
}

type draftedFeed struct {
	api.DraftedFeed
	Next      string          `json:"next"`
	Written   string          `json:"written,omitempty"` // the file
	Rehearsed []api.Rehearsal `json:"rehearsed,omitempty"`
}

func newDrafts(r draft.Result) *drafts {
	out := api.Drafts{LeftOut: []api.LeftFile{}}
	for _, f := range r.Feeds {
		out.Feeds = append(out.Feeds, api.DraftedFeed{Feed: f.Name, Definition: f.Text, Files: append([]string{}, f.Files...),
			Rows: f.Rows, Sure: append([]string{}, f.Sure...), Unsure: append([]string{}, f.Unsure...)})
	}
	for _, l := range r.Left {
		out.LeftOut = append(out.LeftOut, api.LeftFile{File: l.Path, Why: l.Why, Data: l.Data})
	}
	return shownDrafts(out)
}

// shownDrafts says what to do next with each feed that is proposed.
func shownDrafts(of api.Drafts) *drafts {
	out := &drafts{[]draftedFeed{}, of.LeftOut}
	for _, f := range of.Feeds {
		out.Feeds = append(out.Feeds, draftedFeed{DraftedFeed: f,
			Next: fmt.Sprintf("save it as %s.yaml, then: mullein rehearse %[1]s.yaml --send SAMPLE; mullein feed put "+
				"%[1]s.yaml", f.Feed)})
	}
	return out
}

// draftAtPlace has the service propose feeds from the files of a folder of a place.
func (c *command) draftAtPlace(ctx context.Context, of api.DraftWanted) (*drafts, error) {
	service, err := c.client()
	if err != nil {
		return nil, err
	}
	list, err := service.Draft(ctx, of)
	if err != nil {
		return nil, err
	}
	return shownDrafts(list), nil
}

// wrong reports whether a file that may be data could not be read, or a rehearsal would
// refuse one.
func (d *drafts) wrong() bool {
	return slices.ContainsFunc(d.LeftOut, func(l api.LeftFile) bool { return l.Data }) ||
		slices.ContainsFunc(d.Feeds, func(f draftedFeed) bool {
			return slices.ContainsFunc(f.Rehearsed, func(r api.Rehearsal) bool { return r.Refused != "" })
		})
}

// write writes the feed files into a folder.
func (d *drafts) write(folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	for i := range d.Feeds {
		f := &d.Feeds[i]
		name := filepath.Join(folder, f.Feed+".yaml")
		file, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if errors.Is(err, fs.ErrExist) {
			return fmt.Errorf("%s is there already; a draft writes over nothing", name)
		}
		if err != nil {
			return err
		}
		_, err = file.WriteString(f.Definition)
		if err := errors.Join(err, file.Close()); err != nil {
			return err
		}
		f.Written = name
		f.Next = fmt.Sprintf("mullein rehearse %s --send SAMPLE; mullein feed put %[1]s", name)
	}
	return nil
}

// sayDrafts shows the feeds, and after each what a person reads first.
func (c *command) sayDrafts(d *drafts) {
	for i, f := range d.Feeds {
		if f.Written != "" {
			c.say("%s, for %s\n", f.Written, count(len(f.Files), "file"))
		} else {
			if i > 0 {
				c.say("\n# ------ the next feed ------\n")
			}
			fmt.Fprintln(c.out, f.Definition)
		}
		unsure := "nothing"
		if len(f.Unsure) > 0 {
			unsure = strings.Join(f.Unsure, "; ")
		}
		fmt.Fprintf(c.out, "# Sure: %s.\n# Not sure: %s.\n# Next: %s\n", strings.Join(f.Sure, "; "), unsure, f.Next)
		for _, r := range f.Rehearsed {
			fmt.Fprintln(c.out)
			c.rehearsal(r)
		}
	}
	const most = 20
	for i, l := range d.LeftOut {
		if i == most && !l.Data {
			fmt.Fprintf(c.errOut, "and %d more files are left out; -o json lists them\n", len(d.LeftOut)-most)
			break
		}
		if l.Data {
			fmt.Fprintf(c.errOut, "%s: %s\n", l.File, l.Why)
		} else {
			fmt.Fprintf(c.errOut, "%s is left out: %s\n", l.File, l.Why)
		}
	}
}

func count(n int, of string) string {
	if n == 1 {
		return "one " + of
	}
	return fmt.Sprintf("%d %ss", n, of)
}

// feedNames returns the names of the feeds of the service, if one can be asked.
func (c *command) feedNames(ctx context.Context) (names []string) {
	service, err := c.client()
	if err != nil {
		return nil
	}
	const patience = 2 * time.Second
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	feeds, err := service.AllFeeds(ctx, client.FeedQuery{})
	if err != nil {
		return nil
	}
	for _, f := range feeds {
		names = append(names, f.Name)
	}
	return names
}

// sent returns the first of files that can be sent: of those in a zip, the zip.
func sent(files []string, most int) (out []string) {
	const in = ".zip/"
	for _, p := range files {
		if at := strings.Index(strings.ToLower(p), in); at >= 0 {
			p = p[:at+len(in)-1]
		}
		if !slices.Contains(out, p) {
			out = append(out, p)
		}
		if len(out) == most {
			break
		}
	}
	return out
}

// try rehearses feeds on their first samples.
func (c *command) try(ctx context.Context, feeds []draftedFeed, samples []draft.Sample) error {
	const most, rows = 3, 5
	service, err := c.client()
	if err != nil {
		return err
	}
	byPath := map[string]draft.Sample{}
	for _, s := range samples {
		byPath[s.Path] = s
	}
	for i := range feeds {
		f := &feeds[i]
		for _, p := range sent(f.Files, most) {
			s, ok := byPath[p]
			if !ok {
				continue
			}
			source, done, err := s.Open()
			if err != nil {
				return err
			}
			out, err := service.Rehearse(ctx, client.Rehearsed{Definition: f.Definition, File: source.Bytes, Name: p})
			done()
			if err != nil {
				return fmt.Errorf("rehearse %s on %s: %w", f.Feed, p, err)
			}
			out.Samples = out.Samples[:min(rows, len(out.Samples))]
			if len(f.Rehearsed) > 0 {
				out.Samples, out.Shape = []api.SampleRow{}, []string{}
			}
			f.Rehearsed = append(f.Rehearsed, out)
		}
	}
	return nil
}

// samplesOf finds the files that are named, and those below folders.
func samplesOf(ctx context.Context, args []string) ([]draft.Sample, error) {
	var out []draft.Sample
	add := func(root, name string) {
		rel, err := filepath.Rel(root, name)
		if err != nil {
			rel = filepath.Base(name)
		}
		folder := ""
		if whole, err := filepath.Abs(root); err == nil {
			folder = filepath.Base(whole)
		}
		out = append(out, draft.Sample{Path: filepath.ToSlash(rel), Folder: folder, Open: func() (decode.Source, func(), error) {
			file, err := os.Open(name)
			if err != nil {
				return decode.Source{}, nil, err
			}
			done := func() { file.Close() }
			info, err := file.Stat()
			if err != nil {
				done()
				return decode.Source{}, nil, err
			}
			return decode.Source{Name: name, Bytes: file, File: file, Size: info.Size()}, done, nil
		}})
	}
	for _, arg := range args {
		info, err := os.Stat(arg)
		if err != nil {
			return nil, err
		}
		if !info.IsDir() {
			add(filepath.Dir(arg), arg)
			continue
		}
		err = filepath.WalkDir(arg, func(name string, d fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			if err := ctx.Err(); err != nil {
				return err
			}
			if strings.HasPrefix(d.Name(), ".") && name != arg {
				if d.IsDir() {
					return fs.SkipDir
				}
				return nil
			}
			if d.Type().IsRegular() {
				add(arg, name)
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"mullein/internal/api"
	"mullein/internal/client"
	"mullein/internal/core/feed"
	"mullein/internal/load"
)

func (c *command) feed() *cobra.Command {
	cmd := &cobra.Command{Use: "feed", Short: "Feeds: check, put, list, show, which, pause, resume, remove, history"}
	var remove bool
	removeCommand := &cobra.Command{Use: "remove FEED", Short: "End a feed; its history and its rows stay",
		Args: arguments(1, 1), RunE: c.call(func(ctx context.Context, api *client.Client, args []string) error {
			if !remove {
				return usageError{fmt.Errorf("feed remove %s: say --yes to end the feed; its history and its rows stay",
					args[0])}
			}
			return c.did(api.RemoveFeed(ctx, args[0]), "removed "+args[0])
		})}
	removeCommand.Flags().BoolVar(&remove, "yes", false, "really")
	var version int
	var schema string
	show := &cobra.Command{Use: "show FEED", Short: "A feed's definition", Args: arguments(1, 1),
		RunE: c.call(func(ctx context.Context, api *client.Client, args []string) error {
			if schema != "" {
				return c.showSchema(ctx, api, args[0], version, schema)
			}
			return c.showFeed(ctx, api, args[0], version)
		})}
	show.Flags().IntVar(&version, "version", 0, "an older version (default: the present one)")
	show.Flags().StringVar(&schema, "schema", "", "only the columns, as a Table Schema (table) or an Avro schema "+
		"(avro)")
	show.Flags().Lookup("schema").NoOptDefVal = "table"
	cmd.AddCommand(
		c.rebuild(),
		c.draft(),
		&cobra.Command{Use: "check FILE|FOLDER...", Short: "Say what is wrong, change nothing; needs no service",
			Args: arguments(1, -1), RunE: c.checkFeeds},
		c.putCommand(),
		c.which(),
		c.listCommand(),
		show,
		&cobra.Command{Use: "pause FEED", Short: "Let no run begin by itself", Args: arguments(1, 1),
			RunE: c.call(func(ctx context.Context, api *client.Client, args []string) error {
				return c.did(api.Pause(ctx, args[0]), "paused "+args[0])
			})},
		&cobra.Command{Use: "resume FEED", Short: "Let runs begin by themselves again", Args: arguments(1, 1),
			RunE: c.call(func(ctx context.Context, api *client.Client, args []string) error {
				return c.did(api.Resume(ctx, args[0]), "resumed "+args[0])
			})},
		removeCommand,
		&cobra.Command{Use: "ddl FILE...", Short: "The statements that make the tables of feed files; needs no " +
			"service", Args: arguments(1, -1), RunE: c.ddl},
		&cobra.Command{Use: "history FEED", Short: "All versions of a feed", Args: arguments(1, 1),
			RunE: c.call(c.feedHistory)},
	)
	return cmd
}

func (c *command) did(err error, what string) error {
	if err != nil {
		return err
	}
	return c.show(map[string]string{"done": what}, func() { fmt.Fprintln(c.out, what) })
}

func (c *command) ddl(_ *cobra.Command, args []string) error {
	good, bad, err := c.parseFiles(args)
	if err != nil {
		return err
	}
	if len(bad) > 0 {
		return bad
	}
	var statements []string
	for _, p := range good {
		ddl, err := load.DDL(p.feed)
		if err != nil {
			return err
		}
		statements = append(statements, ddl...)
	}
	return c.show(statements, func() { fmt.Fprintln(c.out, strings.Join(statements, ";\n")+";") })
}

// feedFiles lists the feed files that arguments name: files, and the .yaml
// files of folders.
func feedFiles(args []string) ([]string, error) {
	var files []string
	for _, arg := range args {
		info, err := os.Stat(arg)
		if err != nil {
			return nil, err
		}
		if !info.IsDir() {
			files = append(files, arg)
			continue
		}
		entries, err := os.ReadDir(arg)
		if err != nil {
			return nil, err
		}
		before := len(files)
		for _, e := range entries {
			if ext := filepath.Ext(e.Name()); ext == ".yaml" || ext == ".yml" {
				files = append(files, filepath.Join(arg, e.Name()))
			}
		}
		if len(files) == before {
			return nil, fmt.Errorf("%s holds no .yaml files", arg)
		}
	}
	sort.Strings(files)
	return files, nil
}

// parsed is a feed file that was read.
type parsed struct {
	file, text string
	feed       *feed.Feed
}

// parseOthers reads those of the files that define something else than feeds, as is says.
func parseOthers[T any](args []string, is func(file string) (bool, error), read func(file string) (T, error)) ([]T, error) {
	files, err := feedFiles(args)
	if err != nil {
		return nil, err
	}
	var out []T
	for _, file := range files {
		if it, err := is(file); err != nil {
			return nil, err
		} else if !it {
			continue
		}
		one, err := read(file)
		if err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, nil
}

// isOther reports whether a file defines a rollup or an extract, and no feed.
func isOther(file string) (bool, error) {
	is, err := isRollup(file)
	if err != nil || is {
		return is, err
	}
	return isExtract(file)
}

// parseFiles reads all files of feeds and says everything that is wrong with them.
func (c *command) parseFiles(args []string) (good []parsed, bad feed.Problems, err error) {
	files, err := feedFiles(args)
	if err != nil {
		return nil, nil, err
	}
	for _, file := range files {
		if other, err := isOther(file); err != nil {
			return nil, nil, err
		} else if other {
			continue
		}
		text, err := readFeedFile(file)
		var problems feed.Problems
		if errors.As(err, &problems) {
			bad = append(bad, problems...)
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		f, err := feed.Parse(file, text)
		if errors.As(err, &problems) {
			bad = append(bad, problems...)
			continue
		}
		good = append(good, parsed{file, string(text), f})
	}
	return good, bad, nil
}

func (c *command) checkFeeds(_ *cobra.Command, args []string) error {
	good, bad, err := c.parseFiles(args)
	if err != nil {
		return err
	}
	out := struct {
		Good     []api.FeedChecked `json:"good"`
		Problems feed.Problems     `json:"problems"`
	}{[]api.FeedChecked{}, feed.Problems{}}
	for _, p := range good {
		out.Good = append(out.Good, api.FeedChecked{Feed: p.feed.Name, Table: p.feed.Target.Schema + "." +
			p.feed.Target.Table, Files: p.feed.Landing.At + "/" + p.feed.Landing.Files.String()})
	}
	out.Problems = append(out.Problems, bad...)
	rollups, err := parseOthers(args, isRollup, readRollup)
	if err != nil {
		return err
	}
	extracts, err := parseOthers(args, isExtract, readExtract)
	if err != nil {
		return err
	}
	err = c.show(out, func() {
		for _, x := range extracts {
			c.say("%s: good. extract %s -> %s/%s\n", x.file, x.extract.Name, x.extract.Files.Landing.At, x.extract.Files.Name)
		}
		for _, r := range rollups {
			c.say("%s: good. rollup %s -> %s\n", r.file, r.rollup.Name, r.rollup.Table)
		}
		for _, p := range bad {
			fmt.Fprintln(c.out, p.Error())
		}
		for i, g := range out.Good {
			c.say("%s: good. %s: %s -> %s\n", good[i].file, g.Feed, g.Files, g.Table)
		}
	})
	if err == nil && len(bad) > 0 {
		return errWrong
	}
	return err
}

func (c *command) putCommand() *cobra.Command {
	var yes, remove bool
	cmd := &cobra.Command{Use: "put FILE|FOLDER...", Short: "Create or change feeds; for a folder, show what would " +
		"happen and ask", Args: arguments(1, -1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			return c.putFeeds(ctx, service, args, yes, remove)
		})}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.Flags().BoolVar(&remove, "remove", false, "end the feeds that are not in the folder; their history and their "+
		"rows stay")
	return cmd
}

// change is what putting feed files would do to one feed.
type change struct {
	Feed string `json:"feed"`
	What string `json:"what"` // created, put again, changed, as it was, removed, not in the folder
	// LeavesBehind is what a changed feed leaves behind, or one that is put again finds.
	LeavesBehind []string `json:"leaves_behind"`
	put          *parsed
}

func (c *command) putFeeds(ctx context.Context, service *client.Client, args []string, yes, remove bool) error {
	good, bad, err := c.parseFiles(args)
	if err != nil {
		return err
	}
	if len(bad) > 0 {
		return bad // all or nothing: a folder with one wrong file changes no feed
	}
	rollups, err := parseOthers(args, isRollup, readRollup)
	if err != nil {
		return err
	}
	extracts, err := parseOthers(args, isExtract, readExtract)
	if err != nil {
		return err
	}
	folder := false
	for _, arg := range args {
		info, err := os.Stat(arg)
		folder = folder || err == nil && info.IsDir()
	}
	changes, err := plannedChanges(ctx, service, good, folder, remove)
	if err != nil {
		return err
	}
	parts := slices.ContainsFunc(changes, func(ch change) bool { return len(ch.LeavesBehind) > 0 })
	if (folder || parts) && !yes {
		agreed, err := c.ask(changes)
		if err != nil || !agreed {
			return err
		}
	}
	puts := []api.FeedPut{}
	for _, ch := range changes {
		switch {
		case ch.put != nil:
			put, err := service.PutFeed(ctx, ch.Feed, ch.put.file, ch.put.text)
			if err != nil {
				return err
			}
			puts = append(puts, put)
		case ch.What == "removed":
			if err := service.RemoveFeed(ctx, ch.Feed); err != nil {
				return err
			}
		}
	}
	rolled, err := putRollups(ctx, service, rollups)
	if err != nil {
		return err
	}
	extracted, err := putExtracts(ctx, service, extracts)
	if err != nil {
		return err
	}
	fits := !slices.ContainsFunc(puts, func(p api.FeedPut) bool { return len(p.Misfit) > 0 })
	return c.checked(!fits, puts, func() {
		for _, p := range puts {
			c.feedPut(p)
		}
		c.rollupsPut(rolled)
		c.extractsPut(extracted)
		for _, ch := range changes {
			if ch.put == nil {
				c.say("%s: %s\n", ch.Feed, ch.What)
			}
		}
	})
}

// feedPut says what became of a feed that was put.
func (c *command) feedPut(p api.FeedPut) {
	what := "as it was"
	switch {
	case p.Changed && p.Version == 1:
		what = "created"
	case p.Changed:
		what = "changed"
	}
	c.say("%s: %s, version %d\n", p.Feed, what, p.Version)
	c.say("  %s\n", p.Wins)
	for _, line := range slices.Concat(p.Notes, p.Changes) {
		fmt.Fprintf(c.out, "  %s\n", harmlessLines(line, "  "))
	}
	for i, line := range p.Misfit {
		indent := "    "
		if i == 0 {
			indent = "  "
		}
		fmt.Fprintf(c.out, "%s%s\n", indent, harmlessLines(line, indent))
	}
}

// plannedChanges says what putting feed files would do, to each feed.
func plannedChanges(ctx context.Context, service *client.Client, good []parsed, folder, remove bool) ([]change, error) {
	feeds, err := service.AllFeeds(ctx, client.FeedQuery{})
	if err != nil {
		return nil, err
	}
	present := map[string]bool{}
	for _, f := range feeds {
		present[f.Name] = true
	}
	var changes []change
	for i := range good {
		p := &good[i]
		ch := change{Feed: p.feed.Name, What: "created", put: p}
		if present[ch.Feed] {
			versions, err := service.Versions(ctx, ch.Feed)
			if err != nil {
				return nil, err
			}
			ch.What = "changed"
			if versions[0].Definition == p.text {
				ch.What = "as it was"
			} else if before, err := feed.Parse(p.file,
				[]byte(versions[0].Definition)); err == nil { // else there is nothing to leave behind
				ch.LeavesBehind = p.feed.LeavesBehind(before)
			}
			delete(present, ch.Feed)
		} else if versions, err := service.Versions(ctx, ch.Feed); err == nil {
			ch.What = "put again"
			ch.LeavesBehind = []string{fmt.Sprintf("it was removed after version %d, and its ledger goes on: files "+
				"that were loaded then count as loaded, and their rows are where they were. Another name begins anew; "+
				"mullein redo --feed %s loads them again",
				versions[0].Version, ch.Feed)}
		} else if !client.IsNotFound(err) {
			return nil, err
		}
		changes = append(changes, ch)
	}
	if folder {
		for _, f := range feeds {
			if present[f.Name] {
				what := "not in the folder; left alone (--remove ends it)"
				if remove {
					what = "removed"
				}
				changes = append(changes, change{Feed: f.Name, What: what})
			}
		}
	}
	return changes, nil
}

// ask shows what would happen and asks whether it shall.
func (c *command) ask(changes []change) (bool, error) {
	something := false
	for _, ch := range changes {
		fmt.Fprintf(c.errOut, "  %-30s %s\n", ch.Feed, ch.What)
		for _, line := range ch.LeavesBehind {
			fmt.Fprintf(c.errOut, "    %s\n", harmlessLines(line, "    "))
		}
		something = something || ch.What == "created" || ch.What == "changed" || ch.What == "removed" ||
			ch.What == "put again"
	}
	if !something {
		return true, nil
	}
	if !terminal(c.errOut) {
		return false, usageError{errors.New("nothing was changed; say --yes to do this")}
	}
	return c.agrees(), nil
}

// agrees asks whether what was shown shall be done.
func (c *command) agrees() bool {
	fmt.Fprint(c.errOut, "Do this? [y/N] ")
	var answer string
	_, _ = fmt.Fscanln(c.in, &answer) // no answer is no
	return strings.HasPrefix(strings.ToLower(answer), "y")
}

func (c *command) which() *cobra.Command {
	var most int
	cmd := &cobra.Command{Use: "which FEED", Short: "The files at the landing: taken, or why not, and what was " +
		"captured", Args: arguments(1, 1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			list, err := service.Files(ctx, args[0], most)
			if err != nil {
				return err
			}
			return c.show(list, func() {
				if len(list.Items) == 0 {
					fmt.Fprintln(c.out, "The landing is empty.")
					return
				}
				t := &grid{head: []string{"PATH", "SIZE", "MODIFIED", "", "STATE", "SAYS", "WHY"}}
				for _, f := range list.Items {
					taken := text("left out")
					if f.Taken {
						taken = cell{text: "taken", color: "32"}
					}
					t.add(text(f.Path), integer(f.Size), when(&f.Modified), taken, state(string(f.State)),
						text(says(f.Captures)), text(shorten(f.Why, 80)))
				}
				t.write(c.out)
				if list.More {
					fmt.Fprintln(c.out, "There are more; --limit takes up to 20000.")
				}
			})
		})}
	cmd.Flags().IntVar(&most, "limit", 1000, "how many, 1 to 20000")
	return cmd
}

// says writes captures in one line.
func says(captures map[string]any) string {
	var parts []string
	for name, value := range captures {
		parts = append(parts, fmt.Sprintf("%s=%v", name, value))
	}
	sort.Strings(parts)
	return strings.Join(parts, ", ")
}

func (c *command) listFeeds(ctx context.Context, service *client.Client, q client.FeedQuery, all bool) error {
	q.Most = pageShown
	if all {
		feeds, err := service.AllFeeds(ctx, q)
		if err != nil {
			return err
		}
		return c.show(api.FeedList{Items: feeds, Total: int64(len(feeds))}, func() { c.feedTable(feeds) })
	}
	page, err := service.Feeds(ctx, q)
	if err != nil {
		return err
	}
	return c.show(page, func() {
		if page.Total == 0 && q != (client.FeedQuery{Most: pageShown}) {
			fmt.Fprintln(c.out, "No such feeds.")
			return
		}
		c.feedTable(page.Items)
		if more := page.Total - int64(len(page.Items)); page.Next != "" {
			c.say("\n%s more; --all lists them all, --after %s the next, a text narrows\n",
				grouped(more), page.Next)
		}
	})
}

func (c *command) listCommand() *cobra.Command {
	var q client.FeedQuery
	var all bool
	cmd := &cobra.Command{Use: "list [TEXT]", Short: "Feeds, by name; those with TEXT in their name, supplier or " +
		"folder", Args: arguments(0, 1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			if len(args) == 1 {
				q.Text = args[0]
			}
			return c.listFeeds(ctx, service, q, all)
		})}
	cmd.Flags().StringVar(&q.Supplier, "supplier", "", "only those of this supplier")
	cmd.Flags().BoolVar(&q.Wrong, "wrong", false, "only those of which something needs a person")
	cmd.Flags().StringVar(&q.After, "after", "", "only those behind this name")
	cmd.Flags().BoolVar(&all, "all", false, "all of them, not only the first hundred")
	return cmd
}

// pageShown is how many feeds a page has.
const pageShown = 100

func (c *command) feedTable(feeds []api.FeedView) {
	if len(feeds) == 0 {
		fmt.Fprintln(c.out, "No feeds yet. `mullein feed put FILE` creates one.")
		return
	}
	t := &grid{head: []string{"FEED", "", "WAITING", "OLDEST", "LAST NOTICED", "LAST LOADED", "NEXT RUN", "ROWS 24H",
		"WRONG", "LATE", "TABLE"}}
	for _, f := range feeds {
		mark := text("")
		switch {
		case f.Problem != "":
			mark = state("failed")
		case f.Paused:
			mark = state("paused")
		case f.ListedOnly:
			mark = text("listed only")
		}
		t.add(text(f.Name), mark, integer(f.Counts.Waiting), text(age(f.Counts)), when(f.Counts.LastNoticed),
			when(f.Counts.LastLoaded), when(f.NextRun), integer(f.Counts.RowsToday), integer(f.Counts.NeedsPerson),
			integer(f.Counts.Late), text(f.Table))
	}
	t.write(c.out)
	for _, f := range feeds {
		if f.Problem != "" {
			fmt.Fprintf(c.out, "\n%s is not working: %s\n", f.Name, harmlessLines(f.Problem, ""))
		}
		if f.Waits != "" {
			c.say("\n%s: %s\n", f.Name, f.Waits)
		}
	}
}

// age is how long the oldest arrival waits.
func age(counts *api.FeedCounts) string {
	if counts.Waiting == 0 || counts.OldestAt == nil {
		return ""
	}
	return time.Since(*counts.OldestAt).Round(time.Second).String()
}

// showSchema writes the columns of a feed as a schema that others can read.
func (c *command) showSchema(ctx context.Context, service *client.Client, name string, version int, as string) error {
	versions, err := service.Versions(ctx, name)
	if err != nil {
		return err
	}
	for _, v := range versions {
		if version != 0 && v.Version != version {
			continue
		}
		f, err := feed.Parse(name, []byte(v.Definition))
		if err != nil {
			return err
		}
		write := map[string]func() ([]byte, error){"table": f.TableSchema, "avro": f.AvroSchema}[as]
		if write == nil {
			return usageError{fmt.Errorf("--schema takes table or avro, not %q", as)}
		}
		text, err := write()
		if err != nil {
			return err
		}
		fmt.Fprintln(c.out, string(text))
		return nil
	}
	return fmt.Errorf("feed %q has no version %d; it has 1 to %d", name, version, versions[0].Version)
}

// readFeedFile reads a feed file, and puts the schema that it names in its
// place.
func readFeedFile(file string) ([]byte, error) {
	text, err := readSmall(file)
	if err != nil {
		return nil, err
	}
	folder := filepath.Dir(file)
	list := func(glob string) ([]string, error) {
		files, err := filepath.Glob(filepath.Join(folder, filepath.FromSlash(glob)))
		for i := range files {
			relative, relErr := filepath.Rel(folder, files[i])
			files[i], err = filepath.ToSlash(relative), errors.Join(err, relErr)
		}
		return files, err
	}
	return feed.Inline(file, text, list, func(name string) ([]byte, error) {
		return readSmall(filepath.Join(folder, filepath.FromSlash(name)))
	})
}

// readSmall reads a file up to more than any definition may have, so that what is read
// of a larger one is refused for its size.
func readSmall(path string) ([]byte, error) {
	const enough = 4 << 20
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, enough))
}

func (c *command) showFeed(ctx context.Context, service *client.Client, name string, version int) error {
	versions, err := service.Versions(ctx, name)
	if err != nil {
		return err
	}
	for _, v := range versions {
		if version == 0 || v.Version == version {
			return c.show(v, func() {
				fmt.Fprint(c.out, v.Definition)
				if !strings.HasSuffix(v.Definition, "\n") {
					fmt.Fprintln(c.out)
				}
			})
		}
	}
	return fmt.Errorf("feed %q has no version %d; it has 1 to %d", name, version, versions[0].Version)
}

func (c *command) feedHistory(ctx context.Context, service *client.Client, args []string) error {
	versions, err := service.Versions(ctx, args[0])
	if err != nil {
		return err
	}
	return c.show(versions, func() {
		t := &grid{head: []string{"VERSION", "PUT", "BY", "LINES"}}
		for _, v := range versions {
			t.add(id(int64(v.Version)), when(&v.PutAt), text(v.PutBy),
				integer(int64(strings.Count(v.Definition, "\n"))))
		}
		t.write(c.out)
	})
}

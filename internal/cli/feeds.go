package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"

	"github.com/spf13/cobra"

	"mullein/internal/api"
	"mullein/internal/client"
	"mullein/internal/core/feed"
)

func (c *command) feed() *cobra.Command {
	cmd := &cobra.Command{Use: "feed", Short: "Feeds: check, put, list, show, pause, resume, remove, history"}
	var remove bool
	removeCommand := &cobra.Command{Use: "remove FEED", Short: "End a feed; its history and its rows stay", Args: arguments(1, 1), RunE: c.call(func(ctx context.Context, api *client.Client, args []string) error {
		if !remove {
			return usageError{fmt.Errorf("feed remove %s: say --yes to end the feed; its history and its rows stay", args[0])}
		}
		return c.did(api.RemoveFeed(ctx, args[0]), "removed "+args[0])
	})}
	removeCommand.Flags().BoolVar(&remove, "yes", false, "really")
	var version int
	show := &cobra.Command{Use: "show FEED", Short: "A feed's definition", Args: arguments(1, 1), RunE: c.call(func(ctx context.Context, api *client.Client, args []string) error {
		return c.showFeed(ctx, api, args[0], version)
	})}
	show.Flags().IntVar(&version, "version", 0, "an older version (default: the present one)")
	cmd.AddCommand(
		&cobra.Command{Use: "check FILE|FOLDER...", Short: "Say what is wrong, change nothing; needs no service", Args: arguments(1, -1), RunE: c.checkFeeds},
		&cobra.Command{Use: "put FILE|FOLDER...", Short: "Create or change feeds", Args: arguments(1, -1), RunE: c.call(c.putFeeds)},
		&cobra.Command{Use: "list", Short: "All feeds", Args: arguments(0, 0), RunE: c.call(c.listFeeds)},
		show,
		&cobra.Command{Use: "pause FEED", Short: "Let no run begin by itself", Args: arguments(1, 1), RunE: c.call(func(ctx context.Context, api *client.Client, args []string) error {
			return c.did(api.Pause(ctx, args[0]), "paused "+args[0])
		})},
		&cobra.Command{Use: "resume FEED", Short: "Let runs begin by themselves again", Args: arguments(1, 1), RunE: c.call(func(ctx context.Context, api *client.Client, args []string) error {
			return c.did(api.Resume(ctx, args[0]), "resumed "+args[0])
		})},
		removeCommand,
		&cobra.Command{Use: "history FEED", Short: "All versions of a feed", Args: arguments(1, 1), RunE: c.call(c.feedHistory)},
	)
	return cmd
}

func (c *command) did(err error, what string) error {
	if err != nil {
		return err
	}
	return c.show(map[string]string{"done": what}, func() { fmt.Fprintln(c.out, what) })
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

// parseFiles reads all files and says everything that is wrong with them.
func (c *command) parseFiles(args []string) (good []parsed, bad feed.Problems, err error) {
	files, err := feedFiles(args)
	if err != nil {
		return nil, nil, err
	}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			return nil, nil, err
		}
		f, err := feed.Parse(file, text)
		var problems feed.Problems
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
		out.Good = append(out.Good, api.FeedChecked{Feed: p.feed.Name, Table: p.feed.Target.Schema + "." + p.feed.Target.Table, Files: p.feed.Landing.At + "/" + p.feed.Landing.Files.String()})
	}
	out.Problems = append(out.Problems, bad...)
	err = c.show(out, func() {
		for _, p := range bad {
			fmt.Fprintln(c.out, p.Error())
		}
		for i, g := range out.Good {
			fmt.Fprintf(c.out, "%s: good. %s: %s -> %s\n", good[i].file, g.Feed, g.Files, g.Table)
		}
	})
	if err == nil && len(bad) > 0 {
		return errWrong
	}
	return err
}

func (c *command) putFeeds(ctx context.Context, service *client.Client, args []string) error {
	good, bad, err := c.parseFiles(args)
	if err != nil {
		return err
	}
	if len(bad) > 0 {
		return bad // all or nothing: a folder with one wrong file changes no feed
	}
	puts := []api.FeedPut{}
	for _, p := range good {
		put, err := service.PutFeed(ctx, p.feed.Name, p.file, p.text)
		if err != nil {
			return err
		}
		puts = append(puts, put)
	}
	return c.show(puts, func() {
		for _, p := range puts {
			what := "as it was"
			switch {
			case p.Changed && p.Version == 1:
				what = "created"
			case p.Changed:
				what = "changed"
			}
			fmt.Fprintf(c.out, "%s: %s, version %d\n", p.Feed, what, p.Version)
		}
	})
}

func (c *command) listFeeds(ctx context.Context, service *client.Client, _ []string) error {
	feeds, err := service.Feeds(ctx)
	if err != nil {
		return err
	}
	return c.show(feeds, func() { c.feedTable(feeds) })
}

func (c *command) feedTable(feeds []api.FeedView) {
	if len(feeds) == 0 {
		fmt.Fprintln(c.out, "No feeds yet. `mullein feed put FILE` creates one.")
		return
	}
	t := &table{head: []string{"FEED", "", "WAITING", "LAST NOTICED", "LAST LOADED", "ROWS 24H", "WRONG", "TABLE"}}
	for _, f := range feeds {
		mark := text("")
		switch {
		case f.Problem != "":
			mark = state("failed")
		case f.Paused:
			mark = state("paused")
		}
		t.add(text(f.Name), mark, integer(f.Counts.Waiting), when(f.Counts.LastNoticed), when(f.Counts.LastLoaded), integer(f.Counts.RowsToday), integer(f.Counts.NeedsPerson), text(f.Table))
	}
	t.write(c.out)
	for _, f := range feeds {
		if f.Problem != "" {
			fmt.Fprintf(c.out, "\n%s is not working: %s\n", f.Name, f.Problem)
		}
	}
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
		t := &table{head: []string{"VERSION", "PUT", "BY", "LINES"}}
		for _, v := range versions {
			t.add(id(int64(v.Version)), when(&v.PutAt), text(v.PutBy), integer(int64(strings.Count(v.Definition, "\n"))))
		}
		t.write(c.out)
	})
}

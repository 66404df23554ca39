package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"

	"github.com/spf13/cobra"

	"mullein/internal/core/decode"
	"mullein/internal/core/draft"
)

func (c *command) draft() *cobra.Command {
	var at, to string
	cmd := &cobra.Command{Use: "draft FILE...|FOLDER", Short: "Propose feeds from sample files, one for each kind of " +
		"file", Args: arguments(1, 1000), RunE: func(cmd *cobra.Command, args []string) error {
		samples, err := samplesOf(cmd.Context(), args)
		if err != nil {
			return err
		}
		feeds, unread, err := draft.Propose(samples, at)
		if err != nil {
			return err
		}
		out, err := c.writeDrafts(feeds, to)
		if err != nil {
			return err
		}
		for name, err := range unread {
			out.Unread = append(out.Unread, unreadFile{name, err.Error()})
		}
		sort.Slice(out.Unread, func(a, b int) bool { return out.Unread[a].File < out.Unread[b].File })
		return c.checked(len(unread) > 0, out, func() {
			for _, u := range out.Unread {
				fmt.Fprintf(c.errOut, "%s: %s\n", u.File, u.Problem)
			}
		})
	}}
	cmd.Flags().StringVar(&at, "at", "landing", "the landing folder that the feeds name")
	cmd.Flags().StringVar(&to, "to", "", "write the feed files into this folder, each under its name (default: show "+
		"them)")
	return cmd
}

// drafts are feeds that are proposed, and files that could not be read.
type drafts struct {
	Feeds  []draftedFeed `json:"feeds"`
	Unread []unreadFile  `json:"unread"`
}

type draftedFeed struct {
	Feed       string   `json:"feed"`
	Definition string   `json:"definition"`
	Files      []string `json:"files"`
	Written    string   `json:"written,omitempty"` // the file
}

type unreadFile struct {
	File    string `json:"file"`
	Problem string `json:"problem"`
}

// writeDrafts shows drafts, or writes them into a folder.
func (c *command) writeDrafts(feeds []draft.Feed, to string) (drafts, error) {
	out := drafts{[]draftedFeed{}, []unreadFile{}}
	if to != "" {
		if err := os.MkdirAll(to, 0o755); err != nil {
			return out, err
		}
	}
	for i, f := range feeds {
		drafted := draftedFeed{Feed: f.Name, Definition: f.Text, Files: append([]string{}, f.Files...)}
		if to == "" {
			if !c.json() {
				if i > 0 {
					c.say("\n# ------ the next feed ------\n")
				}
				fmt.Fprint(c.out, f.Text)
			}
			out.Feeds = append(out.Feeds, drafted)
			continue
		}
		name := filepath.Join(to, f.Name+".yaml")
		file, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if errors.Is(err, fs.ErrExist) {
			return out, fmt.Errorf("%s is there already; a draft writes over nothing", name)
		}
		if err != nil {
			return out, err
		}
		_, err = file.WriteString(f.Text)
		if err := errors.Join(err, file.Close()); err != nil {
			return out, err
		}
		drafted.Written = name
		out.Feeds = append(out.Feeds, drafted)
		if !c.json() {
			c.say("%s, from %d files\n", name, len(f.Files))
		}
	}
	return out, nil
}

// samplesOf finds the files that are named, and those below folders.
func samplesOf(ctx context.Context, args []string) ([]draft.Sample, error) {
	var out []draft.Sample
	add := func(root, name string) {
		rel, err := filepath.Rel(root, name)
		if err != nil {
			rel = filepath.Base(name)
		}
		out = append(out, draft.Sample{Path: filepath.ToSlash(rel), Open: func() (decode.Source, func(), error) {
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

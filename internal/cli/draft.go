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
	cmd := &cobra.Command{Use: "draft FILE...|FOLDER", Short: "Propose feeds from sample files, one for each kind of file", Args: arguments(1, 1000), RunE: func(cmd *cobra.Command, args []string) error {
		samples, err := samplesOf(cmd.Context(), args)
		if err != nil {
			return err
		}
		feeds, unread, err := draft.Propose(samples, at)
		if err != nil {
			return err
		}
		if err := c.writeDrafts(feeds, to); err != nil {
			return err
		}
		var names []string
		for name := range unread {
			names = append(names, name)
		}
		sort.Strings(names)
		for _, name := range names {
			fmt.Fprintf(c.errOut, "%s: %v\n", name, unread[name])
		}
		if len(unread) > 0 {
			return errWrong
		}
		return nil
	}}
	cmd.Flags().StringVar(&at, "at", "landing", "the landing folder that the feeds name")
	cmd.Flags().StringVar(&to, "to", "", "write the feed files into this folder, each under its name (default: show them)")
	return cmd
}

func (c *command) writeDrafts(feeds []draft.Feed, to string) error {
	if to != "" {
		if err := os.MkdirAll(to, 0o755); err != nil {
			return err
		}
	}
	for i, f := range feeds {
		if to == "" {
			if i > 0 {
				c.say("\n# ------ the next feed ------\n")
			}
			fmt.Fprint(c.out, f.Text)
			continue
		}
		name := filepath.Join(to, f.Name+".yaml")
		file, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if errors.Is(err, fs.ErrExist) {
			return fmt.Errorf("%s is there already; a draft writes over nothing", name)
		}
		if err != nil {
			return err
		}
		_, err = file.WriteString(f.Text)
		if err := errors.Join(err, file.Close()); err != nil {
			return err
		}
		c.say("%s, from %d files\n", name, len(f.Files))
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

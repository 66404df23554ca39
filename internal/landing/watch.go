package landing

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"

	"github.com/fsnotify/fsnotify"
)

// Watcher hears of changes in a folder and those below it. Events get lost, so
// it only says sooner what a listing would say later.
type Watcher struct {
	events *fsnotify.Watcher
	folder *Folder
}

// Watch begins to watch. The folder must stay open as long.
func (f *Folder) Watch() (*Watcher, error) {
	events, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, fmt.Errorf("watch %s: %w", f.At, err)
	}
	w := &Watcher{events: events, folder: f}
	if err := w.add("."); err != nil {
		events.Close()
		return nil, fmt.Errorf("watch %s: %w", f.At, err)
	}
	return w, nil
}

func (w *Watcher) add(from string) error {
	return fs.WalkDir(w.folder.root.FS(), from, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			if p == from && p == "." {
				return err
			}
			return nil // the listing will say
		}
		if !d.IsDir() {
			return nil
		}
		if p != "." && strings.HasPrefix(d.Name(), ".") || strings.Count(p, "/") >= maxDepth {
			return fs.SkipDir
		}
		return w.events.Add(filepath.Join(w.folder.name, filepath.FromSlash(p)))
	})
}

// Changed is one thing that a watcher heard: a path below the landing at which
// something happened, or Everything when a folder came or events were lost.
type Changed struct {
	Path       string
	Everything bool
}

// Next waits for something to happen; ok is false after Close.
func (w *Watcher) Next() (c Changed, ok bool) {
	for {
		select {
		case e, open := <-w.events.Events:
			if !open {
				return c, false
			}
			rel, err := filepath.Rel(w.folder.name, e.Name)
			if err != nil || strings.HasPrefix(rel, "..") {
				continue
			}
			p := filepath.ToSlash(rel)
			if e.Has(fsnotify.Create) {
				if info, err := w.folder.root.Stat(rel); err == nil && info.IsDir() {
					_ = w.add(p) // a folder that cannot be watched is still listed
					return Changed{Everything: true}, true
				}
			}
			return Changed{Path: p, Everything: p == "."}, true
		case err, open := <-w.events.Errors:
			if !open {
				return c, false
			}
			if errors.Is(err, fsnotify.ErrEventOverflow) {
				return Changed{Everything: true}, true
			}
		}
	}
}

// Close ends the watching.
func (w *Watcher) Close() error { return w.events.Close() }

package landing

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"github.com/fsnotify/fsnotify"
	"golang.org/x/sys/unix"
)

// Watcher hears of changes in folders and those below them, in all of them through
// one instance of the system's notification. Events get lost, so it only says
// sooner what a listing would say later.
type Watcher struct {
	events *fsnotify.Watcher

	mu      sync.Mutex
	folders map[string][]*watch // by the path of each folder that is watched
}

// watch is one landing that is watched.
type watch struct {
	name    string // of the landing's folder
	heard   func(Changed)
	folders map[string]bool // the paths of its folders
}

// Changed is one thing that a watcher heard: a path below the landing at which
// something happened, or Everything when a folder came or events were lost.
type Changed struct {
	Path       string
	Everything bool
}

// ErrWatchLimit says that the system takes no more watches.
var ErrWatchLimit = errors.New("the system's limit of watches is reached (fs.inotify.max_user_watches)")

// NewWatcher makes a Watcher. It hears nothing until [Watcher.Run].
func NewWatcher() (*Watcher, error) {
	events, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, fmt.Errorf("watch folders: %w", err)
	}
	return &Watcher{events: events, folders: map[string][]*watch{}}, nil
}

// Watch begins to watch a landing: heard is called for each thing that happens
// there, and must not wait. stop ends it.
func (w *Watcher) Watch(f *Folder, heard func(Changed)) (stop func(), err error) {
	one := &watch{name: f.name, heard: heard, folders: map[string]bool{}}
	stop = func() { w.forget(one) }
	err = fs.WalkDir(f.root.FS(), ".", func(p string, d fs.DirEntry, err error) error {
		switch {
		case err != nil && p == ".":
			return err
		case err != nil || !d.IsDir():
			return nil // the listing will say
		case p != "." && strings.HasPrefix(d.Name(), ".") || strings.Count(p, "/") >= MaxDepth:
			return fs.SkipDir
		}
		return w.add(one, filepath.Join(f.name, filepath.FromSlash(p)))
	})
	if err != nil {
		stop()
		return nil, fmt.Errorf("watch %s: %w", f.At, err)
	}
	return stop, nil
}

// add watches one folder for a landing.
func (w *Watcher) add(one *watch, folder string) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if one.folders[folder] {
		return nil
	}
	if err := w.events.Add(folder); err != nil {
		if errors.Is(err, unix.ENOSPC) {
			return ErrWatchLimit
		}
		return err
	}
	one.folders[folder] = true
	w.folders[folder] = append(w.folders[folder], one)
	return nil
}

func (w *Watcher) forget(one *watch) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for folder := range one.folders {
		rest := slices.DeleteFunc(slices.Clone(w.folders[folder]), func(o *watch) bool { return o == one })
		if len(rest) > 0 {
			w.folders[folder] = rest
			continue
		}
		delete(w.folders, folder)
		_ = w.events.Remove(folder) // it is gone already when the folder is
	}
	clear(one.folders)
}

// at returns who watches a folder.
func (w *Watcher) at(folder string) []*watch {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.folders[folder]
}

// Run calls whom it concerns until ctx ends, and then stops watching.
func (w *Watcher) Run(ctx context.Context) {
	defer w.events.Close()
	for {
		select {
		case <-ctx.Done():
			return
		case e, open := <-w.events.Events:
			if !open {
				return
			}
			w.tell(e)
		case err, open := <-w.events.Errors:
			if !open {
				return
			}
			if errors.Is(err, fsnotify.ErrEventOverflow) {
				w.tellAll()
			}
		}
	}
}

// tell calls those who watch the folder in which something happened, or the folder
// to which it happened.
func (w *Watcher) tell(e fsnotify.Event) {
	isFolder := false
	if e.Has(fsnotify.Create) {
		info, err := os.Lstat(e.Name)
		isFolder = err == nil && info.IsDir()
	}
	for _, one := range w.at(filepath.Dir(e.Name)) {
		rel, err := filepath.Rel(one.name, e.Name)
		if err != nil {
			continue
		}
		if isFolder {
			w.addBelow(one, e.Name)
		}
		one.heard(Changed{Path: path.Clean(filepath.ToSlash(rel)), Everything: isFolder})
	}
	for _, one := range w.at(e.Name) {
		if one.name == e.Name {
			one.heard(Changed{Path: ".", Everything: true})
		}
	}
}

// addBelow watches a folder that came, and those below it. One that cannot be
// watched is still listed.
func (w *Watcher) addBelow(one *watch, folder string) {
	_ = filepath.WalkDir(folder, func(p string, d fs.DirEntry, err error) error {
		switch {
		case err != nil || !d.IsDir():
			return nil
		case strings.HasPrefix(d.Name(), "."):
			return fs.SkipDir
		}
		return w.add(one, p)
	})
}

func (w *Watcher) tellAll() {
	w.mu.Lock()
	all := map[*watch]bool{}
	for _, some := range w.folders {
		for _, one := range some {
			all[one] = true
		}
	}
	w.mu.Unlock()
	for one := range all {
		one.heard(Changed{Path: ".", Everything: true})
	}
}

package landing

import (
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"
)

// OwnError says that a landing holds files of the service itself, or lies among them:
// what is put away or loaded there would be the service's own.
type OwnError struct {
	At  string // the landing
	Own string // the file or folder
}

func (e *OwnError) Error() string {
	return fmt.Sprintf("landing %s holds or lies in %s, which is the service's own; name a folder apart from it",
		e.At, e.Own)
}

// Guard keeps the service's own files and folders out of landings. A nil Guard keeps
// nothing out. It may be used by several goroutines.
type Guard struct {
	own []string

	mu    sync.Mutex
	until time.Time       // what is below holds so long
	self  map[node]string // the files and folders, by what they are
	above map[node]string // the folders that they lie in
}

// node is what a file or folder is, by whatever name.
type node struct{ device, inode uint64 }

// guardLasts is how long it is taken for granted where the service's own files lie.
const guardLasts = 10 * time.Second

// NewGuard makes a guard of files and folders, which need not be there yet.
func NewGuard(own ...string) *Guard { return &Guard{own: own} }

// Check makes sure that a landing neither is, nor holds, nor lies in any of the
// service's own files and folders, by whatever links it was reached; else the error is
// an [*OwnError].
func (g *Guard) Check(f *Folder) error {
	if g == nil {
		return nil
	}
	self, above := g.nodes()
	here := node{f.Device, f.Inode}
	if own, holds := above[here]; holds {
		return &OwnError{f.At, own}
	}
	path, err := filepath.EvalSymlinks(f.name)
	if err != nil {
		return &AwayError{f.At, cause(err).Error()}
	}
	for {
		if own, is := self[nodeOf(path)]; is {
			return &OwnError{f.At, own}
		}
		up := filepath.Dir(path)
		if up == path {
			return nil
		}
		path = up
	}
}

// nodes returns what the service's own files are, and what they lie in.
func (g *Guard) nodes() (self, above map[node]string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if time.Now().Before(g.until) {
		return g.self, g.above
	}
	g.self, g.above = map[node]string{}, map[node]string{}
	for _, own := range g.own {
		path, err := filepath.EvalSymlinks(own)
		if err != nil {
			continue // it is not there
		}
		if n := nodeOf(path); n != (node{}) {
			g.self[n] = own
		}
		for up := filepath.Dir(path); ; up = filepath.Dir(up) {
			if n := nodeOf(up); g.above[n] == "" {
				g.above[n] = own
			}
			if up == filepath.Dir(up) {
				break
			}
		}
	}
	g.until = time.Now().Add(guardLasts)
	return g.self, g.above
}

// nodeOf is what lies at a path; the zero value for nothing.
func nodeOf(path string) node {
	info, err := os.Stat(path)
	if err != nil {
		return node{}
	}
	s, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return node{}
	}
	return node{uint64(s.Dev), s.Ino}
}

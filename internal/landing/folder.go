// Package landing is the places where suppliers leave files: it lists them,
// watches them and opens their files. Today a place is a folder.
//
// It keeps nothing and decides nothing: what is new is the ledger's business,
// what belongs to a feed is core/filename's. Nothing it opens can lie outside
// of a landing root, whatever ".." or symbolic links say. Start at [Open].
package landing

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
	"unicode/utf8"

	"github.com/zeebo/xxh3"
	"golang.org/x/sys/unix"
)

// Entry is one name at a landing.
type Entry struct {
	Path     string // below the landing, with forward slashes
	Size     int64
	Modified time.Time
	Changed  time.Time // when its content, name or rights changed last, by the system's clock; zero where that is not known
	Inode    uint64    // of places that have none, a hash of the version or the ETag; 0 where there is neither
	Problem  string    // why it cannot be read as a file, or ""
}

// Same reports whether two looks at a path saw the same untouched file.
func (e Entry) Same(o Entry) bool { return e.Alike(o) && !e.changedSince(o) }

// Alike reports whether two looks at a path saw the same size, time and inode.
func (e Entry) Alike(o Entry) bool {
	return e.Size == o.Size && e.Inode == o.Inode && e.Modified.Equal(o.Modified)
}

// changedSince reports whether the change times of two looks are known and differ.
func (e Entry) changedSince(o Entry) bool {
	return !e.Changed.IsZero() && !o.Changed.IsZero() && !e.Changed.Equal(o.Changed)
}

// AwayError says that a landing cannot be listed. Its files are not gone: a
// share may be unmounted for a while.
type AwayError struct {
	At     string
	Reason string
}

func (e *AwayError) Error() string { return fmt.Sprintf("landing %s is away: %s", e.At, e.Reason) }

// Landing is a place where a supplier leaves files, opened for a while: a folder, or a folder of a place
// outside of this machine. Paths are below it, those of what was put away below its root. Close it after use.
type Landing interface {
	// Where returns the landing as feeds name it.
	Where() string
	// Identity tells the landing from another that took its place.
	Identity() Identity
	// Rest returns the least time between two listings; 0 where they may follow one another.
	Rest() time.Duration
	// List calls visit for each name that may be a file and that wanted, which is asked before anything is
	// looked up, does not turn down; in no order that matters.
	List(ctx context.Context, wanted func(path string) bool, visit func(Entry) error) error
	// Stat looks at one path. What is there but is no readable file comes with a Problem, not with an error;
	// of what is not there the error is an [fs.ErrNotExist].
	Stat(path string) (Entry, error)
	// Open opens a file for reading.
	Open(path string) (*File, error)
	// ReadSmall reads a file of up to most bytes, such as a marker.
	ReadSmall(path string, most int64) ([]byte, error)
	// PutAway moves a file to a path below the landing's root, or deletes it when to is empty, and returns where
	// it lies then. It may be called again after it was interrupted: number, which must be the file's own,
	// tells its traces.
	PutAway(file Entry, number int64, to string) (string, error)
	// OpenAway opens a file that was put away.
	OpenAway(place string) (*File, error)
	// TakeBack moves a file that was put away back.
	TakeBack(place, path string) error
	// Deliver puts a file into the landing, whole at once.
	Deliver(path string, content io.Reader, existing Existing) (Entry, error)
	// Note leaves a small text below the landing's root; RemoveNote removes it.
	Note(at, text string) error
	RemoveNote(at string) error
	// Beside opens another folder below the same root.
	Beside(folder string) (Landing, error)
	Close() error
}

// Identity tells a landing from another that took its place under its name.
type Identity struct{ Device, Inode uint64 }

// Folder is a landing in a folder. Close it after use.
type Folder struct {
	At     string // as the feed names it
	Device uint64
	Inode  uint64
	root   *os.Root
	above  *os.Root // the landing root that it lies in
	name   string   // of the folder itself, for the watcher

	// Zips says that zips are to be seen as folders: "delivery.zip/a.csv".
	Zips    bool
	zipping sync.Mutex // guards what is below
	zips    map[string]directory
	last    *openZip // nil for none
}

// Open finds the folder at below the first of the roots that has it. The error
// is an [*AwayError] when there is none now.
func Open(roots []string, at string) (*Folder, error) {
	var tried []string
	for _, root := range roots {
		r, err := os.OpenRoot(root)
		if err != nil {
			tried = append(tried, fmt.Sprintf("%s (%v)", root, cause(err)))
			continue
		}
		sub, err := r.OpenRoot(filepath.FromSlash(at))
		if err != nil {
			r.Close()
			tried = append(tried, fmt.Sprintf("%s (%v)", filepath.Join(root, at), cause(err)))
			continue
		}
		info, err := sub.Stat(".")
		if err != nil {
			sub.Close()
			r.Close()
			return nil, &AwayError{at, cause(err).Error()}
		}
		return &Folder{At: at, Device: device(info), Inode: inode(info), root: sub, above: r,
			name: filepath.Join(root, filepath.FromSlash(at))}, nil
	}
	return nil, &AwayError{at, "no such folder: " + strings.Join(tried, ", ") +
		"; create it, or start the service with --landing-root"}
}

// Make makes the folder at below the first of the roots that there is, where none of them has it yet.
func Make(roots []string, at string) error {
	var tried []string
	for _, root := range roots {
		r, err := os.OpenRoot(root)
		if err == nil {
			err = r.MkdirAll(filepath.FromSlash(at), 0o755)
			r.Close()
			if err == nil {
				return nil
			}
		}
		tried = append(tried, fmt.Sprintf("%s (%v)", filepath.Join(root, at), cause(err)))
	}
	return &AwayError{at, "no such folder, and none could be made: " + strings.Join(tried, ", ")}
}

func cause(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}

// Close returns back the folder's handles.
func (f *Folder) Close() error {
	f.zipping.Lock()
	f.leave(f.last)
	f.last = nil
	f.zipping.Unlock()
	return errors.Join(f.root.Close(), f.above.Close())
}

// Where returns the folder as the feed names it.
func (f *Folder) Where() string { return f.At }

// Rest returns 0.
func (f *Folder) Rest() time.Duration { return 0 }

// Identity tells the folder from another of its name.
func (f *Folder) Identity() Identity { return Identity{f.Device, f.Inode} }

// MaxDepth bounds how deep below the landing a listing goes, in folders.
const MaxDepth = 32

// List calls visit for each name that may be a file and that wanted, which is
// asked before anything is looked up, does not turn down; in no order that
// matters. Names that vanish while the listing goes on are passed over. Memory
// does not grow with the number of files.
func (f *Folder) List(ctx context.Context, wanted func(path string) bool, visit func(Entry) error) error {
	return f.list(ctx, ".", 0, wanted, visit)
}

func (f *Folder) list(ctx context.Context, folder string, depth int, wanted func(path string) bool,
	visit func(Entry) error) error {
	dir, err := f.root.Open(filepath.FromSlash(folder))
	if err != nil {
		return f.unlisted(folder, err, wanted, visit)
	}
	defer dir.Close()
	names := namesOf(dir)
	for {
		some, err := names.next()
		if err != nil {
			return f.unlisted(folder, err, wanted, visit)
		}
		if len(some) == 0 {
			return nil
		}
		for _, n := range some {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			p := n.name
			if folder != "." {
				p = folder + "/" + p
			}
			if strings.HasPrefix(n.name, ".") && strings.HasSuffix(n.name, halfMark) {
				f.removeLeftover(p)
				continue
			}
			isFolder, err := n.kind == unix.DT_DIR, error(nil)
			if e, bad := unspeakable(p); !bad {
				isFolder, err = f.one(dir, p, n, wanted, visit)
			} else if !isFolder && wanted(e.Path) {
				err = visit(e)
			}
			if err != nil {
				return err
			}
			if isFolder && !strings.HasPrefix(n.name, ".") && depth < MaxDepth {
				if err := f.list(ctx, p, depth+1, wanted, visit); err != nil {
					return err
				}
			}
		}
	}
}

// leftoverAfter is how old a half that [Folder.Deliver] writes must be to have been left by
// a service that was killed.
const leftoverAfter = time.Hour

func (f *Folder) removeLeftover(p string) {
	info, err := f.root.Lstat(filepath.FromSlash(p))
	if err == nil && info.Mode().IsRegular() && time.Since(info.ModTime()) > leftoverAfter {
		_ = f.root.Remove(filepath.FromSlash(p)) // else the next listing tries again
	}
}

// MaxPath is how many bytes a path below a landing may have.
const MaxPath = 2000

// unspeakable reports whether a file cannot be recorded under its path, and returns
// the entry that says so.
func unspeakable(p string) (e Entry, bad bool) {
	e.Modified = time.Unix(0, 0).UTC()
	switch {
	case !utf8.ValidString(p):
		e.Problem = "has a name that is not UTF-8; have it renamed"
	case len(p) > MaxPath:
		e.Problem = fmt.Sprintf("has a path of %d bytes; %d are the most", len(p), MaxPath)
	default:
		return Entry{}, false
	}
	e.Path = Shown(p)
	return e, true
}

// Shown is a path as people are shown it: bytes that are no UTF-8 are escaped, as
// \xff, and a path that is too long is cut, with a digest of the whole.
func Shown(p string) string {
	var b strings.Builder
	for rest := p; rest != ""; {
		r, size := utf8.DecodeRuneInString(rest)
		if r == utf8.RuneError && size == 1 {
			fmt.Fprintf(&b, `\x%02x`, rest[0])
		} else {
			b.WriteString(rest[:size])
		}
		rest = rest[size:]
	}
	shown := b.String()
	if len(shown) <= MaxPath {
		return shown
	}
	const kept = 200
	end := path.Base(shown)
	end = end[max(0, len(end)-kept):]
	return strings.ToValidUTF8(shown[:kept], "") + fmt.Sprintf("...%016x.../", xxh3.HashString(p)) +
		strings.ToValidUTF8(end, "")
}

// one looks at a name of a folder that is being listed, if it is wanted, and
// reports whether it is a folder itself.
func (f *Folder) one(dir *os.File, p string, n name, wanted func(path string) bool,
	visit func(Entry) error) (isFolder bool, err error) {
	asked := wanted(p)
	if !asked && n.kind != unix.DT_UNKNOWN {
		return n.kind == unix.DT_DIR, nil
	}
	// Through the folder that is open already, which is several times faster than
	// by its path.
	var s unix.Stat_t
	switch err := unix.Fstatat(int(dir.Fd()), n.name, &s, unix.AT_SYMLINK_NOFOLLOW); {
	case err == unix.ENOENT:
		return false, nil
	case err != nil: // Stat says what is wrong with it
		s.Mode = 0
	}
	isFolder = s.Mode&unix.S_IFMT == unix.S_IFDIR
	if !asked {
		return isFolder, nil
	}
	look := visit
	if f.Zips && isZip(p) && !isFolder {
		look = func(e Entry) error {
			if e.Problem != "" {
				return visit(e)
			}
			return f.expand(e, wanted, visit)
		}
	}
	if s.Mode&unix.S_IFMT == unix.S_IFREG {
		return false, look(Entry{Path: p, Size: s.Size, Modified: moment(s.Mtim.Unix()),
			Changed: moment(s.Ctim.Unix()), Inode: s.Ino})
	}
	entry, err := f.Stat(p)
	if errors.Is(err, fs.ErrNotExist) {
		return isFolder, nil
	}
	if err != nil {
		return isFolder, err
	}
	return isFolder, look(entry)
}

// unlisted says what a folder that cannot be listed means.
func (f *Folder) unlisted(folder string, err error, wanted func(path string) bool, visit func(Entry) error) error {
	switch {
	case folder == ".":
		return &AwayError{f.At, cause(err).Error()}
	case errors.Is(err, fs.ErrNotExist) || !wanted(folder):
		return nil
	}
	return visit(Entry{Path: folder, Problem: cause(err).Error()})
}

func entryOf(p string, info fs.FileInfo) Entry {
	e := Entry{Path: p, Size: info.Size(), Modified: info.ModTime().UTC().Truncate(time.Microsecond)}
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		e.Inode, e.Changed = s.Ino, moment(s.Ctim.Unix())
	}
	return e
}

// moment is a time as it is recorded, which is to the microsecond.
func moment(seconds, nanoseconds int64) time.Time {
	return time.Unix(seconds, nanoseconds).UTC().Truncate(time.Microsecond)
}

// Stat looks at one path. What is there but is no readable file comes with a
// Problem, not with an error.
func (f *Folder) Stat(p string) (Entry, error) {
	if archive, name := splitZip(p); name != "" && f.Zips {
		return f.statMember(archive, name)
	}
	info, err := f.root.Stat(filepath.FromSlash(p))
	if e, bad := unspeakable(p); bad && err == nil {
		return e, nil
	}
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			if link, linkErr := f.root.Lstat(filepath.FromSlash(p)); linkErr == nil && link.Mode()&fs.ModeSymlink != 0 {
				return Entry{Path: p, Modified: time.Unix(0, 0).UTC(), Problem: "is a symbolic link to nothing"}, nil
			}
			return Entry{}, fmt.Errorf("%s: %w", p, fs.ErrNotExist)
		}
		return Entry{Path: p, Problem: "cannot be looked at: " + cause(err).Error()}, nil
	}
	e := entryOf(p, info)
	switch m := info.Mode(); {
	case m.IsDir():
		e.Problem = "is a folder, not a file"
	case m&fs.ModeNamedPipe != 0:
		e.Problem = "is a named pipe, not a file"
	case !m.IsRegular():
		e.Problem = "is a device or socket, not a file"
	}
	if e.Problem != "" { // so that a folder is not news each time a file comes into it
		e.Size, e.Modified = 0, time.Unix(0, 0).UTC()
	}
	return e, nil
}

// File is an open file of a landing.
type File struct {
	Entry  Entry // as it was when it was opened
	file   content
	look   func(path string) (Entry, error) // at the file, as it is now
	member *member
	one    bool                  // what was read is known to be of one version
	far    bool                  // it is of a place
	broken atomic.Pointer[error] // what reading failed with first
}

// content is the bytes of an open file.
type content interface {
	io.Reader
	io.ReaderAt
	io.Seeker
	io.Closer
}

// Read reads the file's bytes.
func (f *File) Read(p []byte) (n int, err error) {
	if f.member != nil {
		return f.member.read(p)
	}
	n, err = f.file.Read(p)
	f.note(err)
	return n, err
}

// note keeps what reading failed with.
func (f *File) note(err error) {
	if err != nil && err != io.EOF {
		f.broken.CompareAndSwap(nil, &err)
	}
}

// Err returns what reading failed with, whatever a decoder made of it; nil where it did not.
func (f *File) Err() error {
	if err := f.broken.Load(); err != nil {
		return *err
	}
	return nil
}

// Seekable reports whether the file can be read from anywhere; what is packed in
// a zip cannot.
func (f *File) Seekable() bool { return f.member == nil }

// ReadAt reads bytes from anywhere in the file.
func (f *File) ReadAt(p []byte, at int64) (n int, err error) {
	n, err = f.file.ReadAt(p, at)
	f.note(err)
	return n, err
}

// Rewind goes back to the beginning.
func (f *File) Rewind() error {
	if f.member != nil {
		return f.member.rewind()
	}
	_, err := f.file.Seek(0, io.SeekStart)
	return err
}

// Close closes the file. The folder stays open.
func (f *File) Close() error {
	if f.member != nil {
		f.member.leave()
	}
	return f.file.Close()
}

// Open opens a file for reading. Opening never waits, not even on a pipe.
func (f *Folder) Open(p string) (*File, error) {
	if archive, name := splitZip(p); name != "" && f.Zips {
		return f.openMember(archive, name)
	}
	return f.openPlain(p)
}

func (f *Folder) openPlain(p string) (*File, error) {
	file, err := f.root.OpenFile(filepath.FromSlash(p), os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", path.Join(f.At, p), cause(err))
	}
	info, err := file.Stat()
	if err != nil || !info.Mode().IsRegular() {
		file.Close()
		if err == nil {
			err = errors.New("is not a file")
		}
		return nil, fmt.Errorf("open %s: %w", path.Join(f.At, p), err)
	}
	return &File{file: file, Entry: entryOf(p, info), look: f.Stat}, nil
}

// Unchanged reports whether the path still names the file that was opened, and
// nobody wrote to it since. Of a file of a place that was read, it is looked once: what comes after is
// another version.
func (f *File) Unchanged() bool {
	if f.one {
		return true
	}
	now, err := f.look(f.Entry.Path)
	same := err == nil && now.Same(f.Entry)
	f.one = same && f.far
	return same
}

func device(info fs.FileInfo) uint64 {
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		return uint64(s.Dev)
	}
	return 0
}

func inode(info fs.FileInfo) uint64 {
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		return s.Ino
	}
	return 0
}

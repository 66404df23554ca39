package landing

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"github.com/zeebo/xxh3"
)

// Store is what a place outside of this machine can do. Paths are below the place, with forward slashes. The
// errors of what is not there, is taken or is not allowed are [fs.ErrNotExist], [fs.ErrExist] and
// [fs.ErrPermission]; any other error is the place's.
type Store interface {
	// List calls visit for each file in a folder and below it, in no order that matters. A folder that is not
	// there is an error.
	List(ctx context.Context, folder string, visit func(Entry) error) error
	Stat(ctx context.Context, path string) (Entry, error)
	// Open opens a file from an offset on. From an offset other than 0 it is the version of an entry that is
	// wanted; of another one the error is [ErrChanged].
	Open(ctx context.Context, path string, from int64, of Entry) (Opened, error)
	// Put writes a file, whole at once where Renames is false.
	Put(ctx context.Context, path string, content io.Reader) error
	// Move renames a file; one that has the name is not written over.
	Move(ctx context.Context, from, to string) error
	Remove(ctx context.Context, path string) error
	// Renames reports whether Move is one step, in which a file keeps its size and time. Where it does not, a read is of one
	// version, whatever is put there meanwhile.
	Renames() bool
	// Room takes room for so many bytes of a file that is read, until it is given back. ok is false where there is
	// not as much.
	Room(bytes int64) (giveBack func(), ok bool)
	// Folder is where bytes are kept while they are read.
	Folder() string
	// Rest is the least time between two listings of a folder.
	Rest() time.Duration
}

// Opened is a file of a [Store] that is being read.
type Opened struct {
	io.ReadCloser
	Entry Entry
	MD5   []byte // of the whole file, where the place says it
}

// ErrChanged says that a file is not the one any more that it was.
var ErrChanged = errors.New("the file changed while it was read")

// farLimit bounds how long one request to a place may take that moves no bytes of files.
const farLimit = time.Minute

// VersionInode returns what stands for a version or an ETag in [Entry.Inode]; 0 where there is none.
func VersionInode(version string) uint64 {
	if version == "" {
		return 0
	}
	return xxh3.HashString(version)>>1 | 1 // it is kept as a signed number
}

// far is a folder of a place. Its calls last no longer than ctx, which is that of whoever opened it.
type far struct {
	ctx   context.Context
	store Store
	at    string // as the feed names it
	dir   string // below the place; "." for the place itself
	roots []string
}

// Mended is the folder below a landing root that holds rows which people mended. That of a place is below the first
// landing root of this machine: nobody else has to see them.
const Mended = ".mended"

// isOwn reports whether a path is one of [Mended], which lies on this machine.
func isOwn(p string) bool { return strings.HasPrefix(p, Mended+"/") }

// byOwn calls do with the first landing root of this machine.
func (f *far) byOwn(do func(*Folder) error) error {
	own, err := Open(f.roots[:1], ".")
	if err != nil {
		return err
	}
	return errors.Join(do(own), own.Close())
}

// OpenFar opens a folder of a place for as long as ctx lasts. The landing is called at in messages; roots are the
// landing roots of this machine, one at least.
func OpenFar(ctx context.Context, store Store, at, dir string, roots []string) Landing {
	return &far{ctx, store, at, path.Clean("./" + dir), roots}
}

func (f *far) Where() string      { return f.at }
func (f *far) Identity() Identity { return Identity{Device: xxh3.HashString(f.at) | 1} }
func (f *far) Close() error       { return nil }

// Rest returns the least time between two listings.
func (f *far) Rest() time.Duration { return f.store.Rest() }

// limited bounds a request.
func (f *far) limited() (context.Context, context.CancelFunc) {
	return context.WithTimeout(f.ctx, farLimit)
}

// away says why the place is away, if an error is the place's.
func (f *far) away(err error) error {
	for _, of := range []error{fs.ErrNotExist, fs.ErrExist, fs.ErrPermission, ErrChanged, ErrReplaced, ErrTaken} {
		if errors.Is(err, of) {
			return err
		}
	}
	if err == nil || f.ctx.Err() != nil {
		return err
	}
	return &AwayError{f.at, err.Error()}
}

func (f *far) below(p string) string { return path.Join(f.dir, p) }

// shown makes an entry of the place one of the landing.
func (f *far) shown(e Entry) (Entry, bool) {
	p, inside := e.Path, true
	if f.dir != "." {
		p, inside = strings.CutPrefix(p, f.dir+"/")
	}
	if !inside || p == "" {
		return Entry{}, false
	}
	e.Path = p
	if bad, is := unspeakable(p); is {
		return bad, true
	}
	if path.Clean(p) != p || strings.HasPrefix(p, "/") || strings.HasPrefix(p, "../") { // as keys of objects may be
		e.Problem = "has a name that is no plain path; have it renamed"
	}
	return e, true
}

// List visits the files of the landing. A place may tell a name twice.
func (f *far) List(ctx context.Context, wanted func(path string) bool, visit func(Entry) error) error {
	var ended error // by whoever visits
	err := f.store.List(ctx, f.dir, func(e Entry) error {
		e, ok := f.shown(e)
		if !ok || strings.HasSuffix(e.Path, halfMark) || isHidden(e.Path) || strings.Count(e.Path, "/") > MaxDepth ||
			!wanted(e.Path) {
			return nil
		}
		ended = visit(e)
		return ended
	})
	switch {
	case ended != nil:
		return ended
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, fs.ErrNotExist):
		return &AwayError{f.at, "there is no such folder"}
	case errors.Is(err, fs.ErrPermission):
		return &AwayError{f.at, "it may not be listed: " + err.Error()}
	}
	return f.away(err)
}

// isHidden reports whether a folder of a path begins with a dot; files that do are the pattern's business.
func isHidden(p string) bool {
	return strings.HasPrefix(p, ".") && strings.Contains(p, "/") || strings.Contains(path.Dir(p), "/.")
}

func (f *far) Stat(p string) (Entry, error) { return f.stat(f.below(p), p) }

func (f *far) stat(at, shown string) (Entry, error) {
	ctx, cancel := f.limited()
	defer cancel()
	e, err := f.store.Stat(ctx, at)
	if errors.Is(err, fs.ErrPermission) {
		return Entry{Path: shown, Modified: time.Unix(0, 0).UTC(), Problem: "cannot be looked at: it is not allowed"}, nil
	}
	if err != nil {
		return Entry{}, f.away(fmt.Errorf("%s: %w", path.Join(f.at, shown), err))
	}
	e.Path = shown
	return e, nil
}

func (f *far) Open(p string) (*File, error) { return f.open(f.below(p), p, f.Stat) }

func (f *far) OpenAway(place string) (*File, error) {
	if isOwn(place) {
		own, err := Open(f.roots[:1], ".")
		if err != nil {
			return nil, err
		}
		file, err := own.OpenAway(place)
		if err != nil {
			return nil, errors.Join(err, own.Close())
		}
		file.file = &closing{file.file, own}
		return file, nil
	}
	return f.open(place, place, func(string) (Entry, error) { return f.stat(place, place) })
}

// maxHeld is the size in bytes up to which a file is held in memory while it is read.
const maxHeld = 1 << 20

// open opens a file. A small one is read at once; the bytes of others come while they are read, and are kept
// on the local disk where there is room for them.
func (f *far) open(at, shown string, look func(string) (Entry, error)) (*File, error) {
	opened, err := f.store.Open(f.ctx, at, 0, Entry{})
	if errors.Is(err, fs.ErrNotExist) {
		if err := f.isThere(); err != nil {
			return nil, err
		}
	}
	if err != nil {
		return nil, f.away(fmt.Errorf("open %s: %w", path.Join(f.at, shown), err))
	}
	opened.Entry.Path = shown
	// Where there are no versions, a look after reading says whether the bytes are of one.
	out := &File{Entry: opened.Entry, look: look, far: true, one: !f.store.Renames()}
	source := &farSource{far: f, at: at, opened: opened}
	if out.Entry.Size <= maxHeld {
		text, err := source.whole()
		if err != nil {
			return nil, err
		}
		out.file = held{bytes.NewReader(text)}
		return out, nil
	}
	giveBack, ok := f.store.Room(out.Entry.Size)
	if !ok {
		out.file = newRanged(source)
		return out, nil
	}
	if out.file, err = newSpool(source, f.store.Folder(), giveBack); err != nil {
		opened.Close()
		giveBack()
		return nil, err
	}
	return out, nil
}

// isThere returns an [*AwayError] where the landing itself is not there.
func (f *far) isThere() error {
	ctx, cancel := f.limited()
	defer cancel()
	err := f.store.List(ctx, f.dir, func(Entry) error { return errSeen })
	if err == nil || errors.Is(err, errSeen) {
		return nil
	}
	return &AwayError{f.at, err.Error()}
}

var errSeen = errors.New("seen")

// closing is a file that closes its folder.
type closing struct {
	content
	folder *Folder
}

func (c *closing) Close() error { return errors.Join(c.content.Close(), c.folder.Close()) }

// held is a file in memory.
type held struct{ *bytes.Reader }

func (held) Close() error { return nil }

func (f *far) ReadSmall(p string, most int64) ([]byte, error) {
	opened, err := f.store.Open(f.ctx, f.below(p), 0, Entry{})
	if err != nil {
		return nil, f.away(fmt.Errorf("open %s: %w", path.Join(f.at, p), err))
	}
	if opened.Entry.Size > most {
		opened.Close()
		return nil, fmt.Errorf("%s has %d bytes; %d are the most", p, opened.Entry.Size, most)
	}
	return (&farSource{far: f, at: f.below(p), opened: opened}).whole()
}

// PutAway moves a file within its place. Where the place renames in one step, the file is renamed aside first
// and looked at again, as in a folder; else it is looked at before it is copied and before it is deleted.
func (f *far) PutAway(file Entry, number int64, to string) (string, error) {
	from := f.below(file.Path)
	if !f.store.Renames() {
		return f.copyAway(file, number, from, to)
	}
	aside := path.Join(path.Dir(from), fmt.Sprintf("put-away-%d.part", number)) // some servers do not list names with a dot before them
	if _, err := f.stat(aside, aside); errors.Is(err, fs.ErrNotExist) {
		err := f.isStill(file)
		if errors.Is(err, fs.ErrNotExist) {
			return f.found(to, number)
		}
		if err == nil {
			err = f.move(from, aside)
		}
		if err != nil {
			return "", err
		}
	} else if err != nil {
		return "", err
	}
	now, err := f.stat(aside, file.Path)
	if err != nil {
		return "", err
	}
	if !now.Alike(file) { // its name has just changed
		if err := f.move(aside, from); err != nil {
			return "", fmt.Errorf("%s came while the file before it was put away, and lies as %s: %w", from, aside, err)
		}
		return "", ErrReplaced
	}
	if to == "" {
		return "", f.remove(aside)
	}
	for _, place := range []string{to, numbered(to, number)} {
		err := f.move(aside, place)
		if !errors.Is(err, fs.ErrExist) {
			return place, err
		}
	}
	return "", fmt.Errorf("move to %s: it is taken, and so is %s", to, numbered(to, number))
}

// copyAway is PutAway where a move is a copy and a removal: each is repeated safely, since the copy has a name
// that only this file gets.
func (f *far) copyAway(file Entry, number int64, from, to string) (string, error) {
	err := f.isStill(file)
	if errors.Is(err, fs.ErrNotExist) {
		return f.found(to, number)
	}
	if err != nil {
		return "", err
	}
	if to == "" {
		return "", f.remove(from)
	}
	for _, place := range []string{to, numbered(to, number)} {
		err := f.move(from, place)
		if !errors.Is(err, fs.ErrExist) {
			return place, err
		}
		lies, err := f.stat(place, place)
		if err == nil && lies.Size == file.Size && place != to { // a copy by an attempt that was interrupted
			return place, f.remove(from)
		}
	}
	return "", fmt.Errorf("move to %s: it is taken, and so is %s", to, numbered(to, number))
}

// isStill returns [ErrReplaced] where another file has taken the path of one.
func (f *far) isStill(file Entry) error {
	now, err := f.Stat(file.Path)
	if err == nil && !now.Alike(file) {
		err = ErrReplaced
	}
	return err
}

func (f *far) found(to string, number int64) (string, error) {
	if to == "" {
		return "", nil
	}
	for _, place := range []string{numbered(to, number), to} {
		if _, err := f.stat(place, place); err == nil {
			return place, nil
		} else if !errors.Is(err, fs.ErrNotExist) {
			return "", err
		}
	}
	return "", nil
}

// move renames a file. A move whose answer got lost has happened.
func (f *far) move(from, to string) error {
	ctx, cancel := f.limited()
	defer cancel()
	err := f.store.Move(ctx, from, to)
	switch {
	case err == nil:
		return nil
	case errors.Is(err, fs.ErrNotExist):
		if _, lost := f.stat(to, to); lost == nil {
			return nil
		}
	case errors.Is(err, fs.ErrExist):
		if _, lost := f.stat(from, from); errors.Is(lost, fs.ErrNotExist) {
			return nil
		}
	}
	return f.away(fmt.Errorf("move %s to %s: %w", from, to, err))
}

func (f *far) remove(p string) error {
	ctx, cancel := f.limited()
	defer cancel()
	if err := f.store.Remove(ctx, p); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return f.away(fmt.Errorf("delete %s: %w", p, err))
	}
	return nil
}

func (f *far) TakeBack(place, p string) error {
	err := f.move(place, f.below(p))
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("take %s back: %s: %w", place, p, ErrTaken)
	}
	return err
}

func (f *far) Deliver(p string, content io.Reader, existing Existing) (Entry, error) {
	to := f.below(p)
	_, err := f.Stat(p)
	switch {
	case err == nil && existing == KeepExisting:
		return Entry{}, fmt.Errorf("%s: %w", path.Join(f.at, p), ErrTaken)
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return Entry{}, err
	}
	if err := f.write(to, content, existing); err != nil {
		if errors.Is(err, fs.ErrExist) {
			err = ErrTaken
		}
		return Entry{}, fmt.Errorf("deliver %s: %w", path.Join(f.at, p), err)
	}
	return f.Stat(p)
}

// write writes a file, whole at once.
func (f *far) write(to string, content io.Reader, existing Existing) error {
	if !f.store.Renames() {
		return f.away(f.store.Put(f.ctx, to, content))
	}
	half := path.Join(path.Dir(to), halfName())
	err := f.store.Put(f.ctx, half, content)
	if err == nil && existing == WriteOver {
		err = f.remove(to)
	}
	if err == nil {
		err = f.move(half, to)
	}
	if err != nil {
		_ = f.remove(half) // the first error says more
	}
	return f.away(err)
}

func (f *far) Note(at, text string) error {
	if isOwn(at) {
		return f.byOwn(func(own *Folder) error { return own.Note(at, text) })
	}
	return f.write(at, strings.NewReader(text), WriteOver)
}

func (f *far) RemoveNote(at string) error {
	if isOwn(at) {
		return f.byOwn(func(own *Folder) error { return own.RemoveNote(at) })
	}
	return f.remove(at)
}

func (f *far) Beside(folder string) (Landing, error) {
	beside := OpenFar(f.ctx, f.store, path.Join(f.at, folder), folder, f.roots)
	if err := beside.(*far).isThere(); err != nil {
		return nil, fmt.Errorf("open %s: %w", folder, fs.ErrNotExist)
	}
	return beside, nil
}

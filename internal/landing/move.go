package landing

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// ErrReplaced says that another file has taken a path.
var ErrReplaced = errors.New("another file has taken its place; it is left alone")

// PutAway moves a file to a path below the landing's root, or deletes it when
// to is empty, and returns where it lies then. It may be called again after it
// was interrupted: number, which must be the file's own, tells its traces.
//
// The file is first renamed aside, within its folder, and looked at again, so
// that a file that a supplier puts there at that moment is neither moved nor
// deleted.
func (f *Folder) PutAway(file Entry, number int64, to string) (string, error) {
	from := path.Join(f.At, file.Path)
	aside := path.Join(path.Dir(from), fmt.Sprintf(".put-away-%d", number))
	_, err := f.above.Lstat(filepath.FromSlash(aside))
	if errors.Is(err, fs.ErrNotExist) {
		now, err := f.Stat(file.Path)
		if errors.Is(err, fs.ErrNotExist) {
			return f.found(to, number) // an earlier attempt came to the end, or somebody took it
		}
		if err != nil {
			return "", err
		}
		if !now.Alike(file) {
			return "", ErrReplaced
		}
		if err := f.above.Rename(filepath.FromSlash(from), filepath.FromSlash(aside)); err != nil {
			return "", fmt.Errorf("put %s away: %w", from, cause(err))
		}
	} else if err != nil {
		return "", fmt.Errorf("put %s away: %w", from, cause(err))
	}
	info, err := f.above.Stat(filepath.FromSlash(aside))
	if err != nil {
		return "", fmt.Errorf("put %s away: %w", from, cause(err))
	}
	if !entryOf(file.Path, info).Alike(file) { // its name has just changed
		return "", f.putBack(aside, from)
	}
	if to == "" {
		if err := f.above.Remove(filepath.FromSlash(aside)); err != nil {
			return "", fmt.Errorf("delete %s: %w", from, cause(err))
		}
		return "", nil
	}
	return f.moveTo(aside, to, number)
}

// putBack returns a file that came while another was taken, unless a still
// newer one is there already.
func (f *Folder) putBack(aside, from string) error {
	if err := f.above.Link(filepath.FromSlash(aside), filepath.FromSlash(from)); err != nil {
		return fmt.Errorf("%s came while the file before it was put away, and lies as %s: %w", from, aside, cause(err))
	}
	if err := f.above.Remove(filepath.FromSlash(aside)); err != nil {
		return fmt.Errorf("remove %s: %w", aside, cause(err))
	}
	return ErrReplaced
}

// numbered returns the second choice of a name, for when the first is taken.
func numbered(to string, number int64) string {
	ext := path.Ext(to)
	return fmt.Sprintf("%s-%d%s", strings.TrimSuffix(to, ext), number, ext)
}

func (f *Folder) found(to string, number int64) (string, error) {
	if to == "" {
		return "", nil
	}
	for _, place := range []string{numbered(to, number), to} {
		if _, err := f.above.Lstat(filepath.FromSlash(place)); err == nil {
			return place, nil
		}
	}
	return "", nil
}

// moveTo moves without writing over anything.
func (f *Folder) moveTo(aside, to string, number int64) (string, error) {
	if err := f.above.MkdirAll(filepath.FromSlash(path.Dir(to)), 0o755); err != nil {
		return "", fmt.Errorf("make the folder %s: %w", path.Dir(to), cause(err))
	}
	for _, place := range []string{to, numbered(to, number)} {
		err := f.above.Link(filepath.FromSlash(aside), filepath.FromSlash(place))
		switch {
		case err == nil:
			return place, f.above.Remove(filepath.FromSlash(aside))
		case errors.Is(err, fs.ErrExist):
			if f.sameFile(aside, place) { // linked already, by an attempt that was interrupted
				return place, f.above.Remove(filepath.FromSlash(aside))
			}
			continue
		case errors.Is(err, unix.EXDEV), errors.Is(err, unix.EPERM), errors.Is(err, unix.ENOTSUP):
			return place, f.copyTo(aside, place)
		}
		return "", fmt.Errorf("move to %s: %w", place, cause(err))
	}
	return "", fmt.Errorf("move to %s: it is taken, and so is %s", to, numbered(to, number))
}

func (f *Folder) sameFile(a, b string) bool {
	one, err := f.above.Lstat(filepath.FromSlash(a))
	if err != nil {
		return false
	}
	other, err := f.above.Lstat(filepath.FromSlash(b))
	return err == nil && os.SameFile(one, other)
}

// copyTo moves a file to another file system, or on one without links.
func (f *Folder) copyTo(aside, to string) error {
	source, err := f.above.Open(filepath.FromSlash(aside))
	if err != nil {
		return fmt.Errorf("move to %s: %w", to, cause(err))
	}
	defer source.Close()
	info, err := source.Stat()
	if err != nil {
		return fmt.Errorf("move to %s: %w", to, cause(err))
	}
	half := to + ".part"
	if err := f.write(half, source, info.Mode().Perm()); err != nil {
		return err
	}
	if err := f.above.Chtimes(filepath.FromSlash(half), info.ModTime(), info.ModTime()); err != nil {
		return fmt.Errorf("move to %s: %w", to, cause(err))
	}
	if err := f.above.Rename(filepath.FromSlash(half), filepath.FromSlash(to)); err != nil {
		return fmt.Errorf("move to %s: %w", to, cause(err))
	}
	return f.above.Remove(filepath.FromSlash(aside))
}

// halfMark ends the names of files that are being written, which nobody takes.
const halfMark = ".mullein.part"

func halfName() string { return fmt.Sprintf(".%x%s", rand.Uint64(), halfMark) }

// write writes a file below the landing root, to the disk.
func (f *Folder) write(to string, from io.Reader, mode fs.FileMode) error {
	file, err := f.above.OpenFile(filepath.FromSlash(to), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, mode)
	if err != nil {
		return fmt.Errorf("write %s: %w", to, cause(err))
	}
	_, err = io.Copy(file, from)
	if err == nil {
		err = file.Sync()
	}
	if closeErr := file.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		f.above.Remove(filepath.FromSlash(to))
		return fmt.Errorf("write %s: %w", to, cause(err))
	}
	return nil
}

// Note leaves a small text below the landing's root, such as beside a file that
// was put away.
func (f *Folder) Note(at, text string) error {
	if err := f.above.MkdirAll(filepath.FromSlash(path.Dir(at)), 0o755); err != nil {
		return fmt.Errorf("write %s: %w", at, cause(err))
	}
	half := path.Join(path.Dir(at), halfName())
	if err := f.write(half, strings.NewReader(text), 0o644); err != nil {
		return err
	}
	if err := f.above.Rename(filepath.FromSlash(half), filepath.FromSlash(at)); err != nil {
		return fmt.Errorf("write %s: %w", at, cause(err))
	}
	return nil
}

// RemoveNote removes what [Folder.Note] left; nothing, where it is gone.
func (f *Folder) RemoveNote(at string) error {
	if err := f.above.Remove(filepath.FromSlash(at)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("remove %s: %w", at, cause(err))
	}
	return nil
}

// ErrTaken says that a file cannot be delivered because its name is taken.
var ErrTaken = errors.New("a file of that name lies there already")

// Existing is what becomes of a file that lies where another is to be put.
type Existing int

// What becomes of a file that lies there.
const (
	KeepExisting Existing = iota // the other is not put there
	WriteOver
)

// Deliver puts a file into the landing, whole at once: nobody sees half of it.
func (f *Folder) Deliver(p string, content io.Reader, existing Existing) (Entry, error) {
	to := path.Join(f.At, p)
	if _, err := f.Stat(p); err == nil && existing == KeepExisting {
		return Entry{}, fmt.Errorf("%s: %w", to, ErrTaken)
	}
	if err := f.root.MkdirAll(filepath.FromSlash(path.Dir(p)), 0o755); err != nil {
		return Entry{}, fmt.Errorf("deliver %s: %w", to, cause(err))
	}
	half := path.Join(path.Dir(to), halfName())
	if err := f.write(half, content, 0o644); err != nil {
		return Entry{}, err
	}
	if err := f.takeName(half, to, existing); err != nil {
		f.above.Remove(filepath.FromSlash(half))
		if errors.Is(err, fs.ErrExist) {
			err = ErrTaken
		}
		return Entry{}, fmt.Errorf("deliver %s: %w", to, cause(err))
	}
	return f.Stat(p)
}

// takeName gives a file that was written aside its name. A file that came under that
// name meanwhile is not an exception.
func (f *Folder) takeName(half, to string, existing Existing) error {
	if existing == KeepExisting {
		err := f.above.Link(filepath.FromSlash(half), filepath.FromSlash(to))
		if err == nil {
			return f.above.Remove(filepath.FromSlash(half))
		}
		if !errors.Is(err, unix.EPERM) && !errors.Is(err, unix.ENOTSUP) { // a file system without links
			return err
		}
		if _, err := f.above.Lstat(filepath.FromSlash(to)); err == nil {
			return ErrTaken
		}
	}
	return f.above.Rename(filepath.FromSlash(half), filepath.FromSlash(to))
}

// OpenAway opens a file that was put away, by its path below the landing's root.
func (f *Folder) OpenAway(place string) (*File, error) {
	file, err := f.above.Open(filepath.FromSlash(place))
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", place, cause(err))
	}
	info, err := file.Stat()
	if err != nil || !info.Mode().IsRegular() {
		file.Close()
		return nil, fmt.Errorf("open %s: it is not a file", place)
	}
	return &File{file: file, Entry: entryOf(place, info), look: func(string) (Entry, error) {
		info, err := f.above.Stat(filepath.FromSlash(place))
		if err != nil {
			return Entry{}, err
		}
		return entryOf(place, info), nil
	}}, nil
}

// ReadSmall reads a file of the landing of up to most bytes, such as a marker.
func (f *Folder) ReadSmall(p string, most int64) ([]byte, error) {
	file, err := f.Open(p)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	if file.Entry.Size > most {
		return nil, fmt.Errorf("%s has %d bytes; %d are the most", p, file.Entry.Size, most)
	}
	text, err := io.ReadAll(io.LimitReader(file, most))
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", p, cause(err))
	}
	return text, nil
}

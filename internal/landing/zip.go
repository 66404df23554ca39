package landing

import (
	"archive/zip"
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"strings"
	"time"
	"unicode/utf8"

	"mullein/internal/core/decode"
)

// inZip is what stands between the path of a zip and that of a member.
const inZip = ".zip/"

// splitZip returns the zip of a member's path; member is "" for a plain path.
func splitZip(p string) (archive, member string) {
	// Byte by byte: other letters may be longer or shorter in lower case.
	for i := range len(p) - len(inZip) + 1 {
		if strings.EqualFold(p[i:i+len(inZip)], inZip) {
			return p[:i+len(inZip)-1], p[i+len(inZip):]
		}
	}
	return p, ""
}

func isZip(p string) bool { return strings.HasSuffix(strings.ToLower(p), ".zip") }

// directory is what a zip holds, as of when it was looked at.
type directory struct {
	of      Entry
	members []Entry
}

const (
	maxMembers  = 100_000
	zipsKept    = 1000
	zipRatio    = 250      // unpacked bytes for each packed one, looked at from zipFrom on
	zipFrom     = 32 << 20 // bytes
	zipPatience = time.Minute
)

// expand visits the members of a zip. One whose directory cannot be read is
// still being written, unless it has been still for a while: then it is
// visited itself.
func (f *Folder) expand(archive Entry, wanted func(path string) bool, visit func(Entry) error) error {
	f.zipping.Lock()
	d, known := f.zips[archive.Path]
	f.zipping.Unlock()
	if !known || !d.of.Same(archive) {
		var err error
		if d, err = f.readZip(archive); err != nil {
			if time.Since(archive.Modified) < zipPatience {
				return nil
			}
			archive.Path += "/"
			archive.Problem = fmt.Sprintf("is no zip that can be read (%v); it may be cut short", err)
			return visit(archive)
		}
		f.zipping.Lock()
		if f.zips == nil || len(f.zips) >= zipsKept {
			f.zips = map[string]directory{}
		}
		f.zips[archive.Path] = d
		f.zipping.Unlock()
	}
	for _, m := range d.members {
		if wanted(m.Path) {
			if err := visit(m); err != nil {
				return err
			}
		}
	}
	return nil
}

// readZip reads the directory of a zip. It lies in memory, up to maxMembers.
func (f *Folder) readZip(archive Entry) (directory, error) {
	d := directory{of: archive}
	file, err := f.openPlain(archive.Path)
	if err != nil {
		return d, err
	}
	defer file.Close()
	z, err := zip.NewReader(file.file, file.Entry.Size)
	if err != nil {
		return d, err
	}
	if len(z.File) > maxMembers {
		return d, fmt.Errorf("%d members; %d are the most", len(z.File), maxMembers)
	}
	at := map[string]int{} // in d.members
	for _, m := range z.File {
		e, ok := memberEntry(archive, m)
		if !ok {
			continue
		}
		if i, twice := at[e.Path]; twice {
			d.members[i].Problem = "stands in its zip more than once; which one is meant is not to be known"
			continue
		}
		at[e.Path] = len(d.members)
		d.members = append(d.members, e)
	}
	return d, nil
}

// memberEntry makes an entry of a member. Whatever its name says, it stays
// inside of the zip.
func memberEntry(archive Entry, m *zip.File) (Entry, bool) {
	name := strings.TrimPrefix(path.Clean("/"+strings.ReplaceAll(m.Name, `\`, "/")), "/")
	if name == "" || strings.HasSuffix(m.Name, "/") {
		return Entry{}, false
	}
	e := Entry{Path: archive.Path + "/" + name, Size: int64(m.UncompressedSize64), Modified: archive.Modified,
		Inode: archive.Inode}
	switch {
	case !utf8.ValidString(e.Path) || len(e.Path) > MaxPath:
		e, _ = unspeakable(e.Path)
	case m.Mode()&fs.ModeType != 0:
		e.Problem = "is no plain file in its zip"
	case m.Flags&1 != 0:
		e.Problem = "is encrypted in its zip"
	case m.UncompressedSize64 > zipFrom && m.UncompressedSize64 > zipRatio*m.CompressedSize64:
		e.Problem = fmt.Sprintf("unpacks to %d bytes out of %d: taken for a zip bomb", m.UncompressedSize64,
			m.CompressedSize64)
	}
	return e, true
}

// maxTaken bounds the bytes of a member that is taken out of a zip.
const maxTaken = 256 << 20

// Take writes the first wanted file of a zip that does not lie at a landing to w, and
// returns its path and its size. name is the zip's; the file's path begins with it.
func Take(name string, archive io.ReaderAt, size int64, w io.Writer, wanted func(path string) bool) (p string,
	n int64, err error) {
	z, err := zip.NewReader(archive, size)
	if err != nil {
		return "", 0, &decode.FileError{Reason: fmt.Sprintf("%s is no zip that can be read: %v", name, err)}
	}
	for _, m := range z.File {
		e, ok := memberEntry(Entry{Path: name}, m)
		if !ok || !wanted(e.Path) {
			continue
		}
		if e.Problem != "" || e.Size > maxTaken {
			return "", 0, &decode.FileError{Reason: e.Path + " " +
				cmp.Or(e.Problem, fmt.Sprintf("has %d bytes; %d are the most here", e.Size, maxTaken))}
		}
		r, err := m.Open()
		if err == nil {
			n, err = io.Copy(w, io.LimitReader(r, maxTaken))
			r.Close()
		}
		if err != nil {
			return "", 0, &decode.FileError{Reason: fmt.Sprintf("%s cannot be unpacked: %v", e.Path, err)}
		}
		return e.Path, n, nil
	}
	return "", 0, &decode.FileError{Reason: fmt.Sprintf("%s holds no file that the pattern takes", name)}
}

// member is a file in a zip.
type member struct {
	folder *Folder
	zip    *openZip
	of     *zip.File
	now    io.ReadCloser
	at     string
}

// statMember looks at a member by its path.
func (f *Folder) statMember(archive, name string) (Entry, error) {
	of, err := f.Stat(archive)
	if err != nil || of.Problem != "" {
		return of, err
	}
	var found *Entry
	err = f.expand(of, func(p string) bool { return p == archive+"/"+name }, func(e Entry) error {
		found = &e
		return nil
	})
	if err == nil && found == nil {
		err = fmt.Errorf("%s/%s: %w", archive, name, fs.ErrNotExist)
	}
	if err != nil {
		return Entry{}, err
	}
	return *found, nil
}

// openMember opens a file in a zip. It is unpacked while it is read.
func (f *Folder) openMember(archive, name string) (*File, error) {
	file, err := f.openPlain(archive)
	if err != nil {
		return nil, err
	}
	z, err := f.share(file)
	if err != nil {
		file.Close()
		return nil, &decode.FileError{Reason: fmt.Sprintf("%s cannot be read: %v", archive, err)}
	}
	file.member = &member{folder: f, zip: z, at: archive}
	m := z.members[archive+"/"+name]
	if m == nil {
		file.Close()
		return nil, fmt.Errorf("open %s/%s: %w", archive, name, fs.ErrNotExist)
	}
	e, _ := memberEntry(file.Entry, m)
	if e.Problem != "" {
		file.Close()
		return nil, &decode.FileError{Reason: e.Problem}
	}
	file.Entry, file.member.of = e, m
	return file, file.Rewind()
}

// openZip is a zip whose directory was read once for the members that are opened
// one after the other.
type openZip struct {
	of      Entry
	file    content
	members map[string]*zip.File // by path
	users   int                  // open members, and the folder while it is the last zip
}

// share returns the zip that a file is: the last one, if it is still the same.
func (f *Folder) share(file *File) (*openZip, error) {
	f.zipping.Lock()
	defer f.zipping.Unlock()
	if f.last == nil || f.last.of.Path != file.Entry.Path || !f.last.of.Same(file.Entry) {
		again, err := f.openPlain(file.Entry.Path)
		if err != nil {
			return nil, err
		}
		z, err := zip.NewReader(again.file, again.Entry.Size)
		if err != nil {
			again.Close()
			return nil, err
		}
		f.leave(f.last)
		f.last = &openZip{of: again.Entry, file: again.file, members: make(map[string]*zip.File, len(z.File)), users: 1}
		for _, m := range z.File {
			if e, ok := memberEntry(again.Entry, m); ok && f.last.members[e.Path] == nil {
				f.last.members[e.Path] = m
			}
		}
	}
	f.last.users++
	return f.last, nil
}

// leave closes a zip that nobody uses any more. It is called under the lock.
func (f *Folder) leave(z *openZip) {
	if z == nil {
		return
	}
	if z.users--; z.users == 0 {
		z.file.Close()
	}
}

func (m *member) read(p []byte) (int, error) {
	n, err := m.now.Read(p)
	if err != nil && err != io.EOF {
		var file *fs.PathError
		if !errors.As(err, &file) {
			err = &decode.FileError{Reason: fmt.Sprintf("it is damaged in %s: %v", filepath.Base(m.at), err)}
		}
	}
	return n, err
}

// leave says that the member uses its zip no more; to call it again does nothing.
func (m *member) leave() {
	m.folder.zipping.Lock()
	defer m.folder.zipping.Unlock()
	m.folder.leave(m.zip)
	m.zip = nil
}

func (m *member) rewind() error {
	if m.now != nil {
		m.now.Close()
	}
	var err error
	if m.now, err = m.of.Open(); err != nil {
		return &decode.FileError{Reason: fmt.Sprintf("it cannot be unpacked from %s: %v", filepath.Base(m.at), err)}
	}
	return nil
}

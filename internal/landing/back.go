package landing

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// Beside opens another folder below the root that the landing lies in, such as where
// its files are put away. Where there is none the error is [fs.ErrNotExist].
func (f *Folder) Beside(folder string) (Landing, error) {
	root, err := f.above.OpenRoot(filepath.FromSlash(folder))
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", folder, err)
	}
	above, err := f.above.OpenRoot(".")
	if err != nil {
		root.Close()
		return nil, fmt.Errorf("open %s: %w", folder, err)
	}
	return &Folder{At: folder, root: root, above: above}, nil
}

// TakeBack moves a file that was put away back to a path of the landing. Where a file
// lies there the error is [ErrTaken].
func (f *Folder) TakeBack(place, p string) error {
	to := path.Join(f.At, p)
	if err := f.root.MkdirAll(filepath.FromSlash(path.Dir(p)), 0o755); err != nil {
		return fmt.Errorf("take %s back: %w", place, cause(err))
	}
	err := f.above.Link(filepath.FromSlash(place), filepath.FromSlash(to))
	switch {
	case err == nil:
		err = f.above.Remove(filepath.FromSlash(place))
	case errors.Is(err, fs.ErrExist):
		return fmt.Errorf("take %s back: %s: %w", place, to, ErrTaken)
	case errors.Is(err, unix.EXDEV), errors.Is(err, unix.EPERM), errors.Is(err, unix.ENOTSUP):
		if _, err := f.Stat(p); err == nil {
			return fmt.Errorf("take %s back: %s: %w", place, to, ErrTaken)
		}
		return f.copyTo(place, to)
	}
	if err != nil {
		return fmt.Errorf("take %s back: %w", place, cause(err))
	}
	return nil
}

// Unnumbered returns the name that a place had before [Folder.PutAway] gave it a number,
// since another file lay there; the place itself where it has none.
func Unnumbered(place string) string {
	ext := path.Ext(place)
	stem := place[:len(place)-len(ext)]
	end := len(stem)
	for end > 0 && stem[end-1] >= '0' && stem[end-1] <= '9' {
		end--
	}
	if end == len(stem) || end == 0 || stem[end-1] != '-' {
		return place
	}
	return stem[:end-1] + ext
}

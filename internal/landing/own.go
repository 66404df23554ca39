package landing

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// OwnError says that a landing holds files of the service itself, or lies among them:
// what is put away or loaded there would be the service's own.
type OwnError struct {
	At  string // the landing
	Own string // the file or folder
}

func (e *OwnError) Error() string {
	return fmt.Sprintf("landing %s holds or lies in %s, which is the service's own; name a folder apart from it", e.At, e.Own)
}

// KeepOff makes sure that the landing neither is, nor holds, nor lies in any of the
// service's own files and folders, by whatever links it was reached; else the error is
// an [*OwnError].
func (f *Folder) KeepOff(own []string) error {
	here, err := f.root.Stat(".")
	if err != nil {
		return &AwayError{f.At, cause(err).Error()}
	}
	there, err := filepath.EvalSymlinks(f.name)
	if err != nil {
		return &AwayError{f.At, cause(err).Error()}
	}
	for _, path := range own {
		real, err := filepath.EvalSymlinks(path)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return fmt.Errorf("look at %s: %w", path, cause(err))
		}
		if within(real, here) {
			return &OwnError{f.At, path}
		}
		if info, err := os.Stat(real); err == nil && within(there, info) {
			return &OwnError{f.At, path}
		}
	}
	return nil
}

// within reports whether a path is, or lies in, a file or folder.
func within(path string, of os.FileInfo) bool {
	for {
		if info, err := os.Stat(path); err == nil && os.SameFile(info, of) {
			return true
		}
		up := filepath.Dir(path)
		if up == path {
			return false
		}
		path = up
	}
}

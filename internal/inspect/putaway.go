package inspect

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"mullein/internal/core/feed"
	"mullein/internal/core/filename"
	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/reading"
)

// putAwayFile is a file in a folder where a feed puts files away.
type putAwayFile struct {
	place string // below the landing's root
	path  string // at the landing, as far as the place tells
}

// putAwayUnknown finds files that a feed has put away and of which the ledger does not
// know where they lie: it was restored, and is older than that. A file that is not loaded
// is taken back to the landing, and comes again.
func (i *Inspector) putAwayUnknown(ctx context.Context, f *feed.Feed, mend bool) ([]Difference, error) {
	if f.Landing.PutAway == nil && f.Landing.Quarantine == nil {
		return nil, nil
	}
	folder, err := i.Landing(ctx, f)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	var out []Difference
	for _, template := range []*filename.Template{f.Landing.PutAway, f.Landing.Quarantine} {
		if template == nil {
			continue
		}
		found, err := i.unknownBelow(ctx, f, folder, template, mend)
		if err != nil {
			return nil, err
		}
		out = append(out, found...)
	}
	return out, nil
}

func (i *Inspector) unknownBelow(ctx context.Context, f *feed.Feed, folder landing.Landing,
	template *filename.Template, mend bool) ([]Difference, error) {
	beside, err := folder.Beside(path.Join(".", template.Fixed()))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer beside.Close()
	var out []Difference
	var some []putAwayFile
	look := func() error {
		found, err := i.unknownOf(ctx, f, folder, some, mend)
		out, some = append(out, found...), some[:0]
		return err
	}
	err = beside.List(ctx, func(string) bool { return true }, func(e landing.Entry) error {
		if e.Problem != "" || len(out) > maxDifferences {
			return nil
		}
		if at := laidAt(f, template, e.Path, e.Size); at != "" {
			some = append(some, putAwayFile{path.Join(template.Fixed(), e.Path), at})
		}
		if len(some) == reconciledAtOnce {
			return look()
		}
		return nil
	})
	if err == nil {
		err = look()
	}
	return out, err
}

// laidAt returns where a file lay at the landing that lies at a place below the fixed
// folders of a template now, as far as that tells; "" where it is none of the feed's.
func laidAt(f *feed.Feed, template *filename.Template, place string, size int64) string {
	for _, name := range []string{place, landing.Unnumbered(place)} {
		for end := len(name); end >= 0; { // as few folders as will do
			end = strings.LastIndexByte(name[:end], '/')
			rest := name[end+1:]
			taken := f.Landing.Look(rest, size)
			if taken.Why == "" && load.PlaceOf(f, template, rest, taken.Captures) == path.Join(template.Fixed(), name) {
				return rest
			}
		}
	}
	return ""
}

// unknownOf says of which files the ledger does not know where they lie.
func (i *Inspector) unknownOf(ctx context.Context, f *feed.Feed, folder landing.Landing, files []putAwayFile,
	mend bool) ([]Difference, error) {
	places, paths := make([]string, len(files)), make([]string, len(files))
	for n, file := range files {
		places[n], paths[n] = file.place, file.path
	}
	known, err := i.Ledger.LyingAt(ctx, f.Name, places)
	if err != nil {
		return nil, err
	}
	newest, err := i.Ledger.Newest(ctx, f.Name, paths)
	if err != nil {
		return nil, err
	}
	var out []Difference
	for _, file := range files {
		if known[file.place] {
			continue
		}
		d := Difference{Path: file.place, Safe: true, What: "it was put away, and the ledger does not know of it",
			Way: "it is moved back to the landing, as " + file.path + ", and comes again"}
		a, there := newest[file.path]
		same := false
		if there && a.State == ledger.Loaded && a.AwayTo == "" {
			if same, err = hasBytes(ctx, folder, file.place, a.SHA256); err != nil {
				return nil, err
			}
		}
		if same {
			d.Arrival, d.What, d.Way = a.ID, "it was put away after it was loaded, and the ledger does not know "+
				"where", "the ledger records where it lies"
		} else if _, err := folder.Stat(file.path); err == nil {
			d.Safe, d.Way = false, "a file lies at the landing as "+file.path+"; move one of them by hand"
		}
		if mend && d.Safe {
			if same {
				err = i.Ledger.PutAway(ctx, &a, file.place, "")
			} else {
				err = folder.TakeBack(file.place, file.path)
			}
			if err != nil {
				return nil, err
			}
			d.Mended = true
		}
		out = append(out, d)
	}
	slices.SortFunc(out, func(a, b Difference) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

// hasBytes reports whether a file that was put away has a digest.
func hasBytes(ctx context.Context, folder landing.Landing, place, digest string) (bool, error) {
	file, err := folder.OpenAway(place)
	if err != nil {
		return false, err
	}
	defer file.Close()
	has, err := reading.DigestOf(ctx, file)
	if err != nil {
		return false, fmt.Errorf("read %s: %w", place, err)
	}
	return has == digest, nil
}

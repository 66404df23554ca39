// Package history says what an arrival is, given what is known of its path, its
// bytes, what its name says and its slot: a new file, the file that is loaded
// already, a reissue, a copy, or a return to what a file was before; and what
// becomes of it under the feed's rules. It asks nobody: start at [Judge].
package history

import (
	"fmt"
	"regexp"

	"mullein/internal/core/feed"
)

// Kind is what an arrival is.
type Kind string

// The kinds.
const (
	New     Kind = "new"     // nothing like it is loaded
	Same    Kind = "same"    // its path is loaded with the same bytes: only its time has changed
	Reissue Kind = "reissue" // its path is loaded with other bytes
	Copy    Kind = "copy"    // its bytes are loaded under another name that says the same
	Return  Kind = "return"  // its bytes were loaded once, and something else took their place since
)

// Action is what becomes of an arrival.
type Action int

// The actions.
const (
	Load    Action = iota
	Replace        // load it, and undo what its path had loaded
	Skip
	Hold
)

// File is an arrival that was read, or is about to be.
type File struct {
	ID       int64
	Path     string
	Digest   string         // of its bytes; "" where it is not known
	Captures map[string]any // what its name says
	Forced   bool           // a person wants it loaded
}

// Loaded is a file that is loaded.
type Loaded struct {
	ID       int64
	Path     string
	Digest   string
	Captures map[string]any
	// Current reports whether it is what is loaded still: nothing came since for what its
	// name says, nor anything that could have changed its rows.
	Current bool
}

// Known is what is known of a file.
type Known struct {
	Path  *Loaded  // what was loaded last under its path; nil for nothing
	Bytes []Loaded // what was loaded with its bytes, the newest first
}

// Rules are what a feed says.
type Rules struct {
	Reissue    feed.Reissue
	LoadCopies bool
	Adds       bool // loading the same rows again adds them to what is there
}

// Verdict says what an arrival is and what becomes of it.
type Verdict struct {
	Kind   Kind
	Action Action
	Of     int64  // the arrival that it is the same as, a copy of, or a reissue of; 0 for none
	Reason string // for people, where it is not loaded
}

// Judge says what a file is and what becomes of it.
func Judge(f File, known Known, rules Rules) Verdict {
	if p := known.Path; p != nil && p.ID != f.ID {
		return judgePath(f, p, rules)
	}
	if f.Digest == "" {
		return Verdict{Kind: New}
	}
	kind := New
	for _, o := range known.Bytes {
		if !MayBeCopy(f, o) || rules.Adds && TellsApart(f.Path, o.Path) {
			continue
		}
		if kind = Return; !o.Current {
			continue
		}
		v := Verdict{Kind: Copy, Action: Skip, Of: o.ID}
		if rules.LoadCopies || f.Forced {
			v.Action = Load
		} else {
			v.Reason = CopyReason(o.ID, o.Path)
		}
		return v
	}
	return Verdict{Kind: kind}
}

// judgePath judges a file whose path is loaded.
func judgePath(f File, last *Loaded, rules Rules) Verdict {
	v := Verdict{Kind: Reissue, Of: last.ID}
	if last.Digest == f.Digest {
		v.Kind = Same
	}
	switch {
	case v.Kind == Same && !f.Forced:
		v.Action, v.Reason = Skip, fmt.Sprintf("the same bytes as arrival %d of this path; only its time has changed",
			last.ID)
	case rules.Reissue == feed.ReissueReplace:
		v.Action = Replace
	case f.Forced:
	case rules.Reissue == feed.ReissueHold:
		v.Action, v.Reason = Hold,
			fmt.Sprintf("another version of this file, arrival %d, is loaded; release it to load this one", last.ID)
	case rules.Reissue == feed.ReissueSkip:
		v.Action, v.Reason = Skip,
			fmt.Sprintf("another version of this file, arrival %d, is loaded, and the feed skips reissues", last.ID)
	}
	return v
}

// CopyReason says of which arrival another is a copy.
func CopyReason(id int64, path string) string {
	return fmt.Sprintf("a copy of arrival %d, %s", id, path)
}

// MayBeCopy reports whether a file would be a copy of another that is loaded, if
// that is current: same bytes, and names that say the same. Names carry data, so
// equal bytes alone are no copy.
func MayBeCopy(f File, o Loaded) bool {
	return o.ID != f.ID && f.Digest != "" && o.Digest == f.Digest && SameCaptures(f.Captures, o.Captures)
}

// copyMarks are what people and programs write into the name of a file's copy.
var copyMarks = regexp.MustCompile(`(?i) ?\([0-9]+\)|[ _.-]+copy( ?[0-9]+)?|\bcopy of |~$`)

// TellsApart reports whether two paths say of themselves that they are two deliveries:
// they differ in more than what a copy is marked with, such as " (1)" or " - Copy".
func TellsApart(a, b string) bool {
	return copyMarks.ReplaceAllString(a, "") != copyMarks.ReplaceAllString(b, "")
}

// SameCaptures reports whether two names say the same.
func SameCaptures(a, b map[string]any) bool {
	if len(a) != len(b) {
		return false
	}
	for name, value := range a {
		other, there := b[name]
		if !there || fmt.Sprint(value) != fmt.Sprint(other) {
			return false
		}
	}
	return true
}

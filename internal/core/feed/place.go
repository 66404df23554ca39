package feed

import (
	"path"
	"strings"
)

// placePrefix begins the landings that lie at a place which the settings name.
const placePrefix = "place:"

// IsFar reports whether the landing lies outside of this machine: at a named place, or at the address of one.
func (l *Landing) IsFar() bool {
	return strings.HasPrefix(l.At, placePrefix) || strings.Contains(l.At, "://")
}

// SplitPlace returns the name of the place of a landing such as place:upper-catchment/outgoing, and the folder below it,
// "." for the place itself. ok is false for addresses, whose place only the settings know.
func SplitPlace(at string) (name, folder string, ok bool) {
	rest, ok := strings.CutPrefix(at, placePrefix)
	name, folder, _ = strings.Cut(rest, "/")
	return name, path.Clean("./" + folder), ok
}

// below returns where the landing lies below its root, as far as the feed knows that.
func (l *Landing) below() string {
	if name, folder, ok := SplitPlace(l.At); ok && name != "" {
		return folder
	}
	return l.At
}

// place checks a landing outside of this machine.
func (r *reader) place(at *node, key string, l *Landing) {
	name, folder, named := SplitPlace(l.At)
	_, address, _ := strings.Cut(l.At, "://")
	below := strings.TrimPrefix(strings.TrimPrefix(l.At, placePrefix), name)
	switch {
	case strings.ContainsAny(l.At, "\\\x00") || strings.Contains("/"+below+"/", "/../") || strings.Contains("/"+address+"/", "/../"):
		r.failAt(at, "%s %q must be a plain path, without \"..\"", key, l.At)
	case named && (!placeName(name) || folder != strings.TrimSuffix(strings.TrimPrefix(below, "/"), "/") && folder != "."):
		r.failAt(at, "%s %q must be the name of a place in the settings, with a folder below it, such as "+
			"place:upper-catchment/outgoing", key, l.At)
	case !named && strings.ContainsAny(address, "@?#"):
		r.failAt(at, "%s: an address here has no user, no secret and no parameters; name them in the settings, under places", key)
	}
}

func placeName(name string) bool {
	for i, c := range name {
		if c != '-' && (c < '0' || c > '9') && (c < 'a' || c > 'z') || i == 0 && c == '-' {
			return false
		}
	}
	return name != "" && len(name) <= 63
}

package draft

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"mullein/internal/core/decode"
)

// zipped is what stands between a zip's path and that of a file in it.
const zipped = ".zip/"

// inZip cuts a path into that of a zip and that of a file in it; both are "" for a
// file that is in none.
func inZip(p string) (archive, member string) {
	at := strings.Index(strings.ToLower(p), zipped)
	if at < 0 {
		return "", ""
	}
	return p[:at+len(zipped)-1], p[at+len(zipped):]
}

// tail is what of a path tells kinds of files apart: its last part; of a file in a
// zip, the zip's last part too.
func tail(p string) string {
	if archive, member := inZip(p); archive != "" {
		return path.Base(archive) + "/" + path.Base(member)
	}
	return path.Base(p)
}

// unzipped puts the files in zips in the place of the zips.
func unzipped(samples []Sample) (out []Sample, left []Left) {
	for _, s := range samples {
		if !strings.HasSuffix(strings.ToLower(s.Path), ".zip") {
			out = append(out, s)
			continue
		}
		members, err := membersOf(s)
		if err != nil {
			left = append(left, Left{s.Path, err.Error(), true})
		}
		for _, m := range members {
			if why := leftOut(m.Path); why != "" {
				left = append(left, Left{m.Path, why, false})
				continue
			}
			out = append(out, m)
		}
	}
	return out, left
}

// membersOf returns the files in a zip, as samples of their own.
func membersOf(s Sample) ([]Sample, error) {
	source, done, err := s.Open()
	if err != nil {
		return nil, err
	}
	defer done()
	archive, err := zip.NewReader(source.File, source.Size)
	if err != nil {
		return nil, fmt.Errorf("it is no zip that can be read: %w", err)
	}
	var out []Sample
	for _, m := range archive.File {
		name := path.Clean(m.Name)
		if !m.Mode().IsRegular() || path.IsAbs(name) || strings.HasPrefix(name, "..") ||
			strings.HasPrefix(path.Base(name), ".") {
			continue
		}
		out = append(out, Sample{Path: s.Path + "/" + name, Folder: s.Folder,
			Open: func() (decode.Source, func(), error) { return s.member(m.Name) }})
	}
	if len(out) == 0 {
		return nil, &decode.FileError{Reason: "the zip has no file to draft from"}
	}
	return out, nil
}

// memberRead bounds the bytes of a file in a zip that is drafted from, which lies
// in memory. Of a longer text the beginning is looked at.
const memberRead = 64 << 20

// member opens a file in a zip.
func (s Sample) member(name string) (decode.Source, func(), error) {
	source, done, err := s.Open()
	if err != nil {
		return decode.Source{}, nil, err
	}
	defer done()
	archive, err := zip.NewReader(source.File, source.Size)
	if err != nil {
		return decode.Source{}, nil, err
	}
	at := slices.IndexFunc(archive.File, func(m *zip.File) bool { return m.Name == name })
	if at < 0 {
		return decode.Source{}, nil, fmt.Errorf("%s is not in %s any more", name, s.Path)
	}
	member, err := archive.File[at].Open()
	if err != nil {
		return decode.Source{}, nil, err
	}
	defer member.Close()
	content, err := io.ReadAll(io.LimitReader(member, memberRead))
	if err != nil {
		return decode.Source{}, nil, err
	}
	if end := bytes.LastIndexByte(content, '\n'); len(content) == memberRead && end > 0 {
		content = content[:end+1]
	}
	return decode.Source{Name: name, Bytes: bytes.NewReader(content), File: bytes.NewReader(content),
		Size: int64(len(content))}, func() {}, nil
}

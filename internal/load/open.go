package load

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"

	"mullein/internal/core/check"
	"mullein/internal/landing"
	"mullein/internal/reading"
)

// ready opens the files that are to be read as a stream and decides what is
// to become of each. It returns those that are to be loaded; the others have
// come to their end.
func (l *Attempt) ready(ctx context.Context, parts []*part) ([]*part, error) {
	sizes := make([]int64, len(parts))
	for i, p := range parts {
		sizes[i] = p.arrival.Size
	}
	loaded, err := l.env.Ledger.LoadedSizes(ctx, l.recipe.Feed.Name, sizes)
	if err != nil {
		return nil, l.failed(ctx, parts, err)
	}
	for _, p := range parts {
		err := l.open(ctx, p)
		if err == nil && (loaded[p.arrival.Size] || l.recipe.Feed.ReadsDigest()) {
			p.digest, err = p.digestOfFile(ctx)
		}
		if err != nil {
			return nil, l.failed(ctx, parts, &culpritError{p, err})
		}
	}
	out, err := l.identify(ctx, parts)
	if err != nil {
		return nil, l.failed(ctx, parts, err)
	}
	return out, nil
}

// open opens the file that was noticed, and no other, and reads its marker.
func (l *Attempt) open(ctx context.Context, p *part) error {
	a := p.arrival
	var err error
	noticed := landing.Entry{Size: a.Size, Modified: a.Modified.UTC(), Inode: uint64(a.Inode)}
	if a.Changed != nil && a.AwayTo == "" {
		noticed.Changed = a.Changed.UTC()
	}
	if a.AwayTo != "" {
		p.file, err = l.folder.OpenAway(a.AwayTo)
		if err == nil {
			noticed.Inode = p.file.Entry.Inode // it may have been moved to another disk
			p.file.Entry.Path = a.AwayTo
		}
	} else {
		p.file, err = l.folder.Open(a.Path)
	}
	if err != nil {
		return err
	}
	if !p.file.Entry.Same(noticed) {
		if touched, err := l.touched(ctx, p); err != nil || !touched {
			return cmp.Or(err, ErrChanged)
		}
	}
	template := l.recipe.Feed.Landing.WholeWhen
	if template == nil || a.AwayTo != "" || a.Forced {
		return nil
	}
	const maxMarker = 64 << 10
	at := template.Expand(a.Path, l.recipe.Feed.Landing.Files.Read(a.Captures), l.recipe.Feed.Landing.Zone)
	text, err := l.folder.ReadSmall(at, maxMarker)
	if errors.Is(err, fs.ErrNotExist) {
		return ErrChanged // its marker was taken back
	}
	if err != nil {
		return err
	}
	p.marker = check.ReadMarker(string(text))
	return nil
}

// touched reports whether the file that is there has the bytes of an arrival that
// was read before: it was noticed once more, and only its time had changed.
func (l *Attempt) touched(ctx context.Context, p *part) (bool, error) {
	a := p.arrival
	if a.SHA256 == "" || a.AwayTo != "" {
		return false, nil
	}
	newest, err := l.env.Ledger.Newest(ctx, a.Feed, []string{a.Path})
	now := newest[a.Path]
	return now.CopyOf != nil && now.SHA256 == a.SHA256 &&
		p.file.Entry.Same(landing.Entry{Size: now.Size, Modified: now.Modified.UTC(), Inode: uint64(now.Inode)}), err
}

// digestOfFile reads the whole file once and goes back to its beginning.
func (p *part) digestOfFile(ctx context.Context) (string, error) {
	digest, err := reading.DigestOf(ctx, p.file)
	if err != nil {
		return "", fmt.Errorf("read %s: %w", p.arrival.Path, err)
	}
	return digest, p.file.Rewind()
}

// subject is what is known of a part before it is read.
func (l *Attempt) subject(p *part) reading.Subject {
	a := p.arrival
	s := reading.Subject{Path: a.Path, Size: a.Size, Modified: a.Modified, Captures: a.Captures, Digest: p.digest,
		Mended: a.MendedLines,
		Run:    reading.Run{ID: l.run.ID, By: l.run.By, Cause: l.run.Cause}, Version: l.recipe.Version,
		Service: l.env.Service}
	if p.file != nil {
		s.Path, s.Size = p.file.Entry.Path, p.file.Entry.Size
	}
	if l.run.StartedAt != nil {
		s.Run.Started = *l.run.StartedAt
	}
	return s
}

// source is how the bytes of a part's file are had.
func (p *part) source() reading.Source {
	return reading.Source{Bytes: p.file, InOrder: !p.file.Seekable(),
		Again: func() (reading.Content, error) { return p.file, p.file.Rewind() }}
}

// read begins to read a part. What is wrong with it is its own fault.
func (l *Attempt) read(p *part, from reading.Source) (err error) {
	p.reading, err = l.recipe.Plan.Open(l.subject(p), from, &l.progress.Counter)
	return err
}

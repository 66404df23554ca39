package load

import (
	"context"
	"errors"
	"io"
	"strings"

	"mullein/internal/core/decode"
	"mullein/internal/ledger"
	"mullein/internal/reading"
	"mullein/internal/table"
)

// stream loads files that are read while they are staged, as one delivery.
func (l *Attempt) stream(ctx context.Context, parts []*part) error {
	err := l.tryStream(ctx, parts, l.shortest)
	if errors.Is(err, table.ErrRestage) {
		if err = rewind(parts); err == nil {
			err = l.tryStream(ctx, parts, staged)
		}
	}
	if err == nil {
		return l.finish(ctx, parts)
	}
	return l.failed(ctx, parts, err)
}

// rewind goes back to the beginning of each file.
func rewind(parts []*part) error {
	for _, p := range parts {
		if err := p.file.Rewind(); err != nil {
			return err
		}
	}
	return nil
}

// a way prepares how the rows of files, of which about so many are expected, get into
// the target. It reports whether the rows are just those that are there, or have to be staged
// after all: then files of later loads need not be read again.
type way func(ctx context.Context, load *table.Load, parts []*part, expected int64) (same bool, err error)

// staged is the way of all rows through the staging table.
func staged(context.Context, *table.Load, []*part, int64) (bool, error) { return false, nil }

// shortest has rows go straight into an empty target, and not even be staged that the
// target holds, where that is possible.
func (l *Attempt) shortest(ctx context.Context, load *table.Load, parts []*part, expected int64) (same bool, err error) {
	direct, err := l.direct(ctx, load, parts, expected)
	if direct || err != nil || l.n > 1 || l.recipe.asksStaged() {
		return false, err
	}
	return load.SkipUnchanged(ctx, parts[0].into(), expected)
}

// direct has rows go straight into an empty target, where that is possible.
func (l *Attempt) direct(ctx context.Context, load *table.Load, parts []*part, expected int64) (bool, error) {
	if l.recipe.asksStaged() {
		return false, nil
	}
	files := make([]table.Part, l.n)
	for _, p := range parts {
		files[p.n] = p.into()
	}
	return load.GoDirect(ctx, l.recipe.Feed.Name, l.session.fence, l.run.ID, files, expected)
}

// into is what the target is told of a part.
func (p *part) into() table.Part {
	return table.Part{File: p.from(), Arrival: p.arrival.ID, Replaces: p.replaces, Waived: p.arrival.Waived}
}

func (l *Attempt) tryStream(ctx context.Context, parts []*part, prepare way) error {
	load, err := l.session.conn.Begin(ctx, l.recipe.Table, l.n)
	if err != nil {
		return err
	}
	defer load.Close(ctx)
	if err := l.opened(ctx, parts); err != nil {
		return err
	}
	if err := l.rank(ctx, load, parts); err != nil {
		return err
	}
	later, err := l.replacing(ctx, load, parts)
	if err != nil {
		return err
	}
	source := &several{parts: parts}
	var expected int64
	for _, p := range parts {
		if err := l.read(p, p.source()); err != nil {
			return &culpritError{p, err}
		}
		expected += expectedRows(p.file.Entry.Path, p.file.Entry.Size)
	}
	same, err := prepare(ctx, load, parts, expected)
	if err != nil {
		return err
	}
	if !same {
		if err := l.rereadLater(ctx, load, later); err != nil {
			return err
		}
	}
	if err := load.Stage(ctx, source, expected); err != nil {
		return err
	}
	for _, p := range parts {
		if err := p.reading.Finish(); err != nil {
			return &culpritError{p, err}
		}
		p.digest = p.reading.Digest()
	}
	deliveries := [][]*part{parts}
	if l.apart {
		if l.copyAmong(parts) {
			return errApart
		}
		deliveries = eachAlone(parts)
	}
	if err := l.judge(ctx, load, deliveries...); err != nil {
		return err
	}
	return l.commit(ctx, load, parts)
}

func (l *Attempt) opened(ctx context.Context, parts []*part) error {
	arrivals := make([]*ledger.Arrival, len(parts))
	for i, p := range parts {
		arrivals[i] = p.arrival
	}
	if err := l.env.Ledger.Opened(ctx, arrivals); err != nil {
		return err
	}
	l.step(parts, StepOpened)
	return nil
}

// expectedRows guesses from a file's size; it only sizes a filter.
func expectedRows(path string, size int64) int64 {
	if strings.HasSuffix(strings.ToLower(path), ".gz") {
		return size / 3
	}
	return size / 20
}

// source hands the rows of one file to the target.
type source struct{ *reading.File }

// Fill adds rows to the batch.
func (s source) Fill(b *table.Batch, size int) error { return s.File.Fill(b, size) }

// several reads the files of a delivery one after the other.
type several struct {
	parts []*part
	now   int
}

// Fill hands on the rows of the file at hand. What is wrong with a file names
// the file.
func (s *several) Fill(b *table.Batch, size int) error {
	for {
		p := s.parts[s.now]
		b.Begin(p.n)
		err := p.reading.Fill(b, size)
		var fileError *decode.FileError
		switch {
		case errors.As(err, &fileError):
			return &culpritError{p, err}
		case err != io.EOF || s.now == len(s.parts)-1:
			return err
		}
		if err := p.reading.Finish(); err != nil {
			return &culpritError{p, err}
		}
		p.reading.Release()
		s.now++
		if b.Len() > 0 {
			return nil
		}
	}
}

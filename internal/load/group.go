package load

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"mullein/internal/core/decode"
	"mullein/internal/reading"
	"mullein/internal/table"
)

// small loads files that share a transaction, each a delivery of its own. Each
// is decoded whole before it joins the others, while the files before them are
// on their way into the target; no key stands in two of them, so a group closes
// before a file that has a key again.
func (l *Attempt) small(ctx context.Context, parts []*part) error {
	l.step(parts, StepOpened)
	var expected int64
	for _, p := range parts {
		expected += expectedRows(p.arrival.Path, p.arrival.Size)
	}
	batch := table.NewPieces(l.recipe.Table.Table, expected, l.recipe.Table.Bytewise())
	var read []*part
	var whole error
	reading := l.readAhead(ctx, parts)
	for i, p := range parts {
		if err := reading(i); err != nil {
			whole = errors.Join(whole, l.failed(ctx, []*part{p}, err))
			continue
		}
		p.trouble = l.decodeSmall(p, batch)
		read = append(read, p)
	}
	if err := l.session.Wait(); err != nil || l.before != nil && l.before.blocked {
		return l.giveBack(ctx, read, errors.Join(whole, err)) // nothing goes ahead of what is tried again
	}
	chosen, err := l.identify(ctx, read)
	if err != nil {
		return errors.Join(whole, l.failed(ctx, read, err))
	}
	whole = errors.Join(whole, l.giveBack(ctx, l.copies, nil)) // they are looked at again when the originals have ended
	var good []*part
	for _, p := range chosen {
		if p.trouble != nil {
			whole = errors.Join(whole, l.failed(ctx, []*part{p}, p.trouble))
			continue
		}
		good = append(good, p)
	}
	if len(good) == 0 || whole != nil {
		return l.giveBack(ctx, good, whole)
	}
	l.inBackground = true
	l.session.inBackground(func() error {
		defer l.over()
		defer l.close(parts)
		divide := groups
		if l.recipe.loadsAlone() {
			divide = eachAlone
		}
		for _, group := range divide(good) {
			if l.session.Outdated() { // the next session leads where the files are to go by now
				return l.giveBack(ctx, good, nil)
			}
			if err := l.group(ctx, group); err != nil || l.blocked {
				return l.giveBack(ctx, good, err)
			}
		}
		return nil
	})
	return nil
}

// readAtOnce is how many small files of a place are on their way at a time: each takes as long as the place takes to
// answer. Its own limit of connections holds too.
const readAtOnce = 16

// readAhead reads small files, those of a place several at a time. What it returns waits for one of them.
func (l *Attempt) readAhead(ctx context.Context, parts []*part) func(i int) error {
	if !l.recipe.Feed.Landing.IsFar() {
		return func(i int) error { return l.readSmall(ctx, parts[i]) }
	}
	done := make([]chan error, len(parts))
	places := make(chan struct{}, readAtOnce)
	for i := range done {
		done[i] = make(chan error, 1)
	}
	go func() {
		for i, p := range parts {
			places <- struct{}{}
			go func() {
				defer func() { <-places }()
				done[i] <- l.readSmall(ctx, p)
			}()
		}
	}()
	return func(i int) error { return <-done[i] }
}

func (l *Attempt) readSmall(ctx context.Context, p *part) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if err := l.open(ctx, p); err != nil {
		return err
	}
	p.content = make([]byte, p.arrival.Size)
	if _, err := io.ReadFull(p.file, p.content); err != nil {
		if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
			if !p.file.Seekable() && p.file.Unchanged() {
				return &decode.FileError{Reason: "it holds fewer bytes than the directory of its zip says"}
			}
			return ErrChanged
		}
		return fmt.Errorf("read %s: %w", p.arrival.Path, err)
	}
	var err error
	p.digest, err = reading.DigestOf(ctx, bytes.NewReader(p.content))
	return err
}

// decodeSmall turns a small file into rows that are ready to be staged.
func (l *Attempt) decodeSmall(p *part, batch *table.Batch) error {
	again := func() (reading.Content, error) { return bytes.NewReader(p.content), nil }
	if err := l.read(p, reading.Source{Bytes: bytes.NewReader(p.content), Again: again}); err != nil {
		return err
	}
	batch.Begin(p.n)
	for {
		err := p.reading.Fill(batch, 1<<62)
		if err == io.EOF {
			p.piece = batch.TakePiece()
			p.reading.Checkpoint()
			p.reading.Release()
			return nil
		}
		if err != nil {
			batch.TakePiece() // its rows join nobody
			return err
		}
	}
}

// groups puts files together, in order, as long as no key stands in two.
func groups(parts []*part) [][]*part {
	var out [][]*part
	keys := map[uint64]bool{}
	closed := true
	for _, p := range parts {
		lonely := len(p.replaces) > 0
		if closed || lonely || slices.ContainsFunc(p.piece.Hashes, func(h uint64) bool { return keys[h] }) {
			out = append(out, nil)
			clear(keys)
		}
		closed = lonely
		for _, h := range p.piece.Hashes {
			keys[h] = true
		}
		out[len(out)-1] = append(out[len(out)-1], p)
	}
	return out
}

// eachAlone makes a group of each file.
func eachAlone(parts []*part) [][]*part {
	out := make([][]*part, len(parts))
	for i, p := range parts {
		out[i] = []*part{p}
	}
	return out
}

// group commits files together. When one is to blame for a failure, it is
// taken out; when it is not known which, halves are tried until it is alone.
func (l *Attempt) group(ctx context.Context, parts []*part) error {
	err := l.tryGroup(ctx, parts)
	var culprit *culpritError
	var already *table.AlreadyLoadedError
	switch {
	case err == nil:
		return l.finish(ctx, parts)
	case ctx.Err() != nil || len(parts) == 1:
		return l.failed(ctx, parts, err)
	case errors.As(err, &culprit):
		rest := slices.DeleteFunc(slices.Clone(parts), func(p *part) bool { return p == culprit.part })
		return errors.Join(l.failed(ctx, []*part{culprit.part}, err), l.group(ctx, rest))
	case refusalOfTarget(err, nil) != "", errors.As(err, &already):
		middle := len(parts) / 2
		return errors.Join(l.group(ctx, parts[:middle]), l.group(ctx, parts[middle:]))
	}
	// Nobody is to blame. The first is tried again, alone, and blocks the others.
	return errors.Join(l.failed(ctx, parts[:1], err), l.giveBack(ctx, parts[1:], nil))
}

func (l *Attempt) tryGroup(ctx context.Context, parts []*part) error {
	load, err := l.session.conn.Begin(ctx, l.recipe.Table, l.n)
	if err != nil {
		return err
	}
	defer load.Close(ctx)
	if err := l.rank(ctx, load, parts); err != nil {
		return err
	}
	later, err := l.replacing(ctx, load, parts)
	if err == nil {
		err = l.rereadLater(ctx, load, later)
	}
	if err != nil {
		return err
	}
	pieces := make([]table.Piece, len(parts))
	for i, p := range parts {
		pieces[i] = p.piece
		p.reading.Restore()
	}
	asksStaged := l.recipe.asksStaged()
	if !asksStaged { // what is refused need not be staged
		if err := l.judge(ctx, load, eachAlone(parts)...); err != nil {
			return err
		}
	}
	if err := load.StagePieces(ctx, pieces); err != nil {
		return err
	}
	if asksStaged {
		if err := l.judge(ctx, load, eachAlone(parts)...); err != nil {
			return err
		}
	}
	return l.commit(ctx, load, parts)
}

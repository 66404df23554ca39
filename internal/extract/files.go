package extract

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"mullein/internal/core/feed"
	"mullein/internal/ledger"
)

// parts writes the files of a run into a folder, under the numbers of the parts.
type parts struct {
	folder  string
	files   *feed.ExtractFiles
	columns []Column
	name    func(part int64) string
	done    []ledger.ExtractFile
	now     *partFile // nil for none
}

// maxParts bounds the files of a run.
const maxParts = 9999

// take writes a batch.
func (p *parts) take(b *Batch) error {
	for from := 0; from < b.Rows; {
		if p.now == nil {
			if err := p.begin(); err != nil {
				return err
			}
		}
		to := b.Rows
		if most := p.files.SplitRows; most > 0 {
			to = int(min(int64(to), int64(from)+most-p.now.rows))
		}
		if err := p.now.encoder.rows(b, from, to); err != nil {
			return err
		}
		p.now.rows += int64(to - from)
		from = to
		full := p.files.SplitRows > 0 && p.now.rows >= p.files.SplitRows ||
			p.files.SplitBytes > 0 && p.now.encoder.size(p.now.written.bytes.Load()) >= p.files.SplitBytes
		if full {
			if err := p.end(); err != nil {
				return err
			}
		}
	}
	return nil
}

// finish ends the last file. Without rows there is one where empty files are wanted.
func (p *parts) finish() error {
	if p.now == nil && len(p.done) == 0 && p.files.WriteEmpty {
		if err := p.begin(); err != nil {
			return err
		}
	}
	return p.end()
}

func (p *parts) begin() error {
	number := int64(len(p.done) + 1)
	if number > maxParts {
		return &UnfitError{fmt.Sprintf("more than %d files of one run; let split make larger ones", maxParts)}
	}
	f, err := newPartFile(partPath(p.folder, number), p.files, p.columns)
	p.now = f
	return err
}

func (p *parts) end() error {
	if p.now == nil {
		return nil
	}
	f := p.now
	p.now = nil
	if err := f.close(); err != nil {
		return err
	}
	p.done = append(p.done, ledger.ExtractFile{Name: p.name(int64(len(p.done) + 1)), Rows: f.rows, Bytes: f.written.bytes.Load(), SHA256: hex.EncodeToString(f.written.sum.Sum(nil))})
	return nil
}

// drop closes a file that is not written to its end.
func (p *parts) drop() {
	if p.now != nil {
		p.now.aside.Close()
		p.now.written.file.Close()
		p.now = nil
	}
}

func partPath(folder string, number int64) string {
	return filepath.Join(folder, fmt.Sprintf("%04d", number))
}

// partFile is a file that is being written: rows are encoded, compressed, counted and summed on their way to the disk.
type partFile struct {
	rows    int64
	encoder encoder
	packer  io.WriteCloser // nil where nothing is compressed
	written *counted
	aside   *aside // between the encoder and the rest, which works at the same time
}

func newPartFile(path string, files *feed.ExtractFiles, columns []Column) (*partFile, error) {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	f := &partFile{written: &counted{file: file, sum: sha256.New()}}
	to := io.Writer(f.written)
	switch files.Compression {
	case feed.Gzip:
		f.packer, err = gzip.NewWriterLevel(to, gzip.BestSpeed)
	case feed.Zstd:
		f.packer, err = zstd.NewWriter(to, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest))
	}
	if err != nil {
		return nil, errors.Join(err, file.Close())
	}
	if f.packer != nil {
		to = f.packer
	}
	f.aside = newAside(to)
	to = f.aside
	switch files.Format {
	case feed.OutCSV:
		f.encoder = newCSV(to, files, columns)
	case feed.OutLines:
		f.encoder = newJSON(to, columns)
	default:
		f.encoder = newParquet(to, columns)
	}
	return f, nil
}

func (f *partFile) close() error {
	err := errors.Join(f.encoder.close(), f.aside.Close())
	if f.packer != nil {
		err = errors.Join(err, f.packer.Close())
	}
	if err == nil {
		err = f.written.file.Sync()
	}
	return errors.Join(err, f.written.file.Close())
}

// counted counts and sums what is written.
type counted struct {
	file  *os.File
	sum   hash.Hash
	bytes atomic.Int64
}

func (c *counted) Write(b []byte) (int, error) {
	n, err := c.file.Write(b)
	c.sum.Write(b[:n])
	c.bytes.Add(int64(n))
	return n, err
}

// aside writes what it is given in a goroutine of its own, in order, a few pieces behind.
type aside struct {
	pieces chan []byte
	free   chan []byte
	done   chan struct{}
	mu     sync.Mutex
	err    error
}

// asideAhead bounds the pieces that wait.
const asideAhead = 4

func newAside(to io.Writer) *aside {
	a := &aside{pieces: make(chan []byte, asideAhead), free: make(chan []byte, asideAhead+2), done: make(chan struct{})}
	go func() {
		defer close(a.done)
		for piece := range a.pieces {
			if a.failed() == nil {
				if _, err := to.Write(piece); err != nil {
					a.mu.Lock()
					a.err = err
					a.mu.Unlock()
				}
			}
			a.free <- piece[:0]
		}
	}()
	return a
}

func (a *aside) failed() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.err
}

func (a *aside) Write(b []byte) (int, error) {
	if err := a.failed(); err != nil {
		return 0, err
	}
	var piece []byte
	select {
	case piece = <-a.free:
	default:
	}
	a.pieces <- append(piece, b...)
	return len(b), nil
}

// Close waits until all is written.
func (a *aside) Close() error {
	close(a.pieces)
	<-a.done
	return a.err
}

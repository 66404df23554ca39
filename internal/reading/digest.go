package reading

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"io"
	"sync"
)

// Hasher takes the SHA-256 of what is read through it, unless that is known
// already, and counts it. Large pieces are hashed while the next is read and
// decoded.
type Hasher struct {
	r     io.Reader
	h     hash.Hash
	known string
	n     int64
	piece []byte
	busy  sync.WaitGroup
}

// hashedAside is the size in bytes from which a piece is hashed aside.
const hashedAside = 64 << 10

// NewHasher returns a Hasher of what r reads. known is the digest, in
// hexadecimal, where it is known already; "" where it is not.
func NewHasher(r io.Reader, known string) *Hasher {
	return &Hasher{r: r, h: sha256.New(), known: known}
}

// Read reads from the reader below.
func (h *Hasher) Read(p []byte) (int, error) {
	n, err := h.r.Read(p)
	h.n += int64(n)
	if h.known != "" {
		return n, err
	}
	h.busy.Wait()
	if n < hashedAside {
		h.h.Write(p[:n])
		return n, err
	}
	h.piece = append(h.piece[:0], p[:n]...)
	h.busy.Go(func() { h.h.Write(h.piece) })
	return n, err
}

// release lets go of the last piece.
func (h *Hasher) release() {
	h.busy.Wait()
	h.piece = nil
}

// Sum returns the digest of what was read, in hexadecimal.
func (h *Hasher) Sum() string {
	if h.known != "" {
		return h.known
	}
	h.busy.Wait()
	return hex.EncodeToString(h.h.Sum(nil))
}

// DigestOf reads r to its end and returns the SHA-256 of what it read, in
// hexadecimal.
func DigestOf(ctx context.Context, r io.Reader) (string, error) {
	h := NewHasher(r, "")
	if _, err := io.Copy(io.Discard, &untilDone{ctx, h}); err != nil {
		return "", err
	}
	return h.Sum(), nil
}

// untilDone stops reading when the context ends.
type untilDone struct {
	ctx context.Context
	r   io.Reader
}

func (u *untilDone) Read(p []byte) (int, error) {
	if err := u.ctx.Err(); err != nil {
		return 0, err
	}
	return u.r.Read(p)
}

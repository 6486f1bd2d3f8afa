package base

import (
	"archive/tar"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"strings"

	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"
)

// mostMemory bounds what unpacking a base takes, in bytes.
const mostMemory = 256 << 20

// Read reads a base from its beginning to its end: first takes the manifest, and each is called with every piece, which
// it reads as far as it wants. Every byte is checked against the manifest's sums; a piece whose sum is wrong is told
// after each has had it, so nothing of it is to be trusted before Read has ended well. What r holds must be all of the
// base and nothing else.
func Read(ctx context.Context, r io.Reader, first func(*Manifest) error, each func(Piece, io.Reader) error) error {
	z, err := zstd.NewReader(r, zstd.WithDecoderMaxMemory(mostMemory), zstd.WithDecoderConcurrency(1))
	if err != nil {
		return fmt.Errorf("%w: %w", ErrOther, err)
	}
	defer z.Close()
	t := tar.NewReader(z)
	h, err := t.Next()
	if err != nil || h.Name != manifestName {
		return fmt.Errorf("%w: it doesn't begin with its list of pieces", ErrOther)
	}
	m, err := readManifest(t)
	if err != nil {
		return err
	}
	if err := first(m); err != nil {
		return err
	}
	for _, p := range m.Pieces {
		if err := ctx.Err(); err != nil {
			return err
		}
		h, err := t.Next()
		if err != nil || h.Name != piecesFolder+p.Name || h.Size != p.Size {
			return &Hurt{p.Name, cut(err)}
		}
		if err := readPiece(t, p, each); err != nil {
			return err
		}
	}
	if _, err := t.Next(); !errors.Is(err, io.EOF) {
		return &Hurt{strings.TrimSuffix(piecesFolder, "/"), "it has more than its list names"}
	}
	return nil
}

func cut(err error) string {
	if err != nil && !errors.Is(err, io.EOF) {
		return "it can't be read: " + err.Error()
	}
	return "it isn't where its list says"
}

func readPiece(t io.Reader, p Piece, each func(Piece, io.Reader) error) error {
	s := &summed{t, blake3.New()}
	if err := each(p, s); err != nil {
		return err
	}
	if _, err := io.Copy(io.Discard, s); err != nil {
		return &Hurt{p.Name, cut(err)}
	}
	if hex.EncodeToString(s.h.Sum(nil)) != p.Sum {
		return &Hurt{p.Name, "its checksum is wrong"}
	}
	return nil
}

// summed sums what is read.
type summed struct {
	r io.Reader
	h hash.Hash
}

func (s *summed) Read(b []byte) (int, error) {
	n, err := s.r.Read(b)
	s.h.Write(b[:n])
	return n, err
}

// Hurt is a base that isn't what it was made as.
type Hurt struct{ Piece, Why string }

func (e *Hurt) Error() string {
	return fmt.Sprintf("the base is hurt at %s: %s; make it anew, or fetch it again", e.Piece, e.Why)
}

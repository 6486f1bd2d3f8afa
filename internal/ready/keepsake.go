package ready

import (
	"archive/tar"
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"

	"twinshelf/internal/disk"
	"twinshelf/internal/durable"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// Keepsakes is the folder in which what a plan is about to overwrite is kept, by
// the identity of the disk.
//
// A keepsake is two files: NAME.tar.zst holds the old bytes, each stretch an entry named by
// its place in hexadecimal digits, in the order in which they are put back; NAME.json says
// what it is and is written last, so that a keepsake that was cut short is none.
type Keepsakes struct{ Dir string }

// Keepsake is what stood on a disk before a plan was carried out.
type Keepsake struct {
	Version  int           `json:"version"`
	Identity disk.Identity `json:"identity"`
	Taken    time.Time     `json:"taken"`
	Why      string        `json:"why"`
	// Held says in words what was on the disk.
	Held   []string `json:"held"`
	Pieces []Piece  `json:"pieces"`
	// Incomplete says why it can't be put back; empty when it can.
	Incomplete string `json:"incomplete,omitempty"`
	// Finished says that the plan was carried out to its end: only then is
	// every stretch what the plan wanted.
	Finished bool `json:"finished"`

	path   string // without its ending
	newest bool
}

// Piece is a stretch of up to a MiB, with the sums of its old bytes and of those that the
// plan puts there. Pieces of zeros have no bytes in the archive.
type Piece struct {
	Start int64  `json:"start"`
	End   int64  `json:"end"`
	Old   string `json:"old"`
	New   string `json:"new"`
	Zero  bool   `json:"zero,omitempty"`
}

// Span is the piece's place in bytes.
func (p Piece) Span() span.Span { return span.Span{Start: p.Start, End: p.End} }

const (
	keepsakeVersion = 1
	pieceLen        = units.MiB
	// mostRead is how much of a disk is kept at the most, in bytes.
	mostRead = units.GiB
	// mostKept is how large the packed bytes may become.
	mostKept = 256 * units.MiB
)

// folder is where the keepsakes of a disk lie.
func (k Keepsakes) folder(id disk.Identity) string {
	sum := blake3.Sum256([]byte(id.Key()))
	return filepath.Join(k.Dir, hex.EncodeToString(sum[:12]))
}

// List gives the keepsakes of a disk, newest first.
func (k Keepsakes) List(id disk.Identity) ([]*Keepsake, error) {
	names, err := filepath.Glob(filepath.Join(k.folder(id), "*.json"))
	if err != nil {
		return nil, err
	}
	slices.Sort(names)
	slices.Reverse(names)
	var out []*Keepsake
	for _, n := range names {
		b, err := os.ReadFile(n)
		s := &Keepsake{path: strings.TrimSuffix(n, ".json")}
		if err == nil {
			err = json.Unmarshal(units.VisibleJSON(b), s)
		}
		switch {
		case err != nil:
			return out, fmt.Errorf("the keepsake %s can't be read: %w", n, err)
		case s.Version > keepsakeVersion:
			return out, fmt.Errorf("the keepsake %s was made by a newer Twin Shelf (version %d); use that one", n,
				s.Version)
		}
		if s.Identity.Key() == id.Key() {
			s.newest = len(out) == 0
			out = append(out, s)
		}
	}
	return out, nil
}

// Bytes is how much of the disk is kept.
func (s *Keepsake) Bytes() int64 {
	n := int64(0)
	for _, p := range s.Pieces {
		n += p.End - p.Start
	}
	return n
}

// order is the order of putting back: the start of the disk last, its end before that.
func order(spans span.Set, size int64) []span.Span {
	first, last := span.Span{End: min(edge, size)}, span.Span{Start: max(edge, size-edge), End: size}
	var out []span.Span
	pieces := func(set span.Set) {
		for sp := range set.All() {
			out = slices.AppendSeq(out, disk.Chunks(sp, pieceLen))
		}
	}
	pieces(spans.Subtract(span.Of(first, last)))
	pieces(spans.Clip(last))
	pieces(spans.Clip(first))
	return out
}

func sum(b []byte) string {
	s := blake3.Sum256(b)
	return hex.EncodeToString(s[:16])
}

var noBytes = make([]byte, pieceLen)

// blank says whether up to a MiB is all zeros.
func blank(b []byte) bool { return bytes.Equal(b, noBytes[:len(b)]) }

// errTooMuch means that the packed bytes outgrow what is kept.
var errTooMuch = errors.New("too much to keep")

// keep saves what stands in spans on dev; planned is the disk as it will be. When that is too
// much, only the essential spans are kept, and the keepsake says that it can't be put back.
func (k Keepsakes) keep(rc *run.Context, dev, planned disk.Device, spans, essential span.Set,
	s Keepsake) (*Keepsake, error) {
	fail := func(err error) (*Keepsake, error) {
		return nil, fmt.Errorf("what the disk holds can't be kept: %w; nothing was written to the disk", err)
	}
	s.Version, s.Identity, s.Taken = keepsakeVersion, dev.Identity(), time.Now()
	dir := k.folder(s.Identity)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fail(err)
	}
	s.path = filepath.Join(dir, s.Taken.UTC().Format("20060102T150405.000"))
	rc.Phase(phaseKeep, spans.Total())
	err := errTooMuch
	if spans.Total() <= mostRead {
		err = s.pack(rc, dev, planned, order(spans, dev.Size()), mostKept)
	}
	if errors.Is(err, errTooMuch) {
		s.Incomplete = fmt.Sprintf("%s were to be overwritten, more than is kept (%s, and packed %s)",
			units.Bytes(spans.Total()), units.Bytes(mostRead), units.Bytes(mostKept))
		s.Pieces = nil
		rc.Phase(phaseKeep, essential.Total())
		err = s.pack(rc, dev, planned, order(essential, dev.Size()), mostRead)
	}
	if err != nil {
		os.Remove(s.path + ".tar.zst")
		return fail(err)
	}
	if err := s.save(); err != nil {
		return fail(err)
	}
	return &s, nil
}

func (s *Keepsake) save() error {
	b, err := json.MarshalIndent(s, "", " ")
	if err != nil {
		return err
	}
	return durable.Replace(s.path+".json", b)
}

// pack writes the archive and fills in the pieces.
func (s *Keepsake) pack(rc *run.Context, dev, planned disk.Device, pieces []span.Span, most int64) (err error) {
	f, err := os.OpenFile(s.path+".tar.zst", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	out := &counter{w: f}
	z, err := zstd.NewWriter(out, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	if err != nil {
		return err
	}
	defer z.Close()
	t := tar.NewWriter(z)
	old, want := make([]byte, pieceLen), make([]byte, pieceLen)
	for _, sp := range pieces {
		o, n := old[:sp.Len()], want[:sp.Len()]
		if err := errors.Join(disk.ReadFull(dev, o, sp.Start), disk.ReadFull(planned, n, sp.Start)); err != nil {
			return err
		}
		p := Piece{sp.Start, sp.End, sum(o), sum(n), blank(o)}
		s.Pieces = append(s.Pieces, p)
		if !p.Zero {
			if err := t.WriteHeader(&tar.Header{Name: entryName(sp), Size: sp.Len(), Mode: 0o600,
				Format: tar.FormatPAX}); err != nil {
				return err
			}
			if _, err := t.Write(o); err != nil {
				return err
			}
		}
		if out.n > most {
			return errTooMuch
		}
		if err := rc.Step(sp.Len()); err != nil {
			return err
		}
	}
	if err := errors.Join(t.Close(), z.Close()); err != nil {
		return err
	}
	return f.Sync()
}

func entryName(sp span.Span) string { return fmt.Sprintf("%016x", sp.Start) }

type counter struct {
	w io.Writer
	n int64
}

func (c *counter) Write(p []byte) (int, error) {
	c.n += int64(len(p))
	return c.w.Write(p)
}

// Return puts a keepsake back.
type Return struct {
	Keepsake *Keepsake
	Target   disk.Target
}

// PutBackPhases are the phases of putting a keepsake back.
var PutBackPhases = []string{"Check what is there", "Put back", "Flush", "Read back"}

// Check says why a keepsake can't be put back onto a disk, as a *disk.Refusal;
// it reads every kept stretch.
func (r Return) Check(rc *run.Context, dev disk.Device) error {
	_, err := r.differing(rc, dev)
	return err
}

func (r Return) refuse(reason, remedy string) error {
	return &disk.Refusal{Disk: disk.Sticker(r.Target.Identity), Reason: reason, Remedy: remedy}
}

// differing are the pieces that aren't as they were. Each must be what the plan
// had put there; after a plan that was cut short, which nothing followed, what it began to write may
// be anything.
func (r Return) differing(rc *run.Context, dev disk.Device) (map[string]bool, error) {
	k := r.Keepsake
	if k.Incomplete != "" {
		return nil, r.refuse("the keepsake isn't complete: "+k.Incomplete, "lay the disk out anew, or restore a twin")
	}
	if k.Identity.Key() != dev.Identity().Key() {
		return nil, r.refuse("the keepsake is of another disk ("+disk.Sticker(k.Identity)+")", "choose that disk")
	}
	rc.Phase(PutBackPhases[0], k.Bytes())
	differ := map[string]bool{}
	buf := make([]byte, pieceLen)
	for _, p := range k.Pieces {
		sp := p.Span()
		if sp.Empty() || sp.Len() > pieceLen || sp.Start < 0 || sp.End > dev.Size() {
			return nil, fmt.Errorf("the keepsake %s.json names the stretch %s, which can't be; it is damaged",
				k.path, sp)
		}
		if err := disk.ReadFull(dev, buf[:sp.Len()], sp.Start); err != nil {
			return nil, err
		}
		switch sum(buf[:sp.Len()]) {
		case p.Old:
		case p.New:
			differ[entryName(sp)] = true
		default:
			if !k.Finished && k.newest && p.Old != p.New {
				differ[entryName(sp)] = true
				break
			}
			return nil, r.refuse("it was used since: "+sp.String()+" holds neither what was there before nor what was "+
				"put there", "the old state can't be had back this way; what is on it now stays as it is")
		}
		if err := rc.Step(sp.Len()); err != nil {
			return nil, err
		}
	}
	return differ, nil
}

// Run puts the old bytes back, the start of the disk last, and reads them back.
func (r Return) Run(rc *run.Context, guard *disk.Guard) error {
	w, err := guard.Open(r.Target)
	if err != nil {
		return err
	}
	defer w.Close()
	return r.onto(rc, w)
}

func (r Return) onto(rc *run.Context, w disk.Writable) error {
	k := r.Keepsake
	rc.Rails(0, w.Size())
	differ, err := r.differing(rc, w)
	if err != nil {
		return err
	}
	total := int64(0)
	for _, p := range k.Pieces {
		if differ[entryName(p.Span())] {
			total += p.End - p.Start
		}
	}
	rc.Phase(PutBackPhases[1], total)
	if err := k.each(func(p Piece, b []byte) error {
		if !differ[entryName(p.Span())] {
			return nil
		}
		if p.Start < edge { // everything else is there before the table comes
			if err := w.Sync(); err != nil {
				return err
			}
		}
		if _, err := w.WriteAt(b, p.Start); err != nil {
			return err
		}
		rc.MarkWritten(p.Span(), run.Finished)
		return rc.Step(int64(len(b)))
	}); err != nil {
		return fmt.Errorf("%w; the disk is put back in part: put it back again, every stretch is still known", err)
	}
	rc.Phase(PutBackPhases[2], 0)
	if err := settle(rc, w); err != nil {
		return err
	}
	rc.Phase(PutBackPhases[3], k.Bytes())
	buf := make([]byte, pieceLen)
	for _, p := range k.Pieces {
		b := buf[:p.End-p.Start]
		if err := disk.ReadFull(w, b, p.Start); err != nil {
			return err
		}
		if sum(b) != p.Old {
			return fmt.Errorf("%s reads back different from what was written; the disk can't be relied on", p.Span())
		}
		if err := rc.Step(p.End - p.Start); err != nil {
			return err
		}
	}
	return nil
}

const maxLooked = 64 << 20 // bytes of pieces that are held to see what was there

// Before is the table that a disk has once a keepsake is put back.
func (r Return) Before(dev disk.Device) (*table.Table, error) {
	k := r.Keepsake
	all := k.Bytes() <= maxLooked
	var patches []disk.Patch
	if err := k.each(func(p Piece, b []byte) error {
		if all || p.Start < edge || p.End > dev.Size()-edge { // a table lies there, but for links of logical parts
			patches = append(patches, disk.Patch{Off: p.Start, Data: bytes.Clone(b), Why: "as it was"})
		}
		return nil
	}); err != nil {
		return nil, err
	}
	o, err := disk.NewOverlay(dev, patches, dev.Size())
	if err != nil {
		return nil, err
	}
	return table.Read(o, o.Size(), o.SectorSize())
}

// Spares says that a part of a disk stays as it is: the table that comes back has it at the same place, and nothing of
// it is written over.
func (r Return) Spares(before *table.Table, p table.Part) bool {
	same := slices.ContainsFunc(before.Parts, func(o table.Part) bool { return o.Span == p.Span && o.Type == p.Type })
	return same && !slices.ContainsFunc(r.Keepsake.Pieces, func(x Piece) bool {
		return x.Old != x.New && x.Span().Overlaps(p.Span)
	})
}

// each gives every piece with its old bytes, in the order of putting back.
func (k *Keepsake) each(do func(Piece, []byte) error) error {
	f, err := os.Open(k.path + ".tar.zst")
	if err != nil {
		return fmt.Errorf("the keepsake's bytes are gone: %w", err)
	}
	defer f.Close()
	z, err := zstd.NewReader(f, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return err
	}
	defer z.Close()
	t := tar.NewReader(z)
	buf := make([]byte, pieceLen)
	for _, p := range k.Pieces {
		b := buf[:p.End-p.Start]
		clear(b)
		if !p.Zero {
			h, err := t.Next()
			if err == nil && (h.Name != entryName(p.Span()) || h.Size != int64(len(b))) {
				err = fmt.Errorf("entry %s of %d bytes instead of %s", h.Name, h.Size, entryName(p.Span()))
			}
			if err == nil {
				_, err = io.ReadFull(t, b)
			}
			if err == nil && sum(b) != p.Old {
				err = errors.New("its bytes changed")
			}
			if err != nil {
				return fmt.Errorf("the keepsake %s.tar.zst is damaged at the stretch %s: %w", k.path, p.Span(), err)
			}
		}
		if err := do(p, b); err != nil {
			return err
		}
	}
	return nil
}

// Size is how much room the keepsake takes, in bytes.
func (k *Keepsake) Size() int64 {
	n := int64(0)
	for _, end := range []string{".json", ".tar.zst"} {
		if st, err := os.Stat(k.path + end); err == nil {
			n += st.Size()
		}
	}
	return n
}

// Name is what the keepsake can be chosen by: the time it was taken, in UTC.
func (k *Keepsake) Name() string { return filepath.Base(k.path) }

// Forget removes a keepsake for good.
func (k *Keepsake) Forget() error {
	err := errors.Join(os.Remove(k.path+".json"), os.Remove(k.path+".tar.zst"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

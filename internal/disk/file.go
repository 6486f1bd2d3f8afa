package disk

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync/atomic"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"twinshelf/internal/span"
)

// File is a block device or a raw image file, as a Device.
type File struct {
	at     atomic.Pointer[seat]
	size   int64
	sector int
	id     Identity
	block  bool

	reading atomic.Int64 // reads under way
	moved   atomic.Int64 // when one began while none was under way, or ended; Unix time in ns

	patience patience
	attended attended
	held     held
}

// seat is where a disk is attached; a disk that vanished and came back has another one.
type seat struct {
	f      *os.File
	path   string
	faults *Faults // of a stand-in for a failing drive; nil for none
}

// file is the disk as the kernel knows it.
func (d *File) file() *os.File { return d.at.Load().f }

func (d *File) fd() int { return int(d.file().Fd()) }

// Label is what stands on the sticker of a disk that is an image file. It is
// read from the JSON file FILE.label.json beside the image, if there is one.
type Label struct {
	Model      string `json:"model"`
	Serial     string `json:"serial"`
	Bus        string `json:"bus,omitempty"`
	Rotational bool   `json:"rotational,omitempty"`
	Removable  bool   `json:"removable,omitempty"`
	Sector     int    `json:"sector,omitempty"`
	// Unreadable are stretches of a stand-in for a failing disk that can't be read, in bytes.
	Unreadable span.Set `json:"unreadable,omitzero"`
	// Faults are the other things that it does wrong.
	Faults *Faults `json:"faults,omitempty"`
	// Health is what the drive would say of itself (package health).
	Health json.RawMessage `json:"health,omitempty"`
}

// faults are all that a stand-in does wrong; nil for nothing.
func (l Label) faults() *Faults {
	if l.Unreadable.Empty() {
		return l.Faults
	}
	if l.Faults == nil {
		return &Faults{Unreadable: l.Unreadable}
	}
	l.Faults.Unreadable = l.Faults.Unreadable.Union(l.Unreadable)
	return l.Faults
}

// LabelPath is where the label of an image file is kept.
func LabelPath(image string) string { return image + ".label.json" }

// ReadLabel reads the label of an image file. Without one the model is the
// file's name.
func ReadLabel(image string) (Label, error) {
	b, err := os.ReadFile(LabelPath(image))
	if errors.Is(err, fs.ErrNotExist) {
		return Label{Model: filepath.Base(image), Bus: "image file"}, nil
	}
	var l Label
	if err == nil {
		err = json.Unmarshal(b, &l)
	}
	if err != nil {
		return Label{}, fmt.Errorf("the label of %s can't be read: %w; mend or remove %s", image, err, LabelPath(image))
	}
	if l.Sector != 0 && l.Sector != 512 && l.Sector != 4096 {
		return Label{}, fmt.Errorf("%s asks for sectors of %d bytes; disks have 512 or 4096", LabelPath(image),
			l.Sector)
	}
	return l, nil
}

// NoDisk is a name that stands for a folder, a pipe or the like.
type NoDisk struct{ Path string }

func (e *NoDisk) Error() string {
	return e.Path + " is neither a disk nor an image file; name a disk, such as /dev/sdb, or a file"
}

// Open opens a block device or an image file for reading only. id and sector
// come from the bench; zero values are filled in from the file itself.
func Open(path string, id Identity) (*File, error) { return open(path, id, os.O_RDONLY) }

// OpenDirect is Open for reads that go to the drive itself: the kernel neither keeps what is read nor reads ahead, and
// nothing but what is asked for is touched. Reads must begin and end at sectors then, in memory that begins at a page
// (Aligned). An image file, and a drive that can't be read so, is read as with Open.
func OpenDirect(path string, id Identity) (*File, error) {
	d, err := open(path, id, os.O_RDONLY|syscall.O_DIRECT)
	if err == nil && d.block {
		return d, nil
	}
	if err == nil {
		d.Close()
	}
	return Open(path, id)
}

// pageSize is where memory for direct reads begins.
const pageSize = 4096

// Aligned is memory of n bytes that direct reads take.
func Aligned(n int) []byte {
	b := make([]byte, n+pageSize)
	off := int(-uintptr(unsafe.Pointer(&b[0])) % pageSize)
	return b[off : off+n : off+n]
}

func open(path string, id Identity, flag int) (*File, error) {
	// a pipe would wait for ever
	if st, err := os.Stat(path); err == nil && !st.Mode().IsRegular() && st.Mode()&os.ModeType != os.ModeDevice {
		return nil, &NoDisk{path}
	}
	f, err := os.OpenFile(path, flag|syscall.O_CLOEXEC, 0)
	if err != nil {
		if errors.Is(err, fs.ErrPermission) {
			return nil, fmt.Errorf("%s can't be opened: %w; run as root, or as a member of the group that owns it",
				path, fs.ErrPermission)
		}
		return nil, fmt.Errorf("%s can't be opened: %w", path, errors.Unwrap(err))
	}
	d := &File{id: id, sector: id.Sector}
	d.at.Store(&seat{f: f, path: path})
	if err := d.measure(); err != nil {
		f.Close()
		return nil, err
	}
	if l, err := ReadLabel(path); err == nil && !d.block { // a label that can't be read is the bench's business
		d.at.Store(&seat{f, path, l.faults()})
	}
	return d, nil
}

func (d *File) measure() error {
	st, err := d.file().Stat()
	if err != nil {
		return fmt.Errorf("%s: %w", d.Path(), err)
	}
	switch m := st.Mode(); {
	case m.IsRegular():
		d.size = st.Size()
	case m&os.ModeDevice != 0 && m&os.ModeCharDevice == 0:
		d.block = true
		if d.size, err = d.file().Seek(0, io.SeekEnd); err != nil {
			return fmt.Errorf("%s: its size can't be told: %w", d.Path(), err)
		}
		if n, err := unix.IoctlGetUint32(d.fd(), unix.BLKSSZGET); err == nil {
			d.sector = int(n)
		}
	default:
		return &NoDisk{d.Path()}
	}
	if d.size == 0 {
		return fmt.Errorf("%s is empty: a disk or an image of one has at least one sector", d.Path())
	}
	if d.sector == 0 {
		d.sector = 512
	}
	d.id.Size, d.id.Sector = d.size, d.sector
	return nil
}

func (d *File) Size() int64        { return d.size }
func (d *File) SectorSize() int    { return d.sector }
func (d *File) Identity() Identity { return d.id }

// Path is the name the device was opened by; one that vanished and came back has the name of where it is now.
func (d *File) Path() string { return d.at.Load().path }

// IsBlock says whether this is a block device (not an image file).
func (d *File) IsBlock() bool { return d.block }

// SetSectorSize tells the sector size of an image file, which a plain file
// can't know itself; the table on it does.
func (d *File) SetSectorSize(n int) {
	if !d.block {
		d.sector, d.id.Sector = n, n
	}
}

// Stuck is for how long reads have been under way of which none ended.
func (d *File) Stuck() time.Duration {
	if d.reading.Load() == 0 || d.attended.waits.Load() > 0 {
		return 0
	}
	return time.Since(time.Unix(0, d.moved.Load()))
}

// ReadAt reads from the device; errors of the medium name the device.
func (d *File) ReadAt(p []byte, off int64) (int, error) { return d.read(p, off, false) }

// read is ReadAt; where p is lent it belongs to a read that hangs, and nobody may use it again after ErrStalled.
func (d *File) read(p []byte, off int64, lent bool) (int, error) {
	if d.reading.Add(1) == 1 {
		d.moved.Store(time.Now().UnixNano())
	}
	n, err := d.attendedRead(p, off, lent)
	d.moved.Store(time.Now().UnixNano())
	d.reading.Add(-1)
	return n, err
}

func (d *File) readAt(p []byte, off int64) (int, error) {
	at := d.at.Load()
	if err := at.faults.before(span.At(off, int64(len(p)))); err != nil {
		return 0, fmt.Errorf("%s: %w", at.path, err)
	}
	n, err := at.faults.wrapped(at.f.ReadAt, p, off)
	if n < len(p) && off+int64(n) < d.size && d.block && at.lost("/sys") {
		err = ErrGone // the kernel calls it an error of the medium, or the end of the disk
	}
	if err != nil && err != io.EOF {
		err = fmt.Errorf("%s: read at byte %d: %w", at.path, off+int64(n), rootOf(err))
	}
	return n, err
}

// Sync returns once everything that was written to the device, by whomever, is on the medium.
func (d *File) Sync() error {
	if err := d.file().Sync(); err != nil {
		return fmt.Errorf("%s: flush: %w", d.Path(), rootOf(err))
	}
	return nil
}

// Close closes the device.
func (d *File) Close() error {
	d.patience.wait()
	d.held.release(d.fd())
	return d.file().Close()
}

// NextData looks for the next stretch that isn't a hole (lseek SEEK_DATA). A
// device that can't tell is all data.
func (d *File) NextData(off int64) (span.Span, error) {
	if off >= d.size {
		return span.Span{}, io.EOF
	}
	rest := span.Span{Start: off, End: d.size}
	if d.block {
		return rest, nil
	}
	start, err := unix.Seek(d.fd(), off, unix.SEEK_DATA)
	if errors.Is(err, unix.ENXIO) {
		return span.Span{}, io.EOF
	}
	if err != nil {
		return rest, nil
	}
	end, err := unix.Seek(d.fd(), start, unix.SEEK_HOLE)
	if err != nil {
		end = d.size
	}
	return span.Span{Start: start, End: min(end, d.size)}, nil
}

// ReadPassing reads like ReadAt, and leaves the kernel's memory of the device as it found it: what wasn't held before
// the first such read isn't held afterwards (cachestat(2), posix_fadvise(2)), what the kernel read ahead no longer once
// the device is closed. Where the kernel can't tell, nothing is dropped. After ErrStalled p must not be used any more:
// the read may come yet.
func (d *File) ReadPassing(p []byte, off int64) (int, error) {
	sp := span.At(off, int64(len(p))).Intersect(span.Span{End: d.size})
	none := !sp.Empty() && d.held.before(d.fd(), d.size, sp)
	n, err := d.read(p, off, true)
	if none && n > 0 {
		_ = unix.Fadvise(d.fd(), off, int64(n), unix.FADV_DONTNEED)
	}
	return n, err
}

// Passing is a Device that can be read without filling the machine's memory.
type Passing interface {
	ReadPassing(p []byte, off int64) (int, error)
}

// ReadFullPassing is ReadFull in passing, where the device can. After ErrStalled p must not be used any more.
func ReadFullPassing(d Device, p []byte, off int64) error {
	if f, ok := d.(Passing); ok {
		return ReadFull(passing{f}, p, off)
	}
	return ReadFull(d, p, off)
}

type passing struct{ Passing }

func (p passing) ReadAt(b []byte, off int64) (int, error) { return p.ReadPassing(b, off) }

// Forget drops what the kernel keeps of the device in memory, so that the next
// read comes from the medium. Call it after Sync.
func (d *File) Forget() { d.ForgetIn(span.Span{End: d.size}) }

// ForgetIn is Forget for a stretch.
func (d *File) ForgetIn(sp span.Span) {
	_ = unix.Fadvise(d.fd(), sp.Start, sp.Len(), unix.FADV_DONTNEED)
}

func rootOf(err error) error {
	for {
		next := errors.Unwrap(err)
		if next == nil {
			return err
		}
		err = next
	}
}

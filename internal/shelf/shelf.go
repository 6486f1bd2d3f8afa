package shelf

import (
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/s2"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/sys/unix"

	"twinshelf/internal/units"
)

// DefaultBlock is the size of a block in bytes: large enough that names and
// maps stay small (a 16 TB disk has 16 million blocks), small enough that a change costs little.
const DefaultBlock = 1 << 20

const (
	maxHead     = 1 << 20
	maxTwinFile = 64 << 20
	maxProof    = 16 << 20
	minBlock    = 64 << 10
	maxBlock    = 4 << 20
	openPacks   = 16
)

// Head describes a shelf. It is readable without a key.
type Head struct {
	ID        string    `json:"id"`
	Name      string    `json:"name"`
	Created   time.Time `json:"created"`
	BlockSize int       `json:"block_size"` // bytes
	// Parity is the share of parity that new packs get, in percent; 0 stands for DefaultParity.
	Parity int          `json:"parity,omitempty"`
	Suite  uint16       `json:"suite"`
	Keys   []WrappedKey `json:"keys"`
	// Seal is a keyed hash of what mustn't be changed; empty in an open shelf.
	Seal string `json:"seal,omitempty"`
}

// Shelf is an open shelf. Its methods may be called from many goroutines.
type Shelf struct {
	b      Backend
	head   Head
	headMu sync.Mutex // guards what of the head can change: the passphrases, the share of parity
	ring   *keyring
	key    string // the passphrase's name that opened it
	notes  []string
	// packLimit is when a pack ends, in bytes.
	packLimit int64

	mu           sync.RWMutex
	segments     []*segment
	loaded       []string // index files that were loaded
	looseSegment []byte   // of packs that no index file covers
	looseAt      *segment // the same, among segments

	filesMu sync.Mutex
	files   map[string]Reader
	order   []string

	decoder *zstd.Decoder
}

// ErrNoShelf means that a folder holds no shelf.
var ErrNoShelf = errors.New("there is no shelf")

// Create makes a new open shelf. The folder must not hold one already; it is
// made when missing, and must otherwise be empty. blockSize 0 takes the default.
func Create(dir, name string, blockSize int) (*Shelf, error) {
	return create(dir, name, blockSize, SuiteOpen, nil, Cost{})
}

// CreateSealed makes a new sealed shelf that the passphrase opens.
func CreateSealed(dir, name string, blockSize int, passphrase []byte, cost Cost) (*Shelf, error) {
	if err := CheckPassphrase(passphrase); err != nil {
		return nil, err
	}
	return create(dir, name, blockSize, sealingSuite(), passphrase, cost)
}

func create(dir, name string, blockSize int, suite uint16, passphrase []byte, cost Cost) (*Shelf, error) {
	if scheme, _, far := strings.Cut(dir, "://"); far {
		return nil, fmt.Errorf("%s: a shelf lies in a folder; there are none on servers (%s) yet", dir, scheme)
	}
	if units.Visible(name) != name {
		return nil, fmt.Errorf("%q can't be the name of a shelf: it holds characters that can't be shown", name)
	}
	if blockSize == 0 {
		blockSize = DefaultBlock
	}
	if blockSize < minBlock || blockSize > maxBlock || blockSize&(blockSize-1) != 0 {
		return nil, fmt.Errorf("blocks of %d bytes are not possible: choose a power of two from %d to %d", blockSize, minBlock, maxBlock)
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("the folder for the shelf can't be made: %w", err)
	}
	b := Folder(dir)
	entries, err := b.List(".")
	if err != nil {
		return nil, fmt.Errorf("%s can't be read: %w", dir, err)
	}
	for _, e := range entries {
		if e == "head" {
			return nil, fmt.Errorf("%s already holds a shelf; nothing was changed", dir)
		}
		if e != "lost+found" {
			return nil, fmt.Errorf("%s is not empty (%s): a shelf needs a folder of its own; nothing was changed", dir, e)
		}
	}
	s := &Shelf{b: b, head: Head{ID: newID() + newID(), Name: name, Created: time.Now().UTC(), BlockSize: blockSize, Suite: suite, Keys: []WrappedKey{}}}
	if suite != SuiteOpen {
		master := make([]byte, masterLen)
		_, _ = rand.Read(master)
		s.head.Seal = s.head.seal(master)
		k, err := wrap(master, passphrase, "first", cost)
		if err != nil {
			return nil, err
		}
		s.head.Keys = append(s.head.Keys, k)
	}
	if err := s.writeHead(); err != nil {
		return nil, fmt.Errorf("the shelf can't be made: %w", err)
	}
	return OpenWith(dir, func() ([]byte, error) { return passphrase, nil })
}

// writeHead writes both copies of the head.
func (s *Shelf) writeHead() error {
	p, err := json.Marshal(s.head)
	if err != nil {
		return err
	}
	for _, file := range []string{"head.copy", "head"} {
		if err := s.writeFile(file, plainDocument(kindHead, s.head.Suite, p)); err != nil {
			return err
		}
	}
	return nil
}

// Open opens the open shelf in a folder for reading; Begin makes it writable.
func Open(dir string) (*Shelf, error) { return OpenBackend(Folder(dir), nil) }

// OpenWith opens any shelf in a folder; the passphrase is only asked for when it is sealed.
func OpenWith(dir string, passphrase func() ([]byte, error)) (*Shelf, error) {
	return OpenBackend(Folder(dir), passphrase)
}

// OpenBackend opens a shelf wherever its files lie. Without a passphrase a sealed one is ErrSealed.
func OpenBackend(b Backend, passphrase func() ([]byte, error)) (*Shelf, error) {
	s := &Shelf{b: b, files: map[string]Reader{}, packLimit: DefaultPack}
	if err := s.readHead(); err != nil {
		return nil, err
	}
	if err := s.suiteOfFiles(); err != nil {
		return nil, fmt.Errorf("the shelf in %s can't be opened: %w", b.Place(), err)
	}
	if err := s.unlock(passphrase); err != nil {
		return nil, err
	}
	var err error
	if s.decoder, err = zstd.NewReader(nil, zstd.WithDecoderMaxMemory(maxBlock), zstd.WithDecoderMaxWindow(maxBlock), zstd.IgnoreChecksum(true)); err != nil {
		return nil, err
	}
	if err := s.loadIndex(); err != nil {
		return nil, err
	}
	return s, nil
}

func (s *Shelf) readHead() error {
	var p []byte
	var err error
	for i, file := range []string{"head", "head.copy"} {
		var raw []byte
		if raw, err = s.b.ReadFile(file, maxHead); err == nil {
			if _, p, err = framed(file, raw, kindHead); err == nil {
				if i > 0 {
					s.notes = append(s.notes, "the file head is missing or damaged; its copy was read")
				}
				break
			}
		}
		if errors.Is(err, ErrNewer) {
			return fmt.Errorf("the shelf in %s can't be opened: %w", s.b.Place(), err)
		}
	}
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrInvalid) {
		return fmt.Errorf("%w in %s: no head file; make one with \"twinshelf shelf new\", or name the folder of an existing shelf", ErrNoShelf, s.b.Place())
	}
	if err != nil {
		return fmt.Errorf("the shelf in %s can't be opened: %w", s.b.Place(), err)
	}
	if err := json.Unmarshal(units.VisibleJSON(p), &s.head); err != nil {
		return fmt.Errorf("the head of the shelf in %s can't be understood: %w", s.b.Place(), err)
	}
	if n := s.head.BlockSize; n < minBlock || n > maxBlock || n&(n-1) != 0 {
		return fmt.Errorf("the head of the shelf in %s claims blocks of %d bytes", s.b.Place(), n)
	}
	return nil
}

// Close closes the files of the shelf.
func (s *Shelf) Close() {
	s.mu.Lock()
	for _, seg := range s.segments {
		seg.close()
	}
	s.segments = nil
	s.mu.Unlock()
	s.filesMu.Lock()
	for _, f := range s.files {
		f.Close()
	}
	s.files, s.order = map[string]Reader{}, nil
	s.filesMu.Unlock()
	s.decoder.Close()
}

// Head describes the shelf.
func (s *Shelf) Head() Head {
	s.headMu.Lock()
	defer s.headMu.Unlock()
	return s.head
}

// changeHead changes the head as it stands on the medium: somebody else may have changed it meanwhile.
func (s *Shelf) changeHead(what string, change func(*Head) error) error {
	release, err := s.exclusive(what)
	if err != nil {
		return err
	}
	defer release()
	fresh := &Shelf{b: s.b}
	if err := fresh.readHead(); err != nil {
		return err
	}
	if err := change(&fresh.head); err != nil {
		return err
	}
	if err := fresh.writeHead(); err != nil {
		return err
	}
	s.headMu.Lock()
	defer s.headMu.Unlock()
	s.head.Keys, s.head.Parity = fresh.head.Keys, fresh.head.Parity
	return nil
}

// mendHead writes both copies of the head from the one that is whole; without any from what was read when the shelf was opened.
func (s *Shelf) mendHead() error {
	fresh := &Shelf{b: s.b}
	if fresh.readHead() != nil {
		fresh.head = s.Head()
	}
	return fresh.writeHead()
}

// Place is the folder of the shelf.
func (s *Shelf) Place() string { return s.b.Place() }

// Free is the room left where the shelf lies, in bytes.
func (s *Shelf) Free() (int64, error) { return s.b.Free() }

// Notes are what was found amiss when the shelf was opened, in words.
func (s *Shelf) Notes() []string {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return slices.Clone(s.notes)
}

// Stats are the number of blocks and packs, and the bytes in packs.
type Stats struct {
	Blocks int   `json:"blocks"`
	Packs  int   `json:"packs"`
	Bytes  int64 `json:"bytes"`
}

// Stats counts what is on the shelf.
func (s *Shelf) Stats() (Stats, error) {
	var st Stats
	s.mu.RLock()
	for _, seg := range s.segments {
		st.Blocks += seg.count
	}
	s.mu.RUnlock()
	packs, err := s.b.List("packs")
	for _, p := range packs {
		if size, _, err := s.b.Stat("packs/" + p); err == nil {
			st.Bytes += size
			st.Packs++
		}
	}
	return st, err
}

// writeFile puts a whole file on the medium under a temporary name, then
// renames it: it is there completely or not at all.
func (s *Shelf) writeFile(name string, b []byte) error {
	return s.withRoom(func() error { return s.tryFile(name, b) })
}

func (s *Shelf) tryFile(name string, b []byte) error {
	temp := tempName("")
	w, err := s.b.Create(temp)
	if err != nil {
		return err
	}
	_, err = w.Write(b)
	if err = errors.Join(err, w.Sync(), w.Close()); err == nil {
		err = s.b.Rename(temp, name)
	}
	if err != nil {
		_ = s.b.Remove(temp)
	}
	return err
}

// newID is a random name of 16 hex digits.
func newID() string {
	var b [packIDLen]byte
	_, _ = rand.Read(b[:])
	return hex.EncodeToString(b[:])
}

// pack gives an open pack; a few are kept open.
func (s *Shelf) pack(id string) (Reader, error) {
	s.filesMu.Lock()
	defer s.filesMu.Unlock()
	if r, ok := s.files[id]; ok {
		return r, nil
	}
	r, err := s.b.Open(packPath(id))
	if err != nil {
		return nil, err
	}
	// Readers in use elsewhere keep working: the file is closed by the runtime
	// once nobody refers to it.
	if len(s.order) >= openPacks {
		delete(s.files, s.order[0])
		s.order = s.order[1:]
	}
	s.files[id] = r
	s.order = append(s.order, id)
	return r, nil
}

// ErrMissing means that no pack holds a block that a twin refers to.
var ErrMissing = errors.New("a block is missing from the shelf")

// Concerns are what makes the folder of the shelf less private than it should be, in words.
func (s *Shelf) Concerns() []string {
	f, ok := s.b.(folder)
	if !ok {
		return nil
	}
	var out []string
	var st unix.Stat_t
	if unix.Stat(f.root, &st) != nil {
		return nil
	}
	if uid := os.Geteuid(); uid != 0 && int(st.Uid) != uid {
		out = append(out, fmt.Sprintf("the folder %s belongs to user %d, not to you: they can change or remove it", f.root, st.Uid))
	}
	if st.Mode&0o022 != 0 {
		out = append(out, fmt.Sprintf("others can write to the folder %s: \"chmod 700\" keeps it yours", f.root))
	} else if st.Mode&0o055 != 0 && !s.Sealed() {
		out = append(out, fmt.Sprintf("others can read the folder %s, and the shelf is open: \"chmod 700\" keeps it yours", f.root))
	}
	return out
}

// NameOf is the name, in hexadecimal digits, that the shelf gives a block with these bytes.
func (s *Shelf) NameOf(plain []byte) string { return s.ring.nameOf(plain).String() }

// Block reads a block, checks that it hashes to its name, and appends its plain bytes to
// dst[:0]. Errors are *Hurt or ErrMissing, or the medium's. Where the index has changed
// meanwhile it is loaded again.
func (s *Shelf) Block(n Name, dst []byte) ([]byte, error) {
	b, err := s.block(n, dst)
	if (errors.Is(err, ErrMissing) || errors.Is(err, fs.ErrNotExist)) && s.refresh() == nil {
		b, err = s.block(n, dst)
	}
	return b, err
}

// block tries every place that the index knows: an older index file may name a pack that is gone.
func (s *Shelf) block(n Name, dst []byte) ([]byte, error) {
	places, err := s.places(n)
	if len(places) == 0 {
		return nil, errors.Join(fmt.Errorf("%w: %s", ErrMissing, n), err)
	}
	for _, at := range places {
		var b []byte
		var r Reader
		if r, err = s.pack(at.pack); err != nil {
			err = fmt.Errorf("%s can't be opened: %w", packPath(at.pack), err)
		} else if b, err = s.readBlock(packPath(at.pack), r, at, n, dst); err == nil {
			return b, nil
		}
	}
	return nil, err
}

func (s *Shelf) readBlock(file string, r Reader, at place, n Name, dst []byte) ([]byte, error) {
	if at.stored > 2*maxBlock {
		return nil, &Hurt{file, at.offset, "a block of impossible size"}
	}
	buf := getBuffer(entryLen + int(at.stored) + tagRoom)
	defer putBuffer(buf)
	b := buf.b[:entryLen+int(at.stored)]
	if k, err := r.ReadAt(b, at.offset); k < len(b) {
		return nil, &Hurt{file, at.offset, fmt.Sprintf("a block can't be read (%v)", err)}
	}
	e, err := decodeEntry(file, at.offset, b)
	if err != nil {
		return nil, err
	}
	if e.name != n || e.stored != at.stored || int(e.plain) > s.head.BlockSize {
		return nil, &Hurt{file, at.offset, "another block stands where the index says this one is"}
	}
	if !s.ring.unseal(e.nonce, e.tag, b[entryLen:], b[:entryBound]) {
		return nil, &Hurt{file, at.offset, "a block isn't what this shelf sealed"}
	}
	if dst, err = s.unsqueeze(e.codec, b[entryLen:], dst, int(e.plain)); errors.Is(err, ErrNewer) {
		return nil, fmt.Errorf("%s: a block is packed by %w", file, err)
	} else if err != nil {
		return nil, &Hurt{file, at.offset, "a block can't be decompressed (" + err.Error() + ")"}
	}
	if len(dst) != int(e.plain) || s.ring.nameOf(dst) != n {
		return nil, &Hurt{file, at.offset, "a block's bytes don't hash to its name"}
	}
	return dst, nil
}

// buffers are reused between blocks.
type buffer struct{ b []byte }

var bufferPool = sync.Pool{New: func() any { return &buffer{make([]byte, 0, s2.MaxEncodedLen(DefaultBlock)+entryLen+tagRoom)} }}

func getBuffer(n int) *buffer {
	p := bufferPool.Get().(*buffer)
	if cap(p.b) < n {
		p.b = make([]byte, n)
	}
	p.b = p.b[:n]
	return p
}

func putBuffer(p *buffer) { bufferPool.Put(p) }

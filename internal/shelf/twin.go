package shelf

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// Twin is one dated capture of one machine: all chosen disks as they were.
type Twin struct {
	ID      string     `json:"id"`
	Machine string     `json:"machine"`
	Taken   time.Time  `json:"taken"` // local, with its zone
	Tool    string     `json:"tool"`
	Note    string     `json:"note,omitempty"`
	Disks   []TwinDisk `json:"disks"`
	Used    int64      `json:"used"`  // bytes read
	Added   int64      `json:"added"` // bytes it brought to the shelf
	// Seconds is how long the capture took.
	Seconds float64 `json:"seconds"`
	// MapsSum is the hash of the nodes' names as they stand behind the description, MapsTag what
	// authenticates them in a sealed shelf.
	MapsSum string `json:"maps_sum,omitempty"`
	MapsTag string `json:"maps_tag,omitempty"`
}

// TwinDisk is one disk of a twin.
type TwinDisk struct {
	Identity disk.Identity `json:"identity"`
	Table    *table.Table  `json:"table"`
	Regions  []Region      `json:"regions"` // ascending, covering the disk
	Used     int64         `json:"used"`    // bytes read
	// Missing are the spans of the disk that could not be read, in bytes
	// from its start. They read as zeros.
	Missing span.Set `json:"missing"`
}

// Region is a part of a disk or the area between parts. Its blocks begin at its start.
type Region struct {
	Part     int       `json:"part"` // number in the table; 0 between parts
	Span     span.Span `json:"span"` // bytes on the disk
	Type     string    `json:"type,omitempty"`
	Name     string    `json:"name,omitempty"`
	Role     string    `json:"role,omitempty"`
	Kind     string    `json:"kind,omitempty"` // file system
	Label    string    `json:"label,omitempty"`
	ID       string    `json:"id,omitempty"`
	Unclean  string    `json:"unclean,omitempty"` // why it wasn't quiet
	Whole    string    `json:"whole,omitempty"`   // why all of it was read
	Captured bool      `json:"captured"`
	// Accounted says that the maps by which it was read were compared with everything that its records name.
	Accounted bool     `json:"accounted,omitempty"`
	Omitted   []string `json:"omitted,omitempty"` // left out, in words
	Used      int64    `json:"used"`              // bytes read
	Added     int64    `json:"added"`             // bytes its blocks brought to the shelf
	// Trusted are the bytes that weren't read again, because the file system's own records prove that they are
	// what they were in the twin before.
	Trusted int64 `json:"trusted,omitempty"`
	// Fresh are the plain bytes of blocks that were new to the shelf, and Dense those of them that
	// couldn't be packed.
	Fresh int64 `json:"fresh,omitempty"`
	Dense int64 `json:"dense,omitempty"`
	// Nodes are the names of the block map's nodes, one for every NodeBlocks
	// blocks; "" for a node without any block that matters. A twin that was listed comes without
	// them, see Shelf.Whole; NodeCount is how many there are.
	Nodes     []string `json:"-"`
	NodeCount int      `json:"nodes,omitempty"`
}

// Quiet says whether every captured part was at rest.
func (t *Twin) Quiet() bool {
	return !slices.ContainsFunc(t.Disks, func(d TwinDisk) bool {
		return slices.ContainsFunc(d.Regions, func(r Region) bool { return r.Captured && r.Unclean != "" })
	})
}

// Missing is the number of bytes that could not be read.
func (t *Twin) Missing() int64 {
	n := int64(0)
	for _, d := range t.Disks {
		n += d.Missing.Total()
	}
	return n
}

// Parts are the regions that are parts.
func (d *TwinDisk) Parts() []Region {
	return slices.DeleteFunc(slices.Clone(d.Regions), func(r Region) bool { return r.Part == 0 })
}

// Title names a part for people: its label, or what it is.
func (r Region) Title() string {
	switch {
	case r.Part == 0:
		return "between the parts"
	case r.Label != "":
		return r.Label
	case r.Name != "":
		return r.Name
	case r.Kind != "":
		return r.Kind
	}
	return table.TypeName(r.Type)
}

// Shrinks says why a part hardly shrinks; empty when it does, or when little of it was new.
func (r Region) Shrinks() string {
	const worth = 16 * units.MiB
	if r.Fresh < worth || r.Added < r.Fresh*9/10 {
		return ""
	}
	return fmt.Sprintf("hardly shrinks: already compressed or encrypted, %s of the data", units.Percent(r.Dense, r.Fresh))
}

// NewTwinID makes the ID of a twin taken at t: it sorts by date.
func NewTwinID(t time.Time) string { return t.UTC().Format("20060102T150405Z") + "-" + newID()[:6] }

// slug makes a folder name of a machine's name; in a sealed shelf it tells nothing.
func (k *keyring) slug(machine string) string {
	if k.sealed() {
		n := keyed(k.hidden, []byte(machine))
		return hex.EncodeToString(n[:10])
	}
	var b strings.Builder
	for _, r := range strings.ToLower(machine) {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			b.WriteRune(r)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
	}
	s := strings.TrimSuffix(b.String(), "-")
	n := checksum([]byte(machine))
	return fmt.Sprintf("%.40s-%x", s, n[:3])
}

func (s *Shelf) twinPath(machine, id string) string {
	return "twins/" + s.ring.slug(machine) + "/" + id + ".twin"
}

func validID(id string) bool {
	return id != "" && !strings.ContainsFunc(id, func(r rune) bool {
		return !(r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r == '-')
	})
}

func (s *Shelf) writeTwin(t *Twin) error {
	if !validID(t.ID) || t.Machine == "" || len(t.Disks) == 0 {
		return fmt.Errorf("the twin %q of machine %q with %d disks is not complete", t.ID, t.Machine, len(t.Disks))
	}
	b, err := s.ring.encodeTwin(t)
	if err != nil {
		return err
	}
	if len(b) > maxTwinFile {
		return fmt.Errorf("the description of the twin would have %d bytes, the limit is %d; make a shelf with larger blocks", len(b), maxTwinFile)
	}
	return s.writeKept(s.twinPath(t.Machine, t.ID), b)
}

// encodeTwin frames a twin: the description, and behind it the names of its nodes, so that
// listing needn't read those.
func (k *keyring) encodeTwin(t *Twin) ([]byte, error) {
	var maps []byte
	for i := range t.Disks {
		for j := range t.Disks[i].Regions {
			r := &t.Disks[i].Regions[j]
			r.NodeCount = len(r.Nodes)
			for _, text := range r.Nodes {
				var n Name
				if text != "" {
					var err error
					if n, err = ParseName(text); err != nil {
						return nil, err
					}
				}
				maps = append(maps, n[:]...)
			}
		}
	}
	nonce := k.freshNonce()
	t.MapsTag = ""
	if k.sealed() {
		var tag [tagRoom]byte
		k.sealWith(numbered(nonce, 0), maps, nil, &tag)
		t.MapsTag = hex.EncodeToString(tag[:])
	}
	t.MapsSum = checksum(maps).String()
	p, err := json.Marshal(t)
	if err != nil {
		return nil, err
	}
	h := header{kind: kindTwin, suite: k.suite(), length: int64(len(p) + len(maps)), nonce: nonce, dir: int64(len(p))}
	if k.sealed() {
		k.sealWith(nonce, p, h.bound(), &h.tag)
	}
	h.sum = checksum(p)
	return slices.Concat(h.encode(), p, maps), nil
}

// Twins lists all twins by machine, newest first within a machine. A twin file that
// can't be read is reported in problems and hides no other.
func (s *Shelf) Twins() (twins []*Twin, problems []error) {
	files, problems := s.twinFiles()
	read := make([]struct {
		twin *Twin
		err  error
	}, len(files))
	var next atomic.Int64
	var wg sync.WaitGroup
	for range min(twinReaders, len(files)) {
		wg.Go(func() {
			for i := next.Add(1) - 1; i < int64(len(files)); i = next.Add(1) - 1 {
				read[i].twin, read[i].err = s.readTwin(files[i])
			}
		})
	}
	wg.Wait()
	for _, r := range read {
		if r.err != nil {
			problems = append(problems, r.err)
		} else {
			twins = append(twins, r.twin)
		}
	}
	slices.SortStableFunc(twins, func(a, b *Twin) int {
		if c := strings.Compare(strings.ToLower(a.Machine), strings.ToLower(b.Machine)); c != 0 {
			return c
		}
		return b.Taken.Compare(a.Taken)
	})
	return twins, problems
}

// twinReaders is how many twins are read at once.
const twinReaders = 4

// twinFiles are the files of all twins, by the folders of their machines, oldest first.
func (s *Shelf) twinFiles() (files []string, problems []error) {
	machines, err := s.b.List("twins")
	if err != nil {
		return nil, []error{fmt.Errorf("the twins can't be listed: %w", err)}
	}
	for _, m := range machines {
		names, err := s.b.List("twins/" + m)
		if err != nil {
			problems = append(problems, err)
		}
		for _, n := range names {
			files = append(files, "twins/"+m+"/"+n)
		}
	}
	return files, problems
}

// TwinIDs are the IDs of all twins, newest first, by the names of their files: nothing is read.
func (s *Shelf) TwinIDs() []string {
	files, _ := s.twinFiles()
	var ids []string
	for _, f := range files {
		if id, ok := strings.CutSuffix(f[strings.LastIndexByte(f, '/')+1:], ".twin"); ok && validID(id) {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	slices.Reverse(ids)
	return ids
}

// readTwin reads a twin's description, without its nodes.
func (s *Shelf) readTwin(file string) (*Twin, error) {
	t, _, _, err := s.openTwin(file, false)
	return t, err
}

const firstRead = 16 << 10

// openTwin reads a twin, and the bytes of its nodes' names when they are wanted; from the copy where the file is hurt.
func (s *Shelf) openTwin(file string, maps bool) (t *Twin, h header, names []byte, err error) {
	t, h, names, err = s.openTwinAt(file, file, maps)
	if err == nil || errors.Is(err, ErrNewer) {
		return t, h, names, err
	}
	if ct, ch, cn, cerr := s.openTwinAt(copyOf(file), file, maps); cerr == nil {
		return ct, ch, cn, nil
	}
	return t, h, names, err
}

// openTwinAt reads the twin of a file at the place of that or of its copy.
func (s *Shelf) openTwinAt(at, file string, maps bool) (t *Twin, h header, names []byte, err error) {
	r, err := s.b.Open(at)
	if err != nil {
		return nil, h, nil, fmt.Errorf("%s can't be read: %w", file, err)
	}
	defer r.Close()
	b := make([]byte, min(r.Size(), firstRead))
	if n, _ := r.ReadAt(b, 0); n < len(b) {
		return nil, h, nil, &Hurt{file, 0, "it can't be read"}
	}
	if h, err = decodeHeader(file, b, kindTwin); err != nil {
		return nil, h, nil, err
	}
	if err := s.ring.fits(file, h); err != nil {
		return nil, h, nil, err
	}
	if h.length != r.Size()-headerLen || h.dir > h.length || h.dir < 0 || h.length > maxTwinFile {
		return nil, h, nil, &Hurt{file, headerLen, fmt.Sprintf("it has %d bytes and describes %d", r.Size(), h.length+headerLen)}
	}
	p := make([]byte, h.dir, h.dir+tagRoom)
	if n := copy(p, b[headerLen:]); n < len(p) {
		if k, _ := r.ReadAt(p[n:], headerLen+int64(n)); k < len(p)-n {
			return nil, h, nil, &Hurt{file, headerLen, "its description can't be read"}
		}
	}
	if checksum(p) != h.sum {
		return nil, h, nil, &Hurt{file, headerLen, "its checksum is wrong"}
	}
	if !s.ring.unseal(h.nonce, h.tag, p, h.bound()) {
		return nil, h, nil, &Hurt{file, headerLen, "it isn't what this shelf sealed"}
	}
	t = new(Twin)
	if err := json.Unmarshal(units.VisibleJSON(p), t); err != nil {
		return nil, h, nil, &Hurt{file, headerLen, "it can't be understood: " + err.Error()}
	}
	if name := file[strings.LastIndexByte(file, '/')+1:]; name != t.ID+".twin" {
		return nil, h, nil, &Hurt{file, headerLen, "it describes another twin than its name says"}
	}
	if err := t.check(file, h.length-h.dir); err != nil || !maps {
		return t, h, nil, err
	}
	names = make([]byte, h.length-h.dir, h.length-h.dir+tagRoom)
	from := headerLen + h.dir
	if n, _ := r.ReadAt(names, from); n < len(names) || checksum(names).String() != t.MapsSum {
		return t, h, nil, &Hurt{file, from, "the names of its block map aren't what was written"}
	}
	if s.ring.sealed() {
		tag, err := hex.DecodeString(t.MapsTag)
		if err != nil || len(tag) != tagRoom || !s.ring.unseal(numbered(h.nonce, 0), [tagRoom]byte(tag), names, nil) {
			return t, h, nil, &Hurt{file, from, "the names of its block map aren't what this shelf sealed"}
		}
	}
	return t, h, names, nil
}

// Whole gives a twin with the names of its nodes; the twin itself stays as it is.
func (s *Shelf) Whole(t *Twin) (*Twin, error) {
	if t.loaded() {
		return t, nil
	}
	w, _, names, err := s.openTwin(s.twinPath(t.Machine, t.ID), true)
	if err != nil {
		return nil, err
	}
	for i := range w.Disks {
		for j := range w.Disks[i].Regions {
			r := &w.Disks[i].Regions[j]
			r.Nodes = make([]string, r.NodeCount)
			for k := range r.Nodes {
				if n := Name(names[:32]); n != (Name{}) {
					r.Nodes[k] = n.String()
				}
				names = names[32:]
			}
		}
	}
	return w, nil
}

// loaded says whether the twin carries its nodes, or has none.
func (t *Twin) loaded() bool {
	for i := range t.Disks {
		for j := range t.Disks[i].Regions {
			if r := &t.Disks[i].Regions[j]; len(r.Nodes) != r.NodeCount {
				return false
			}
		}
	}
	return true
}

// check refuses a description that no capture could have made.
func (t *Twin) check(file string, maps int64) error {
	if !validID(t.ID) || len(t.Disks) == 0 || len(t.Disks) > 64 {
		return &Hurt{file, headerLen, "it describes no twin"}
	}
	for i, d := range t.Disks {
		at := int64(0)
		for _, r := range d.Regions {
			if r.Span.Start != at || r.Span.Empty() {
				return &Hurt{file, headerLen, fmt.Sprintf("the regions of disk %d leave a gap at byte %d", i+1, at)}
			}
			at = r.Span.End
			if r.NodeCount < 0 || int64(r.NodeCount) > r.Span.Len()/(minBlock*NodeBlocks)+1 {
				return &Hurt{file, headerLen, fmt.Sprintf("disk %d has a block map of %d nodes", i+1, r.NodeCount)}
			}
			maps -= 32 * int64(r.NodeCount)
		}
		if at != d.Identity.Size || d.Identity.Sector != 512 && d.Identity.Sector != 4096 {
			return &Hurt{file, headerLen, fmt.Sprintf("disk %d has %d bytes and is described to byte %d", i+1, d.Identity.Size, at)}
		}
		if d.Table == nil {
			return &Hurt{file, headerLen, fmt.Sprintf("disk %d comes without its table", i+1)}
		}
	}
	if maps != 0 {
		return &Hurt{file, headerLen, "its block maps don't fit its description"}
	}
	return nil
}

// ErrNoTwin means that no twin, or more than one, answers to a name.
var ErrNoTwin = errors.New("no such twin")

// Proof is the evidence that a twin is readable or that a target holds what it should.
type Proof struct {
	Twin   string    `json:"twin"`
	When   time.Time `json:"when"`
	Of     string    `json:"of"` // "the shelf", or the target in words
	Tool   string    `json:"tool"`
	Claims []Claim   `json:"claims"`
	Read   int64     `json:"read"` // bytes
}

// OnShelf is what a proof is of that read the twin itself.
const OnShelf = "the shelf"

// OfShelf says whether the proof is of the twin as it stands on the shelf, and not of a target.
func (p *Proof) OfShelf() bool { return p.Of == OnShelf || p.Of == "" }

// ShelfProofs are those proofs of a twin that are of the twin itself: one of a target says nothing about it.
func ShelfProofs(all []*Proof) []*Proof {
	return slices.DeleteFunc(slices.Clone(all), func(p *Proof) bool { return !p.OfShelf() })
}

// TargetProofs are the others.
func TargetProofs(all []*Proof) []*Proof {
	return slices.DeleteFunc(slices.Clone(all), (*Proof).OfShelf)
}

// Claim is one statement with its evidence.
type Claim struct {
	About    string `json:"about"`
	Says     string `json:"says"`
	Evidence string `json:"evidence"`
	Holds    bool   `json:"holds"`
}

// Holds says whether every claim holds.
func (p *Proof) Holds() bool {
	return len(p.Claims) > 0 && !slices.ContainsFunc(p.Claims, func(c Claim) bool { return !c.Holds })
}

// oldProof is after which time a proof says little about its twin as it stands now.
const oldProof = 182 * 24 * time.Hour

// Old says whether the proof was made so long ago that the twin should be read again.
func (p *Proof) Old(now time.Time) bool { return now.Sub(p.When) > oldProof }

// Words says the result in a short sentence.
func (p *Proof) Words() string {
	failed := 0
	for _, c := range p.Claims {
		if !c.Holds {
			failed++
		}
	}
	if failed > 0 {
		return fmt.Sprintf("%d of %d claims fail", failed, len(p.Claims))
	}
	return fmt.Sprintf("all %d claims hold", len(p.Claims))
}

// SaveProof keeps a proof with its twin.
func (s *Shelf) SaveProof(p *Proof) error {
	if !validID(p.Twin) {
		return fmt.Errorf("a proof of twin %q can't be kept", p.Twin)
	}
	b, err := json.Marshal(p)
	if err != nil {
		return err
	}
	name := fmt.Sprintf("proofs/%s/%s-%s.proof", p.Twin, p.When.UTC().Format("20060102T150405Z"), newID()[:6])
	if err := s.writeFile(name, s.ring.document(kindProof, b)); err != nil {
		return fmt.Errorf("the proof can't be kept in the shelf: %w", err)
	}
	return nil
}

// Proofs gives the proofs of a twin, newest first. Damaged ones are left out
// and reported.
func (s *Shelf) Proofs(twin string) (proofs []*Proof, problems []error) {
	if !validID(twin) {
		return nil, []error{fmt.Errorf("%w: %q", ErrNoTwin, twin)}
	}
	files, err := s.b.List("proofs/" + twin)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, []error{err}
	}
	for _, f := range slices.Backward(files) {
		file := "proofs/" + twin + "/" + f
		raw, err := s.b.ReadFile(file, maxProof)
		var b []byte
		if err == nil {
			b, err = s.ring.payload(file, raw, kindProof)
		}
		p := new(Proof)
		if err == nil {
			err = json.Unmarshal(units.VisibleJSON(b), p)
		}
		if err == nil && p.Twin != twin {
			err = &Hurt{file, headerLen, "it is the proof of another twin"}
		}
		if err != nil {
			problems = append(problems, err)
			continue
		}
		proofs = append(proofs, p)
	}
	return proofs, problems
}

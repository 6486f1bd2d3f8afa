package shelf

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"twinshelf/internal/store"
	"twinshelf/internal/store/backend"
)

// maxTwinFile is how large a twin's file may be, in bytes.
const maxTwinFile = 64 << 20

// maxDisks is how many disks a twin may have.
const maxDisks = 64

// slug makes a folder name of a machine's name; in a sealed shelf it tells nothing.
func (s *Shelf) slug(machine string) string {
	if hidden, sealed := s.Hide(machine); sealed {
		return hidden
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
	n := store.Checksum([]byte(machine))
	return fmt.Sprintf("%.40s-%x", strings.TrimSuffix(b.String(), "-"), n[:3])
}

func (s *Shelf) twinPath(machine, id string) string {
	return "twins/" + s.slug(machine) + "/" + id + ".twin"
}

func validID(id string) bool {
	return id != "" && !strings.ContainsFunc(id, func(r rune) bool {
		return !(r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r == '-')
	})
}

// writeTwin lets a twin appear, while a lock is held.
func (s *Shelf) writeTwin(ctx context.Context, l *store.Lock, t *Twin) error {
	if !validID(t.ID) || t.Machine == "" || len(t.Disks) == 0 {
		return fmt.Errorf("the twin %q of machine %q with %d disks is not complete", t.ID, t.Machine, len(t.Disks))
	}
	b, err := s.encodeTwin(t)
	if err != nil {
		return err
	}
	if len(b) > maxTwinFile {
		return fmt.Errorf("the description of the twin would have %d bytes, the limit is %d; make a shelf with larger "+
			"blocks", len(b), maxTwinFile)
	}
	return s.PutKept(ctx, l, s.twinPath(t.Machine, t.ID), b)
}

// encodeTwin frames a twin: the description, and after it the names of its nodes, so that listing needn't read those.
func (s *Shelf) encodeTwin(t *Twin) ([]byte, error) {
	var maps []byte
	for i := range t.Disks {
		for j := range t.Disks[i].Regions {
			r := &t.Disks[i].Regions[j]
			r.NodeCount = len(r.Nodes)
			names, err := r.nodeNames()
			if err != nil {
				return nil, err
			}
			maps = append(maps, names...)
		}
	}
	return s.EncodeSplit(store.KindTwin, maps, func(proof store.TailProof) ([]byte, error) {
		t.MapsSum, t.MapsTag = proof.Sum, proof.Tag
		return json.Marshal(t)
	})
}

// nodeNames are the names of a region's nodes, one after the other; zeros for a node in which nothing matters.
func (r *Region) nodeNames() ([]byte, error) {
	var out []byte
	for _, text := range r.Nodes {
		var n store.Name
		if text != "" {
			var err error
			if n, err = store.ParseName(text); err != nil {
				return nil, err
			}
		}
		out = append(out, n[:]...)
	}
	return out, nil
}

// Twins lists all twins by machine, newest first within a machine. A twin file that
// can't be read is reported in problems and hides no other.
func (s *Shelf) Twins(ctx context.Context) (twins []*Twin, problems []error) {
	files, problems := s.TwinFiles(ctx)
	read := make([]struct {
		twin *Twin
		err  error
	}, len(files))
	backend.Each(s.Backend(), len(files), func(i int) { read[i].twin, read[i].err = s.readTwin(ctx, files[i]) })
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

// TwinFiles are the files of all twins, by the folders of their machines, oldest first.
func (s *Shelf) TwinFiles(ctx context.Context) (files []string, problems []error) {
	machines, err := s.Backend().List(ctx, "twins")
	if err != nil {
		return nil, []error{fmt.Errorf("the twins can't be listed: %w", err)}
	}
	names, errs := make([][]string, len(machines)), make([]error, len(machines))
	backend.Each(s.Backend(), len(machines), func(i int) {
		names[i], errs[i] = s.Backend().List(ctx,
			"twins/"+machines[i])
	})
	for i, m := range machines {
		if errs[i] != nil {
			problems = append(problems, errs[i])
		}
		for _, n := range names[i] {
			files = append(files, "twins/"+m+"/"+n)
		}
	}
	return files, problems
}

// TwinIDs are the IDs of all twins, newest first, by the names of their files: nothing is read. The error is that of a
// folder that can't be listed.
func (s *Shelf) TwinIDs(ctx context.Context) ([]string, error) {
	files, problems := s.TwinFiles(ctx)
	if len(problems) > 0 {
		return nil, problems[0]
	}
	var ids []string
	for _, f := range files {
		if id, ok := strings.CutSuffix(f[strings.LastIndexByte(f, '/')+1:], ".twin"); ok && validID(id) {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	slices.Reverse(ids)
	return ids, nil
}

// readTwin reads a twin's description, without its nodes.
func (s *Shelf) readTwin(ctx context.Context, file string) (*Twin, error) {
	t, _, err := s.openTwin(ctx, file, false)
	return t, err
}

// ReadTwinAt reads the twin of a file at its place, or at that of its copy, without its nodes.
func (s *Shelf) ReadTwinAt(ctx context.Context, at, file string) (*Twin, error) {
	t, _, err := s.openTwinAt(ctx, at, file, false)
	return t, err
}

// ReadTwinFile gives a twin's file as it stands at its place, or at that of its copy, once all of it has been checked.
func (s *Shelf) ReadTwinFile(ctx context.Context, at, file string) ([]byte, error) {
	if _, _, err := s.openTwinAt(ctx, at, file, true); err != nil {
		return nil, err
	}
	return backend.Get(ctx, s.Backend(), at, maxTwinFile+store.HeaderLen)
}

// openTwin reads a twin, and the bytes of its nodes' names when they are wanted; from the copy where the file is hurt.
func (s *Shelf) openTwin(ctx context.Context, file string, maps bool) (t *Twin, names []byte, err error) {
	t, names, err = s.openTwinAt(ctx, file, file, maps)
	if err == nil || errors.Is(err, store.ErrNewer) || ctx.Err() != nil {
		return t, names, err
	}
	if ct, cn, cerr := s.openTwinAt(ctx, store.CopyOf(file), file, maps); cerr == nil {
		return ct, cn, nil
	}
	return t, names, err
}

func (s *Shelf) openTwinAt(ctx context.Context, at, file string, maps bool) (*Twin, []byte, error) {
	d, err := s.OpenSplit(ctx, at, file, store.KindTwin, maxTwinFile)
	if err != nil {
		return nil, nil, err
	}
	defer d.Close()
	t, err := s.described.twin(d.Description)
	if err != nil {
		return nil, nil, d.Hurt("it can't be understood: " + err.Error())
	}
	if name := file[strings.LastIndexByte(file, '/')+1:]; name != t.ID+".twin" {
		return nil, nil, d.Hurt("it describes another twin than its name says")
	}
	if what := t.impossible(d.TailLen); what != "" {
		return t, nil, d.Hurt(what)
	}
	if !maps {
		return t, nil, nil
	}
	names, err := d.Tail(ctx, store.TailProof{Sum: t.MapsSum, Tag: t.MapsTag})
	return t, names, err
}

// Whole gives a twin with the names of its nodes; the twin itself stays as it is.
func (s *Shelf) Whole(ctx context.Context, t *Twin) (*Twin, error) {
	if t.loaded() {
		return t, nil
	}
	w, names, err := s.openTwin(ctx, s.twinPath(t.Machine, t.ID), true)
	if err != nil {
		return nil, err
	}
	for i := range w.Disks {
		for j := range w.Disks[i].Regions {
			r := &w.Disks[i].Regions[j]
			r.Nodes = make([]string, r.NodeCount)
			for k := range r.Nodes {
				if n := store.Name(names[:32]); n != (store.Name{}) {
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

// impossible says why no capture could have made a description, in words; maps is how many bytes of names of nodes
// lie after it.
func (t *Twin) impossible(maps int64) string {
	if !validID(t.ID) || len(t.Disks) == 0 || len(t.Disks) > maxDisks {
		return "it describes no twin"
	}
	for i, d := range t.Disks {
		nodes, what := d.impossible()
		if what != "" {
			return fmt.Sprintf("disk %d %s", i+1, what)
		}
		maps -= 32 * nodes
	}
	if maps != 0 {
		return "its block maps don't fit its description"
	}
	return ""
}

// impossible is that of a disk; nodes is how many its block maps have.
func (d *TwinDisk) impossible() (nodes int64, what string) {
	at := int64(0)
	for _, r := range d.Regions {
		if r.Span.Start != at || r.Span.Empty() {
			return 0, fmt.Sprintf("has a gap between its regions at byte %d", at)
		}
		at = r.Span.End
		if r.NodeCount < 0 || int64(r.NodeCount) > r.Span.Len()/(store.MinBlock*NodeBlocks)+1 {
			return 0, fmt.Sprintf("has a block map of %d nodes", r.NodeCount)
		}
		nodes += int64(r.NodeCount)
	}
	if at != d.Identity.Size || d.Identity.Sector != 512 && d.Identity.Sector != 4096 {
		return 0, fmt.Sprintf("has %d bytes and is described to byte %d", d.Identity.Size, at)
	}
	if d.Table == nil {
		return 0, "comes without its table"
	}
	return nodes, ""
}

// ErrNoTwin means that no twin, or more than one, answers to a name.
var ErrNoTwin = errors.New("no such twin")

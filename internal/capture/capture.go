package capture

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"iter"
	"runtime"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/keeping"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
	"twinshelf/internal/survey"
	"twinshelf/internal/units"
)

// Run carries the plan out and returns the twin. A twin with unreadable places
// is a twin: look at Missing. When Run fails or is cancelled the shelf is as it
// was before.
func (p *Plan) Run(rc *run.Context) (*shelf.Twin, error) {
	t, err := p.run(rc)
	if errors.Is(err, errUntrusted) {
		rc.Note("%v: everything is read", err)
		again := *p
		again.Trust = TrustNone
		return again.run(rc)
	}
	return t, err
}

func (p *Plan) run(rc *run.Context) (*shelf.Twin, error) {
	if err := p.Check(rc); err != nil {
		return nil, err
	}
	session, err := p.Shelf.Begin(rc, p.Machine)
	if err != nil {
		return nil, err
	}
	defer rc.Watch(p.hanging)()
	start := time.Now()
	if p.Now.IsZero() {
		p.Now = start
	}
	t := &shelf.Twin{ID: shelf.NewTwinID(p.Now), Machine: p.Machine, Note: p.Note, Tool: p.Tool, Taken: p.Now}
	e, _ := p.Estimate(rc)
	w := newWork(rc, session, p.Shelf.Head().BlockSize, newPacing(p.Packing))
	w.glimpses = p.Glimpses
	rc.Phase(phaseRead, e.Keep)
	t.Disks = make([]shelf.TwinDisk, len(p.Sources)) // postponed blocks point into it
	for i := range p.Sources {
		if err := w.disk(p, &p.Sources[i], &t.Disks[i]); err != nil {
			w.fail(err)
			break
		}
	}
	if err := w.end(); err != nil {
		session.Abort(rc)
		if errors.Is(err, syscall.ENOSPC) {
			err = p.full(rc, w, e, err)
		}
		return nil, err
	}
	for i := range t.Disks {
		w.sums(&t.Disks[i])
		t.Used += t.Disks[i].Used
		for _, r := range t.Disks[i].Regions {
			t.Added += r.Added
		}
	}
	t.Seconds, t.Packing = time.Since(start).Seconds(), w.pacing.done()
	if p.Names != nil {
		if l := p.Names(rc, t, session); l != nil {
			session.Attach(l)
		}
	}
	rc.Phase(phaseKeep, 0)
	if err := session.Commit(rc, t); err != nil {
		return nil, err
	}
	p.NamesKept = session.Listed()
	return t, nil
}

// longRead is how long a read may take before the person hears of it.
const longRead = 15 * time.Second

// hanging says that a drive hangs; empty while all answer.
func (p *Plan) hanging() string {
	for _, s := range p.Sources {
		if d, ok := s.Survey.Device.(interface{ Stuck() time.Duration }); ok && d.Stuck() > longRead {
			return disk.Sticker(s.Survey.Device.Identity()) +
				" doesn't answer: a read hangs; a rescue gives such a drive rest"
		}
	}
	return ""
}

// full says what to do when the shelf's drive filled up.
func (p *Plan) full(ctx context.Context, w *work, e Estimate, cause error) error {
	var used, added int64
	for _, r := range w.regions {
		used += r.out.Used
		added += r.added.Load()
	}
	missing := int64(0)
	if used > 0 {
		missing = int64(float64(max(0, e.Keep-used)) * float64(added) / float64(used))
	}
	text := fmt.Sprintf("about %s are missing", units.Bytes(missing))
	if v, err := keeping.PreviewThinning(ctx, p.Shelf, "", time.Now()); err == nil && v.Goes > 0 {
		text += fmt.Sprintf("; thinning by the rule (%s) and giving back space would bring %s",
			units.Plural(v.Goes, "twin"), units.Bytes(v.Back))
	} else if f, err := keeping.Foreknow(ctx, p.Shelf); err == nil && f.Bytes > 0 {
		text += fmt.Sprintf("; giving back space would bring %s", units.Bytes(f.Bytes))
	}
	return fmt.Errorf("%w on the shelf: %s. What was stored so far is kept: make room, capture again, and it goes "+
		"on from there (%w)", ErrNoRoom, text, cause)
}

// job is one block on its way from the disk to the shelf.
type job struct {
	buf  []byte // the block's plain bytes, zeros where nothing matters
	node *node
	slot int
}

// node collects the references of up to shelf.NodeBlocks blocks. When the
// last one is known it goes to the shelf itself.
type node struct {
	refs    []shelf.BlockRef
	pending atomic.Int32
	region  *region
	index   int
}

// region is an area of a disk while it is captured.
type region struct {
	area  survey.Area
	out   shelf.Region
	seen  span.Set // what was read of it before, in bytes of the area
	added atomic.Int64
	fresh atomic.Int64 // plain bytes of blocks that were new to the shelf
	raw   atomic.Int64 // those of them that couldn't be packed
	zeros atomic.Int64 // bytes of blocks that were read and hold nothing, where no maps tell what is used
	mu    sync.Mutex   // guards out.Nodes
}

// deferred is a block that couldn't be read at the first try.
type deferred struct {
	node  *node
	slot  int
	spans []span.Span // on the disk
	block span.Span   // on the disk
	dev   disk.Device
	out   *shelf.TwinDisk
}

// work is the pipeline: one reader, a few workers that hash, pack and store.
type work struct {
	rc      *run.Context
	session *shelf.Session
	block   int64
	zero    []byte
	free    chan []byte
	jobs    chan job
	wg      sync.WaitGroup
	failed  atomic.Pointer[error]
	pacing  *pacing

	glimpses *shelf.Glimpses

	regions []*region
	retry   []deferred
}

// waiting is how many blocks may wait for a worker.
const waiting = 24

func newWork(rc *run.Context, s *shelf.Session, blockSize int, pacing *pacing) *work {
	w := &work{rc: rc, session: s, block: int64(blockSize), zero: make([]byte, blockSize),
		jobs: make(chan job, waiting), pacing: pacing}
	workers := runtime.GOMAXPROCS(0)
	w.free = make(chan []byte, waiting+workers)
	for range cap(w.free) {
		w.free <- make([]byte, blockSize)
	}
	for range workers {
		w.wg.Go(w.store)
	}
	return w
}

func (w *work) fail(err error) { w.failed.CompareAndSwap(nil, &err) }

func (w *work) err() error {
	if e := w.failed.Load(); e != nil {
		return *e
	}
	return nil
}

// store is a worker.
func (w *work) store() {
	for j := range w.jobs {
		begun := time.Now()
		waited := time.Duration(0)
		if w.err() == nil {
			var err error
			if waited, err = w.put(j); err != nil {
				w.fail(err)
			}
		}
		w.pacing.took(waited, time.Since(begun)-waited)
		w.free <- j.buf[:cap(j.buf)]
		w.release(j.node)
	}
}

// put stores a block, and says for how long the shelf was waited for.
func (w *work) put(j job) (time.Duration, error) {
	ref := &j.node.refs[j.slot]
	if bytes.Equal(j.buf, w.zero[:len(j.buf)]) {
		if ref.Kind = disk.Zero; !j.node.region.area.Content.Maps {
			j.node.region.zeros.Add(int64(len(j.buf))) // nobody has said that they are in use
		}
		return 0, nil
	}
	e := w.pacing.next(float64(len(w.jobs)) / waiting)
	name, stored, err := w.session.PutBy(w.rc, j.buf, e)
	added := stored.Bytes
	ref.Kind, ref.Name = disk.Data, name
	if err == nil {
		w.glimpse(j, name)
	}
	j.node.region.added.Add(added)
	if added > 0 {
		j.node.region.fresh.Add(int64(len(j.buf)))
		w.pacing.did(e, len(j.buf))
		if added >= int64(len(j.buf)) { // it was stored as it is
			j.node.region.raw.Add(int64(len(j.buf)))
		}
	}
	return stored.Waited, err
}

// readAlong is how much is read along at the most after what is needed, in bytes.
const readAlong = 32 << 10

// glimpse keeps what of a block was read before, with the zeros that follow it and may be read along.
func (w *work) glimpse(j job, name store.Name) {
	at := (int64(j.node.index)*shelf.NodeBlocks + int64(j.slot)) * w.block
	for sp := range j.node.region.seen.Clip(span.At(at, int64(len(j.buf)))).All() {
		from, to := sp.Start-at, sp.End-at
		for most := min(int64(len(j.buf)), to+readAlong); to < most && j.buf[to] == 0; {
			to++
		}
		w.glimpses.Keep(name, from, j.buf[from:to])
	}
}

// release drops one hold on a node; the last one stores it.
func (w *work) release(n *node) {
	if n.pending.Add(-1) > 0 || w.err() != nil {
		return
	}
	matters := false
	for _, r := range n.refs {
		matters = matters || r.Kind != disk.Undefined
	}
	if !matters {
		return
	}
	encoded := shelf.EncodeNode(n.refs)
	name, added, err := w.session.Put(w.rc, encoded)
	if err != nil {
		w.fail(err)
		return
	}
	w.glimpses.Keep(name, 0, encoded)
	n.region.added.Add(added)
	n.region.mu.Lock()
	n.region.out.Nodes[n.index] = name.String()
	n.region.mu.Unlock()
}

// end waits for the workers.
func (w *work) end() error {
	if w.err() == nil && w.rc.Err() == nil {
		w.again()
	}
	for _, d := range w.retry { // only left when the work failed
		w.release(d.node)
	}
	close(w.jobs)
	w.wg.Wait()
	if err := w.rc.Err(); err != nil {
		return err
	}
	return w.err()
}

// disk captures one disk. What it returns is complete only after end.
func (w *work) disk(p *Plan, s *Source, out *shelf.TwinDisk) error {
	dev := s.Survey.Device
	*out = shelf.TwinDisk{Identity: dev.Identity(), Table: s.Survey.Table}
	out.Identity.Size, out.Identity.Sector = dev.Size(), dev.SectorSize()
	w.rc.Rails(dev.Size(), 0)
	w.rc.ExpectRead(s.toRead())
	out.Health = s.Health
	rd := &reader{work: w, dev: dev, out: out, flight: &flight{depth: newDepth(p.depth)}}
	defer rd.abandon()
	for _, a := range s.Survey.Areas {
		r := &region{area: a, out: describe(a)}
		if p.Glimpses != nil {
			r.seen = a.Touched()
		}
		w.regions = append(w.regions, r)
		if s.LeaveOut[a.Number()] && a.Part != nil {
			out.Regions = append(out.Regions, r.out)
			continue
		}
		r.out.Captured = true
		blocks := (a.Span.Len() + w.block - 1) / w.block
		r.out.Nodes = make([]string, (blocks+shelf.NodeBlocks-1)/shelf.NodeBlocks)
		r.out.NodeCount = len(r.out.Nodes)
		rd.earlier = p.earlier(w.rc, &a, dev.Identity(), w.block)
		err := rd.region(r)
		if rd.earlier != nil && r.out.Trusted > 0 {
			w.rc.Note("part %d: %s weren't read again, unchanged since %s by the file system's records; every "+
				"sample of them was right", r.area.Number(), units.Bytes(r.out.Trusted),
				rd.earlier.twin.Taken.Format("2006-01-02 15:04"))
		}
		out.Regions = append(out.Regions, r.out)
		if err != nil {
			return err
		}
	}
	return nil
}

// toRead are the stretches of the disk that are read. Where maps end in an error, the reading says so.
func (s *Source) toRead() iter.Seq[span.Span] {
	return func(yield func(span.Span) bool) {
		for i := range s.Survey.Areas {
			a := &s.Survey.Areas[i]
			if s.LeaveOut[a.Number()] && a.Part != nil {
				continue
			}
			for sp, err := range a.Content.Spans() {
				if err != nil {
					break
				}
				if !yield(sp.Shift(a.Span.Start)) {
					return
				}
			}
		}
	}
}

// sums fills in what is only known at the end.
func (w *work) sums(d *shelf.TwinDisk) {
	for i := range d.Regions {
		r := w.regions[0]
		w.regions = w.regions[1:]
		d.Regions[i].Used = r.out.Used - r.zeros.Load()
		d.Regions[i].Added = r.added.Load()
		d.Regions[i].Fresh, d.Regions[i].Dense = r.fresh.Load(), r.raw.Load()
		d.Used += d.Regions[i].Used
	}
}

// Describe is what a twin of an attached disk would say of it, all of it taken; nothing is read but its maps.
func Describe(s *survey.Survey) *shelf.TwinDisk {
	d := &shelf.TwinDisk{Identity: s.Device.Identity(), Table: s.Table}
	d.Identity.Size, d.Identity.Sector = s.Device.Size(), s.Device.SectorSize()
	for _, a := range s.Areas {
		r := describe(a)
		r.Captured, r.Used = true, a.Content.Used
		d.Used += r.Used
		d.Regions = append(d.Regions, r)
	}
	return d
}

func describe(a survey.Area) shelf.Region {
	r := shelf.Region{Span: a.Span, Role: string(a.Role), Kind: a.Content.Info.Kind, Label: a.Content.Info.Label,
		ID: a.Content.Info.ID, Unclean: a.Content.Info.Unclean}
	if a.Part != nil {
		r.Part, r.Type, r.Name = a.Part.Number, a.Part.Type, a.Part.Name
		if r.Accounted = a.Content.Sound; !a.Content.Maps {
			r.Whole = a.Content.Why
		}
	}
	if rest, ok := a.Content.Rest(); ok {
		r.Rest, r.AsCut = rest.State, a.Content.Cut() != nil
	}
	for _, o := range a.Content.Omit {
		r.Omitted = append(r.Omitted, o.What)
	}
	return r
}

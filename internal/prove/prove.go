// Package prove gathers evidence: that a twin on the shelf can be read, every
// block of it, and that a target holds what was planned for it.
package prove

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/inside"
	"twinshelf/internal/plan"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/startup"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// Phases are the names of the phases of a proof.
var Phases = []string{phaseRead, phaseCheck}

const (
	phaseRead  = "Read back"
	phaseCheck = "Check structures"
)

// area is what is proven about one region: how much was read, and what failed.
type area struct {
	region shelf.Region
	mu     sync.Mutex
	bytes  int64
	blocks int
	bad    span.Set
	reason string
}

func (a *area) add(sp span.Span, v verdict) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.bytes += sp.Len()
	a.blocks++
	if v.bad == "" {
		return
	}
	if v.where.Empty() {
		v.where = span.Of(sp)
	}
	a.bad = a.bad.Union(v.where)
	if a.reason == "" {
		a.reason = v.bad
	}
}

// verdict is what the test of a piece came to.
type verdict struct {
	bad     string   // what is wrong; empty when nothing is
	where   span.Set // bytes of the disk that are; empty for the whole piece
	skipped bool     // nothing had to be read
}

// where names a region in a claim.
func where(disks, i int, r shelf.Region) string {
	s := "between the parts"
	if r.Part > 0 {
		s = fmt.Sprintf("part %d, %s", r.Part, r.Title())
		if r.Known() && r.Kind != r.Title() {
			s += " (" + r.Kind + ")"
		}
	}
	if disks > 1 {
		s = fmt.Sprintf("disk %d, %s", i+1, s)
	}
	return s
}

// check reads pieces in parallel and files each under its area.
func check(rc *run.Context, pieces func(yield func(disk.Piece, error) bool), areas []*area,
	test func(p disk.Piece, buf []byte) ([]byte, verdict)) error {
	type task struct {
		p disk.Piece
		a *area
	}
	tasks := make(chan task, 8)
	var wg sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			var buf []byte
			for t := range tasks {
				var v verdict
				buf, v = test(t.p, buf)
				t.a.add(t.p.Span, v)
				state := run.Finished
				if v.bad != "" {
					state = run.Unreadable
				}
				rc.MarkRead(t.p.Span, state)
				rc.MarkWritten(t.p.Span, state)
				if v.skipped {
					_ = rc.Skip(t.p.Len())
				} else {
					_ = rc.Step(t.p.Len())
				}
			}
		})
	}
	i := 0
	for p, err := range pieces {
		if rc.Err() != nil {
			break
		}
		for i < len(areas)-1 && p.Start >= areas[i].region.Span.End {
			i++
		}
		if err != nil {
			areas[i].add(p.Span, verdict{bad: err.Error()})
			continue
		}
		if p.Kind == disk.Undefined {
			continue
		}
		// A stretch of zeros may run over several areas.
		for sp := p.Span; !sp.Empty(); {
			j := i
			for j < len(areas)-1 && sp.Start >= areas[j].region.Span.End {
				j++
			}
			cut := p
			cut.Span = sp
			if j < len(areas)-1 {
				cut.End = min(cut.End, areas[j].region.Span.End)
			}
			if p.Kind == disk.Zero {
				cut.End = min(cut.End, cut.Start+zeroStep)
			}
			tasks <- task{cut, areas[j]}
			sp.Start = cut.End
		}
	}
	close(tasks)
	wg.Wait()
	return rc.Err()
}

// zeroStep is how much of what should be zeros is read at a time, in bytes.
const zeroStep = 1 << 20

func areasOf(d *shelf.TwinDisk) []*area {
	out := make([]*area, len(d.Regions))
	for i, r := range d.Regions {
		out[i] = &area{region: r}
	}
	return out
}

// claims turns the areas into claims. verb says what was found to be true.
// d is a disk in which the files can be found whose bytes are bad.
func claims(ctx context.Context, d disk.Device, disks, i int, areas []*area,
	verb string) (out []shelf.Claim, read int64) {
	outside := false
	gaps := shelf.Claim{Topic: shelf.TopicContents, About: where(disks, i, shelf.Region{}), Says: verb, Holds: true}
	var gapBytes int64
	for _, a := range areas {
		read += a.bytes
		c := shelf.Claim{Topic: shelf.TopicContents, About: where(disks, i, a.region), Says: verb, Holds: a.bad.Empty(),
			Evidence: fmt.Sprintf("%s in %s compared", units.Bytes(a.bytes), units.Plural(a.blocks, "piece"))}
		if !c.Holds {
			c.Evidence = fmt.Sprintf("%s differ or can't be read, first at byte %d: %s", units.Bytes(a.bad.Total()),
				a.bad.Bounds().Start, a.reason) + fileWords(ctx, d, a.bad)
		}
		outside = outside || a.region.Part == 0
		switch {
		case a.region.Part == 0 && c.Holds:
			gapBytes += a.bytes
		case a.region.Part == 0:
			gaps.Holds, gaps.Evidence = false, c.Evidence
		case !a.region.Captured:
			c.Says, c.Evidence = "was left out of the capture", "nothing to compare"
			out = append(out, c)
		default:
			out = append(out, c)
		}
	}
	if gaps.Holds {
		gaps.Evidence = units.Bytes(gapBytes) + " compared"
	}
	if outside {
		out = append(out, gaps)
	}
	return out, read
}

// mostNamed is how many files a claim names.
const mostNamed = 30

// fileWords names the files that stretches of a disk belong to.
func fileWords(ctx context.Context, d disk.Device, where span.Set) string {
	t, err := inside.FilesIn(ctx, d, where)
	if err != nil {
		return ""
	}
	return "; files: " + t.Words(mostNamed)
}

// Twin proves a twin without a target: every block of every disk is read,
// unpacked and hashed. The proof is kept with the twin.
func Twin(rc *run.Context, s *shelf.Shelf, t *shelf.Twin, tool string) (*shelf.Proof, error) {
	proof := &shelf.Proof{Twin: t.ID, Of: shelf.OnShelf, Tool: tool}
	for i := range t.Disks {
		d, err := s.OpenDisk(rc, t, i)
		if err != nil {
			return nil, err
		}
		total, err := size(rc, d)
		if err != nil {
			return nil, err
		}
		rc.Rails(d.Size(), 0)
		rc.ExpectRead(disk.Stretches(d, disk.Data))
		rc.Phase(phaseRead, total)
		areas := areasOf(d.Describe())
		err = check(rc, func(yield func(disk.Piece, error) bool) {
			for p, err := range d.Pieces() {
				if (err != nil || p.Kind == disk.Data) && !yield(p, err) {
					return
				}
			}
		}, areas, func(p disk.Piece, buf []byte) ([]byte, verdict) {
			b, err := d.ReadPiece(p, buf)
			if err != nil {
				return buf, verdict{bad: err.Error()}
			}
			return b, verdict{}
		})
		if err != nil {
			return nil, err
		}
		rc.Phase(phaseCheck, 0)
		c, read := claims(rc, d, len(t.Disks), i, areas, "every block can be read and hashes to its name")
		proof.Claims = append(proof.Claims, c...)
		proof.Read += read
		if lost := t.Disks[i].Missing; !lost.Empty() {
			proof.Claims = append(proof.Claims,
				shelf.Claim{Topic: shelf.TopicContents, About: "source", Says: "all of the source could be read",
					Evidence: fmt.Sprintf("%s could not be read when it was captured", units.Bytes(lost.Total())) +
						fileWords(rc, d, lost)})
		}
		kept, err := keptClaims(rc, d, len(t.Disks), i, beside(rc, s, t, i))
		if err != nil {
			return nil, err
		}
		proof.Claims = append(proof.Claims, kept...)
		proof.Claims = append(proof.Claims, tableClaims(d, d.Describe(), false)...)
	}
	proof.When = time.Now()
	if err := s.SaveProof(rc, proof); err != nil { // a shelf that can't be written is proven all the same
		return proof, &NotKept{err}
	}
	return proof, nil
}

// NotKept is why a proof that was made isn't on the shelf.
type NotKept struct{ Cause error }

func (e *NotKept) Error() string { return "the proof can't be kept on the shelf: " + e.Cause.Error() }

func (e *NotKept) Unwrap() error { return e.Cause }

// beside are the parts of the other disks of a twin, and of this one: a container may lie on several. What can't be
// opened is missed there.
func beside(ctx context.Context, s *shelf.Shelf, t *shelf.Twin, but int) []families.Member {
	var out []families.Member
	for i := range t.Disks {
		if len(t.Disks) == 1 || i == but {
			continue
		}
		d, err := s.OpenDisk(ctx, t, i)
		if err != nil {
			continue
		}
		for _, r := range t.Disks[i].Parts() {
			if r.Captured {
				out = append(out, families.Member{R: disk.Section(d, r.Span.Start, r.Span.Len()), Size: r.Span.Len()})
			}
		}
	}
	return out
}

// keptClaims look whether everything was kept that the records of a part name which was read by its maps.
func keptClaims(ctx context.Context, d *shelf.Disk, disks, i int, others []families.Member) ([]shelf.Claim, error) {
	var out []shelf.Claim
	for _, r := range d.Describe().Parts() {
		if !r.Captured || r.Whole != "" || !r.Known() {
			continue
		}
		content, err := families.Examine(ctx, disk.Section(d, r.Span.Start, r.Span.Len()), r.Span.Len(), d.SectorSize(),
			others...)
		if err != nil {
			return nil, err
		}
		if !accounts(&content) {
			continue
		}
		c := shelf.Claim{Topic: shelf.TopicContents, About: where(disks, i, r),
			Says: "everything is kept that its files, folders and structures name", Holds: content.Maps,
			Evidence: content.Why}
		if _, locked := content.Volume.(*families.Locked); locked {
			c.Holds = true
			c.Says = "every block of it is there; whether that is all its files need can be checked with its key only"
		}
		if content.Maps {
			c.Evidence = fmt.Sprintf("all records of its %s compared with what was kept", r.Kind)
			if x, ok := content.Volume.(fsys.Lockable); ok && len(x.Locked()) > 0 {
				c.Evidence += ", except those that are encrypted"
			}
		}
		out = append(out, c)
	}
	return out, nil
}

// accounts says whether what is named in a volume was compared with its maps, or contradicts them.
func accounts(c *fsys.Content) bool {
	if _, ok := c.Volume.(fsys.Layered); ok && c.Maps {
		return c.Sound
	}
	_, ok := c.Volume.(fsys.Accountable)
	return ok || !c.Maps
}

func size(ctx context.Context, d disk.Mapped) (int64, error) {
	n := int64(0)
	for p, err := range d.Pieces() {
		if err == nil && p.Kind == disk.Data {
			n += p.Len()
		}
		if ctx.Err() != nil {
			return 0, ctx.Err()
		}
	}
	return n, nil
}

// Target proves a target against the planned disk: all that was planned is
// read back and compared, the tables are checked, the file systems recognised.
// source describes the disk that was planned from. Whoever asked keeps the proof.
func Target(rc *run.Context, source *shelf.TwinDisk, p *plan.Plan, target disk.Device,
	tool string) (*shelf.Proof, error) {
	return proveTarget(rc, source, p, target, tool, span.Set{})
}

// proveTarget is Target without reading what is known to be as planned.
func proveTarget(rc *run.Context, source *shelf.TwinDisk, p *plan.Plan, target disk.Device, tool string,
	known span.Set) (*shelf.Proof, error) {
	proof := &shelf.Proof{Of: disk.Sticker(target.Identity()), Tool: tool}
	want := planned(source, p)
	total := int64(0)
	for piece, err := range p.Disk.Pieces() {
		if err == nil && piece.Kind != disk.Undefined {
			total += piece.Len()
		}
	}
	if target.Size() < p.Disk.Size() {
		return nil, fmt.Errorf("%s has %s, the plan is for %s", disk.Sticker(target.Identity()),
			units.Exact(target.Size()), units.Exact(p.Disk.Size()))
	}
	rc.Rails(0, target.Size())
	rc.ExpectWritten(disk.Stretches(p.Disk, disk.Data, disk.Zero))
	rc.Phase(phaseRead, total)
	areas := areasOf(want)
	cmp := &comparison{ctx: rc, planned: p.Disk, target: target, used: newUsed(p.Disk, want)}
	err := check(rc, p.Disk.Pieces(), areas, func(p disk.Piece, buf []byte) ([]byte, verdict) {
		if known.Covers(p.Span) {
			return buf, verdict{skipped: true}
		}
		return cmp.piece(p, buf)
	})
	if err != nil {
		return nil, err
	}
	rc.Phase(phaseCheck, 0)
	var read int64
	proof.Claims, read = claims(rc, p.Disk, 1, 0, areas, "equals what was planned, byte for byte")
	proof.Read = read
	proof.Claims = append(proof.Claims, tableClaims(target, want, true)...)
	fsClaims, err := fileSystemClaims(rc, target, want, p)
	if err != nil {
		return nil, err
	}
	proof.Claims = append(proof.Claims, fsClaims...)
	for i := range proof.Claims {
		if c := &proof.Claims[i]; c.Topic == "" {
			c.Topic = shelf.TopicSound
		}
	}
	starts, err := startupClaims(rc, p, target)
	proof.Claims = append(proof.Claims, starts...)
	proof.When = time.Now()
	return proof, err
}

// tableClaims checks the table on a device against the twin's.
func tableClaims(d disk.Device, twin *shelf.TwinDisk, target bool) []shelf.Claim {
	want := twin.Table
	if want.Kind == table.None {
		return nil
	}
	c := shelf.Claim{Topic: shelf.TopicSound, About: "table", Says: fmt.Sprintf("the %s names the same parts as "+
		"the twin", want.Kind)}
	if target {
		c.Says = fmt.Sprintf("the %s names the parts that were planned, where they were planned", want.Kind)
	}
	t, err := table.Read(d, d.Size(), d.SectorSize())
	if err != nil {
		c.Evidence = err.Error()
		return []shelf.Claim{c}
	}
	c.Holds = t.Kind == want.Kind && t.ID == want.ID && len(t.Parts) == len(want.Parts)
	for i := 0; c.Holds && i < len(t.Parts); i++ {
		a, b := t.Parts[i], want.Parts[i]
		c.Holds = a.Span == b.Span && a.Type == b.Type && a.GUID == b.GUID
	}
	c.Evidence = fmt.Sprintf("%s, %s", t.Kind, units.Plural(len(t.Parts), "part"))
	if t.ID != "" {
		c.Evidence += ", identity " + t.ID
	}
	out := []shelf.Claim{c}
	if target && want.Kind == table.GPT {
		both := shelf.Claim{Topic: shelf.TopicSound, About: "table", Says: "both copies of the GPT are whole " +
			"and agree, the back-up in the " +
			"last sector", Holds: t.Worst() == "", Evidence: "headers, entries and checksums of both copies read"}
		for _, f := range t.Findings {
			both.Evidence = f.Text
		}
		out = append(out, both)
	}
	return out
}

// fileSystemClaims recognises the file systems on the target.
func fileSystemClaims(ctx context.Context, d disk.Device, twin *shelf.TwinDisk, p *plan.Plan) ([]shelf.Claim, error) {
	var out []shelf.Claim
	for _, r := range twin.Parts() {
		if !r.Known() || !r.Captured {
			continue
		}
		r.Kind, r.ID = knownNow(ctx, p.Disk, r)
		content, err := families.Examine(ctx, disk.Section(d, r.Span.Start, r.Span.Len()), r.Span.Len(), d.SectorSize())
		if err != nil {
			return nil, err
		}
		c := shelf.Claim{About: where(1, 0, r),
			Says: fmt.Sprintf("the %s is whole: its maps agree with its counts and its records", r.Kind)}
		c.Holds = content.Info.Kind == r.Kind && content.Info.ID == r.ID && content.Info.Size <= r.Span.Len() &&
			(content.Maps || r.Unclean != "")
		c.Evidence = fmt.Sprintf("identity %s, %s in use", content.Info.ID, units.Bytes(content.Used))
		for _, x := range p.Layout.Parts {
			if x.Part.Number == r.Part && x.Becomes != x.Volume && content.Maps {
				c.Holds = c.Holds && content.Info.Size == x.Becomes
				verb := "grown"
				if x.Becomes < x.Volume {
					verb = "shrunk"
				}
				c.Evidence += fmt.Sprintf(", %s from %s to %s", verb, units.Bytes(x.Volume),
					units.Bytes(content.Info.Size))
			}
		}
		if !c.Holds && r.Unclean == "" && r.Whole == "" && described(ctx, p.Disk, r, &content) {
			c.Holds = true
			c.Says = fmt.Sprintf("the %s is recognised; other disks of the machine describe what is in it", r.Kind)
			if families.Encrypted(content.Volume) {
				c.Says = fmt.Sprintf("the %s is there with its identity; looking into it takes its key", r.Kind)
			}
			c.Evidence = "identity " + content.Info.ID
			// it was so at the source, and all of it was taken
		} else if r.Unclean == "" && r.Whole != "" && !content.Maps {
			c.Holds = content.Info.Kind == r.Kind && content.Info.ID == r.ID
			c.Says = fmt.Sprintf("the %s is recognised; the source itself wasn't sound when it was captured", r.Kind)
			c.Evidence = "identity " + content.Info.ID + "; " + r.Whole
		} else if r.Unclean != "" {
			c.Says = fmt.Sprintf("the %s is recognised; it wasn't quiet when it was captured", r.Kind)
			c.Evidence = "identity " + content.Info.ID + "; " + r.Unclean
		} else if !c.Holds {
			c.Evidence = content.Why
		}
		out = append(out, c)
	}
	return out, nil
}

// described says whether what lies on a region is described elsewhere: the planned disk by itself doesn't tell either,
// and shows the same as the target.
func described(ctx context.Context, planned disk.Device, r shelf.Region, content *fsys.Content) bool {
	if content.Maps || content.Info.Opaque == "" {
		return false
	}
	c, err := families.Examine(ctx, disk.Section(planned, r.Span.Start, r.Span.Len()), r.Span.Len(),
		planned.SectorSize())
	return err == nil && !c.Maps && c.Info == content.Info && c.Why == content.Why
}

// knownNow is how the file system of a region is called today: an older version may have known it by its signature
// only.
func knownNow(ctx context.Context, planned disk.Device, r shelf.Region) (kind, id string) {
	section := disk.Section(planned, r.Span.Start, r.Span.Len())
	v, err := families.Identify(ctx, section, r.Span.Len(), planned.SectorSize())
	if err != nil || v == nil {
		return r.Kind, r.ID
	}
	return v.Info().Kind, v.Info().ID
}

// asPlanned begins a claim about a disk of which nobody claims that it starts.
const asPlanned = "it is as planned: "

// startupClaims say by which ways the target should start. What kept the planned disk from starting is known from the
// plan and no fault of the target's.
func startupClaims(ctx context.Context, p *plan.Plan, target disk.Device) ([]shelf.Claim, error) {
	o := startup.Options{Elsewhere: p.Elsewhere, Gone: map[string]string{}}
	for _, x := range p.Layout.Parts {
		if x.To.Empty() && x.ID != "" {
			o.Gone[x.ID] = fmt.Sprintf("part %d", x.Part.Number)
		}
	}
	o.Before = p.Startup
	want, err := startup.Check(ctx, p.Disk, o)
	if err != nil {
		return nil, err
	}
	o.Before, o.Alike = nil, want
	have, err := startup.Check(ctx, target, o)
	if err != nil {
		return nil, err
	}
	want, have = want.Decline(), have.Decline() // what could be repaired has been, or was declined
	var out []shelf.Claim
	if want.Meant() && len(want.Starts()) == 0 {
		out = append(out,
			shelf.Claim{Topic: shelf.TopicStart, About: "start", Says: asPlanned + want.Words(),
				Holds: have.Words() == want.Words()})
		if c := &out[0]; !c.Holds {
			c.Evidence = have.Words()
		}
	}
	for _, way := range want.Starts() {
		c := shelf.Claim{Topic: shelf.TopicStart, About: "start", Says: "it should start by " + way,
			Holds: slices.Contains(have.Starts(), way)}
		var evidence []string
		for _, f := range have.Findings {
			if f.Way == way || f.Way == startup.References {
				evidence = append(evidence, f.Says)
			}
		}
		c.Evidence = strings.Join(evidence, "; ")
		out = append(out, c)
	}
	return out, nil
}

// ErrFails means that a proof was made and some of its claims don't hold.
var ErrFails = errors.New("the proof fails")

package keeping

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
)

// CheckKind is how much a check reads.
type CheckKind struct {
	// Share is how much of the packs is read, the ones that weren't read for longest first: 0 only looks whether every
	// block is there, 1 reads everything.
	Share float64
	// Mend has what is hurt mended, as far as parity reaches.
	Mend bool
}

// maxDamage is how many places of damage a report names.
const maxDamage = 10_000

// check is a check that is going on.
type check struct {
	s    *shelf.Shelf
	kind CheckKind
	rep  *Report
	bad  map[store.Name]string // blocks that can't be had, and why
}

// Check looks whether everything on the shelf is there and as it was written. It may be stopped at any time and goes on
// where it was: packs that were read stay read for this round.
func Check(ctx context.Context, s *shelf.Shelf, kind CheckKind, step store.Step) (*Report, error) {
	if err := s.Refresh(ctx); err != nil {
		return nil, err
	}
	c := &check{s, kind, &Report{}, map[store.Name]string{}}
	c.small(ctx)
	twins, problems := s.Twins(ctx)
	for _, p := range problems {
		if h := new(store.HurtError); !errors.As(p, &h) { // hurt files were found above, with what can be done
			c.hurt(p.Error())
		}
	}
	if err := c.packs(ctx, step); err != nil {
		return c.rep, err
	}
	m := c.s.Marking()
	defer m.Close()
	unsure, err := c.mark(ctx, m, twins)
	if err != nil {
		return c.rep, err
	}
	if err := c.sortBroken(ctx, m, unsure || len(problems) > 0); err != nil {
		c.hurt(err.Error())
	}
	c.rep.Blocks = m.Blocks()
	for n := range m.Missing() {
		c.bad[n] = "no pack holds this block"
	}
	if len(c.bad) > 0 || m.Lost() > 0 || len(c.rep.Hurt) > 0 {
		c.locate(ctx, twins)
	}
	return c.rep, ctx.Err()
}

func (c *check) hurt(text string) { c.rep.Hurt = append(c.rep.Hurt, text) }

// mended notes a file that was put back as it was; nothing in it is lost when the journal can't be told.
func (c *check) mended(ctx context.Context, file string, e shelf.Event) {
	c.rep.Mended = append(c.rep.Mended, file)
	if e.What != "" {
		_ = c.s.Record(ctx, e)
	}
}

// mark marks what the twins need. unsure says that something may be needed which isn't marked.
func (c *check) mark(ctx context.Context, m *store.Marking, twins []*shelf.Twin) (unsure bool, err error) {
	for _, t := range twins {
		err := markTwin(ctx, c.s, m, t)
		if err != nil && ctx.Err() != nil {
			return true, ctx.Err()
		}
		unsure = unsure || err != nil
		// A node that can't be read is found again by name when what is missed is located.
		if h := new(store.HurtError); errors.As(err, &h) && strings.HasPrefix(h.File, "twins/") {
			c.hurt(err.Error())
		}
	}
	if err := m.Flush(ctx); err != nil {
		c.hurt(err.Error())
		unsure = true
	}
	return unsure || len(m.Missing()) > 0, nil
}

// sortBroken tells packs that something is needed of from those that nothing is; while that is unsure all are needed.
// Of a pack whose hurt blocks stand elsewhere too nothing is missed.
func (c *check) sortBroken(ctx context.Context, m *store.Marking, unsure bool) error {
	rep := c.rep
	if len(rep.broken) == 0 {
		return nil
	}
	needed, err := m.NeededPacks(ctx)
	for _, id := range slices.Sorted(maps.Keys(rep.broken)) {
		switch {
		case err != nil || unsure || needed[id] && rep.costly[id]:
			c.hurt(rep.broken[id])
		case needed[id]:
			rep.Idle = append(rep.Idle, rep.broken[id]+"; every block in it that a twin needs can be had")
		default:
			rep.Idle = append(rep.Idle, rep.broken[id]+"; no twin needs anything of it: giving back space removes it")
		}
	}
	return err
}

// packs reads packs through, the ones that weren't read for longest first.
func (c *check) packs(ctx context.Context, step store.Step) error {
	r, err := c.s.NewRound(ctx)
	if err != nil {
		return err
	}
	rep := c.rep
	rep.Of = r.Len()
	defer func() { rep.Oldest = r.Oldest() }()
	want := int64(c.kind.Share * float64(r.Total))
	for i := range r.Len() {
		if c.kind.Share < 1 && rep.Bytes >= want && i >= r.Known {
			break
		}
		p, err := r.Next(ctx, c.kind.Mend)
		if err != nil {
			r.Save(ctx)
			return err
		}
		rep.Packs++
		rep.Bytes += p.Size
		c.pack(ctx, p)
		if step == nil {
			continue
		}
		if err := step(rep.Bytes, max(want, rep.Bytes)); err != nil {
			r.Save(ctx)
			return err
		}
	}
	rep.Whole = rep.Packs == r.Len()
	if rep.Packs > 0 {
		r.Save(ctx)
	}
	return nil
}

// pack takes the result of one pack into the report.
func (c *check) pack(ctx context.Context, p store.PackCheck) {
	for _, f := range p.Mended {
		e := shelf.Event{What: "mended " + f, Why: "its parity had what was lost"}
		if f != p.File {
			e = shelf.Event{What: "made " + f + " anew", Why: p.Why.Error()}
		}
		c.mended(ctx, f, e)
	}
	if p.Parity != nil {
		c.hurt(p.Parity.Error())
	}
	if p.Problem != nil {
		c.rep.breaks(p.ID, p.Problem.Error(), p.Costly)
	}
	for _, n := range p.Lost {
		if len(c.bad) < store.MostMissing {
			c.bad[n] = p.File + " is damaged there"
		}
	}
}

// KnownDamage is what an earlier check found hurt and nobody has mended yet, in words.
func KnownDamage(ctx context.Context, s *shelf.Shelf) []string {
	var out []string
	for _, id := range s.KnownDamage(ctx) {
		out = append(out, store.PackFile(id)+" was found damaged by a check and isn't mended; \"twinshelf shelf check "+
			"--mend --from SHELF\" tries")
	}
	return out
}

// small reads the files that aren't packs.
func (c *check) small(ctx context.Context) {
	c.head(ctx)
	for _, err := range c.s.CheckIndex(ctx) {
		c.hurt(err.Error() + "; \"twinshelf shelf reindex\" makes it anew")
	}
	for _, n := range c.s.Notes() {
		c.hurt(n)
	}
	c.copies(ctx)
	mended, err := c.s.CheckReserve(ctx, c.kind.Mend)
	if mended {
		c.mended(ctx, store.ReserveFile, shelf.Event{})
	}
	if err != nil {
		c.hurt(fmt.Sprintf("%v; nothing is lost by it, and \"twinshelf shelf check --mend\" makes it anew", err))
	}
	if _, err := c.s.Reads(ctx); err != nil { // it costs only reading again
		c.hurt(err.Error())
	}
	twins, err := c.s.Backend().List(ctx, "proofs")
	if err != nil {
		c.hurt(fmt.Sprintf("the proofs can't be listed: %v", err))
	}
	for _, t := range twins {
		_, problems := c.s.Proofs(ctx, t)
		for _, p := range problems {
			c.hurt(p.Error())
		}
	}
}

// head reads both files of the head.
func (c *check) head(ctx context.Context) {
	problems := c.s.CheckHead(ctx)
	if len(problems) == 0 {
		return
	}
	if c.kind.Mend && c.mendHead(ctx) == nil {
		for _, f := range slices.Sorted(maps.Keys(problems)) {
			c.mended(ctx, f, shelf.Event{What: "mended " + f, Why: "its copy had what was lost"})
		}
		return
	}
	for _, f := range slices.Sorted(maps.Keys(problems)) {
		c.hurt(problems[f].Error())
	}
}

func (c *check) mendHead(ctx context.Context) error {
	l, err := c.s.Exclusive(ctx, "mending the head")
	if err != nil {
		return err
	}
	defer l.Release()
	return c.s.MendHead(ctx, l)
}

// copies looks at the small files that are there twice. With mend a good one is written over, or in place of, its
// other.
func (c *check) copies(ctx context.Context) {
	files, problems := c.s.TwinFiles(ctx)
	for _, p := range problems {
		c.hurt(p.Error())
	}
	strays, err := c.s.StrayTwins(ctx)
	if err != nil {
		c.hurt(err.Error())
	}
	files = append(files, strays...)
	for _, n := range []string{store.RulesFile, store.RetiredFile} {
		if _, err := c.s.Backend().Stat(ctx, n); err == nil {
			files = append(files, n)
		}
	}
	for _, dir := range []string{"marks", "journal"} {
		names, err := c.s.Backend().List(ctx, dir)
		if err != nil {
			c.hurt(err.Error())
		}
		for _, n := range names {
			files = append(files, dir+"/"+n)
		}
	}
	for _, f := range files {
		c.pair(ctx, f)
	}
}

// pair looks at a file and its copy.
func (c *check) pair(ctx context.Context, file string) {
	var bad []string
	var problems []error
	for _, f := range []string{file, store.CopyOf(file)} {
		if _, err := c.readSmall(ctx, f, file); err != nil {
			bad, problems = append(bad, f), append(problems, err)
		}
	}
	switch {
	case len(bad) == 0:
		return
	case len(bad) == 2:
		text := problems[0].Error() + "; its copy can't be read either"
		if strings.HasPrefix(file, "twins/") {
			text += fmt.Sprintf(": carry the twin here again from another shelf that has it, or take it off with "+
				"\"twinshelf shelf discard %s\"", shelf.FileID(file))
		}
		c.hurt(text)
		return
	case errors.Is(problems[0], fs.ErrNotExist) && bad[0] != file && !c.kind.Mend:
		return // of an earlier version, which made none; mending makes it
	}
	if c.kind.Mend && c.putBack(ctx, file, bad[0]) == nil {
		c.mended(ctx, bad[0], shelf.Event{})
		return
	}
	if bad[0] == file {
		c.hurt(fmt.Sprintf("%v; its copy is whole, and \"twinshelf shelf check --mend\" puts it back", problems[0]))
		return
	}
	c.hurt(fmt.Sprintf("the copy of %s can't be read (%v); \"twinshelf shelf check --mend\" makes it anew", file,
		problems[0]))
}

// putBack writes the hurt one of a file and its copy again, from the other. That one is read again under the lock:
// somebody may have discarded the twin meanwhile.
func (c *check) putBack(ctx context.Context, file, hurt string) error {
	l, err := c.s.Exclusive(ctx, "mending a small file")
	if err != nil {
		return err
	}
	defer l.Release()
	other := file
	if hurt == file {
		other = store.CopyOf(file)
	}
	good, err := c.readSmall(ctx, other, file)
	if err != nil {
		return err
	}
	return c.s.PutCopy(ctx, l, hurt, good)
}

// readSmall reads a small file at a place, and checks it as the file that it is or copies.
func (c *check) readSmall(ctx context.Context, at, file string) ([]byte, error) {
	if strings.HasPrefix(file, "twins/") {
		return c.s.ReadTwinFile(ctx, at, file)
	}
	return c.s.CheckNote(ctx, at)
}

// locate names what the twins miss.
func (c *check) locate(ctx context.Context, twins []*shelf.Twin) {
	lost := map[store.Name]bool{}
	for _, t := range twins {
		for i := range t.Disks {
			d, err := c.s.OpenDisk(ctx, t, i)
			if err != nil {
				continue
			}
			for p, err := range d.Pieces() {
				if ctx.Err() != nil {
					return
				}
				if why := c.missed(p, err, lost); why != "" {
					c.rep.damage(t, i, d.RegionAt(p.Start), p, why)
				}
			}
		}
	}
	c.rep.Lost = len(lost)
}

// missed says why a piece of a twin can't be had; empty when it can. The block is noted as lost.
func (c *check) missed(p disk.Piece, problem error, lost map[store.Name]bool) string {
	if problem != nil {
		return "its block map can't be read: " + problem.Error()
	}
	if p.Kind != disk.Data {
		return ""
	}
	n, err := store.ParseName(p.Name)
	if err != nil {
		return ""
	}
	why := c.bad[n]
	if why != "" {
		lost[n] = true
	}
	return why
}

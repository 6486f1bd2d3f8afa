package workshop

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/job"
	"twinshelf/internal/keeping"
	"twinshelf/internal/run"
	"twinshelf/internal/settings"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/store/far"
	"twinshelf/internal/units"
)

// mostRemembered is of how many twins it is remembered on which shelf they stand.
const mostRemembered = 5000

// Remember notes a shelf by identity, with the drive that it lies on. The open one is opened again next time.
func (w *shelves) Remember(ctx context.Context, s *shelf.Shelf) error {
	abs, err := whole(s.Place())
	if err != nil {
		return err
	}
	h := s.Head()
	ids, err := s.TwinIDs(ctx)
	if err != nil { // what was remembered before is better
		return err
	}
	k := settings.Known{ID: h.ID, Name: h.Name, Path: abs, Seen: time.Now(), Sealed: s.Sealed(), Twins: len(ids),
		Holds: ids[:min(len(ids), mostRemembered)]}
	if w.Bench.System && !far.Is(abs) {
		for _, d := range w.Bench.List() {
			if w.Bench.Host.HoldsFolder(d.Path, abs) {
				k.Drive = d.Identity.Tail()
			}
		}
	}
	state(ctx, s, &k)
	open := w.shelf() == s
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, old := range w.State.Shelves { // not for every command
		if old.ID == k.ID {
			k.Gone = vanished(ctx, s, &old, &k)
		}
		same := slices.Equal(old.Holds, k.Holds) && slices.Equal(old.Marks, k.Marks) && old.Rules == k.Rules &&
			slices.Equal(old.Gone, k.Gone)
		named := len(old.Disks) > 0 || k.Sealed || k.Twins == 0
		if old.ID == k.ID && old.Path == k.Path && same && named && time.Since(old.Seen) < time.Hour &&
			(!open || w.State.Shelf == abs) {
			return nil
		}
	}
	k.Disks = disksOn(ctx, s)
	return w.State.Remember(k, open)
}

// mostOwned is of how many disks it is remembered whose they are.
const mostOwned = 2000

// disksOn are the disks that the twins of a shelf are of; none of a sealed one: what is on it stays with it.
func disksOn(ctx context.Context, s *shelf.Shelf) []settings.KnownDisk {
	if s.Sealed() {
		return nil
	}
	twins, _ := s.Twins(ctx) // machines descending; those that can't be read are said where the shelf is shown
	slices.SortStableFunc(twins, func(a, b *shelf.Twin) int { return b.Taken.Compare(a.Taken) })
	var out []settings.KnownDisk
	place := map[[2]string]int{}
	for _, t := range twins {
		for i := range t.Disks {
			id := t.Disks[i].Identity
			key := [2]string{id.Model, id.Serial}
			at, known := place[key]
			switch {
			case known:
				out[at].Twins++
			case id.Serial != "" && len(out) < mostOwned:
				place[key] = len(out)
				out = append(out, settings.KnownDisk{Model: id.Model, Serial: id.Serial, Machine: t.Machine,
					Newest: t.Taken, Twins: 1})
			}
		}
	}
	return out
}

// KnownShelf is a shelf that was open here once.
type KnownShelf struct {
	settings.Known
	Here bool `json:"here"` // it can be reached now
	Far  bool `json:"far"`  // it lies far away: whether that can be reached isn't tried
	Open bool `json:"open"`
}

// Words says where it is or was.
func (k KnownShelf) Words() string {
	where := ""
	if k.Drive != "" {
		where = " on drive …" + k.Drive
	}
	switch {
	case k.Open:
		return k.Name + ", open, at " + k.Path
	case k.Here:
		return fmt.Sprintf("%s, at %s", k.Name, k.Path)
	case k.Far:
		return fmt.Sprintf("%s, %s, at %s, last open %s with %s", k.Name, far.Where(k.Path), k.Path,
			k.Seen.Format("2 Jan 2006"), units.Plural(k.Twins, "twin"))
	}
	return fmt.Sprintf("%s, last seen %s%s at %s with %s", k.Name, k.Seen.Format("2 Jan 2006"), where, k.Path,
		units.Plural(k.Twins, "twin"))
}

// Known lists the shelves that were open here, the latest first; each is looked for where it was.
func (w *shelves) Known(ctx context.Context) []KnownShelf {
	w.mu.Lock()
	known := slices.Clone(w.State.Shelves)
	w.mu.Unlock()
	open := w.shelf()
	var out []KnownShelf
	for _, k := range known {
		ks := KnownShelf{Known: k, Far: far.Is(k.Path)}
		if ks.Far {
			ks.Open = open != nil && open.Head().ID == k.ID
			out = append(out, ks)
			continue
		}
		if id, err := shelf.IDOf(ctx, k.Path); err == nil {
			ks.Here = id == k.ID
		}
		ks.Open = ks.Here && open != nil && open.Head().ID == k.ID
		out = append(out, ks)
	}
	return out
}

// AlsoOn names the other known shelves that held a twin when they were open last.
func AlsoOn(known []KnownShelf, twin string) []string {
	var out []string
	for _, k := range known {
		if !k.Open && slices.Contains(k.Holds, twin) {
			out = append(out, k.Name)
		}
	}
	return out
}

// InReach is the folder of the latest known shelf that can be reached now and takes captures; empty when there is none.
// It stands in for the one that was open last when that one's drive isn't attached. A sealed one counts when its
// passphrase may be asked for; whether it takes captures is then known when it is open.
func (w *shelves) InReach(ctx context.Context, sealedToo bool) string {
	for _, k := range w.Known(ctx) {
		switch {
		case k.Here && k.Sealed && sealedToo:
			return k.Path
		case k.Here && !k.Sealed:
			if s, err := openAt(ctx, w.FarAsks, k.Path, nil); err == nil {
				refused := shelf.Takes(ctx, s)
				s.Close()
				if refused == nil {
					return k.Path
				}
			}
		}
	}
	return ""
}

// NewShelf makes a shelf in a folder, here or far away, that is empty or isn't there yet, with a share of parity
// in percent; sealed when there is a passphrase.
func NewShelf(ctx context.Context, place, name string, parity int, passphrase []byte, asks far.Asks) (*shelf.Shelf,
	error) {
	b, err := Ground(place, asks)
	if err != nil {
		return nil, err
	}
	n := store.New{Name: name}
	if passphrase != nil {
		n.Passphrase = passphrase
	}
	s, err := shelf.CreateAt(ctx, b, n)
	if err != nil {
		letGo(b)
		return nil, err
	}
	if parity != store.DefaultParity {
		if err := s.SetParity(ctx, parity); err != nil {
			s.Close()
			return nil, err
		}
	}
	return s, nil
}

// StartCheck checks the shelf.
func (w *shelves) StartCheck(ctx context.Context, kind keeping.CheckKind) (r *run.Run, report func() *keeping.Report) {
	var rep *keeping.Report
	const phase = "Read the packs"
	r = run.Start(ctx, "Check of "+w.shelf().Head().Name, []string{phase}, nil, func(rc *run.Context) (err error) {
		rep, err = keeping.Check(rc, w.shelf(), kind, stepper(rc, phase))
		if err == nil {
			rep.Files = damagedFiles(rc, w.room, rep)
		}
		return err
	})
	return r, func() *keeping.Report { return rep }
}

// StartRefill takes what a check found missing from another shelf with the same twins, and looks again; what is still
// missing then stands in the report instead.
func (w *shelves) StartRefill(ctx context.Context, other *shelf.Shelf,
	rep *keeping.Report) (r *run.Run, report func() *keeping.Report) {
	const taking, looking = "Take what is missing", "Look again"
	r = run.Start(ctx, "Mending "+w.shelf().Head().Name+" from "+other.Head().Name, []string{taking, looking}, nil,
		func(rc *run.Context) error {
			rc.Phase(taking, 0)
			n, passed, err := keeping.Refill(rc, w.shelf(), other, rep)
			for _, p := range passed {
				rc.Note("%s", p)
			}
			if n > 0 {
				rep.Mended = append(rep.Mended, fmt.Sprintf("%s from %s", units.Plural(n, "block"), other.Head().Name))
			}
			if err != nil {
				return err
			}
			rc.Phase(looking, 0)
			again, err := keeping.Check(rc, w.shelf(), keeping.CheckKind{}, nil)
			if err != nil {
				return err
			}
			rep.Damage, rep.Lost, rep.Hurt, rep.Idle, rep.Files = again.Damage, again.Lost, again.Hurt, again.Idle,
				damagedFiles(rc, w.room, again)
			return nil
		})
	return r, func() *keeping.Report { return rep }
}

// stepper tells a run of work that says how much is done of how much.
func stepper(rc *run.Context, phase string) func(done, total int64) error {
	last, of := int64(0), int64(-1)
	return func(done, total int64) error {
		if total != of {
			rc.Phase(phase, total)
			last, of = 0, total
		}
		n := done - last
		last = done
		return rc.Step(n)
	}
}

// StartGiveBack gives space back.
func (w *shelves) StartGiveBack(ctx context.Context) (r *run.Run, freed func() keeping.Freed) {
	var f keeping.Freed
	const phase = "Copy what is needed"
	r = run.Start(ctx, "Giving back space on "+w.shelf().Head().Name, []string{phase}, nil,
		func(rc *run.Context) (err error) {
			f, err = keeping.GiveBack(rc, w.shelf(), stepper(rc, phase))
			return err
		})
	return r, func() keeping.Freed { return f }
}

// OpenOther opens another known or named shelf beside the one that is open. The passphrase of a sealed
// one is asked for by the Workshop's Passphrase.
func (w *shelves) OpenOther(ctx context.Context, ref string) (*shelf.Shelf, error) {
	return w.openNamed(ctx, ref, w.openOther)
}

// OpenOtherBy opens another shelf with a passphrase at hand; with nil a sealed one is store.ErrSealed.
func (w *shelves) OpenOtherBy(ctx context.Context, ref string, passphrase []byte) (*shelf.Shelf, error) {
	return w.openNamed(ctx, ref, func(ctx context.Context, dir string) (*shelf.Shelf, error) {
		if passphrase == nil {
			return w.openBy(ctx, dir, nil)
		}
		return w.openBy(ctx, dir, func() ([]byte, error) { return passphrase, nil })
	})
}

// opener opens the shelf in a folder.
type opener func(ctx context.Context, dir string) (*shelf.Shelf, error)

func (w *shelves) openNamed(ctx context.Context, ref string, open opener) (*shelf.Shelf, error) {
	for _, k := range w.Known(ctx) {
		if k.Name == ref || k.ID == ref {
			if !k.Here && !k.Far {
				return nil, fmt.Errorf("%s: attach its drive, or name its folder", k.Words())
			}
			ref = k.Path
			break
		}
	}
	s, err := open(ctx, ref)
	if err == nil {
		_ = w.Remember(ctx, s) // a comfort, not a need
	}
	return s, err
}

// Use takes an opened shelf as the one that captures go to, and closes the one before.
func (w *shelves) Use(ctx context.Context, s *shelf.Shelf) {
	w.shelfMu.Lock()
	old := w.Shelf
	w.Shelf = s
	w.shelfMu.Unlock()
	if old != nil {
		old.Close()
	}
	if far.Is(s.Place()) { // no disk here holds it
		w.Bench.SetShelves()
	} else {
		w.Bench.SetShelves(s.Place())
	}
	_ = w.Remember(ctx, s) // a comfort, not a need
}

// ErrDifferent means that after carrying the shelves don't hold the same.
var ErrDifferent = errors.New("not everything arrived")

// Moved is what carrying came to, with the comparison at its end.
type Moved struct {
	keeping.Carried
	ReadBack int64              `json:"read_back"` // bytes
	Compared []keeping.Standing `json:"compared"`
}

// Words says it in a sentence.
func (m *Moved) Words() string {
	there := ""
	if m.Already > 0 {
		there = fmt.Sprintf(", %s there already", units.Plural(m.Already, "twin"))
	}
	return fmt.Sprintf("%s carried%s, %s newly stored, %s read back", units.Plural(m.Twins, "twin"), there,
		units.Bytes(m.Bytes), units.Bytes(m.ReadBack))
}

// Alone is how many twins the other shelf doesn't have, or has differently.
func (m *Moved) Alone() int {
	n := 0
	for _, c := range m.Compared {
		if c.Here && (!c.There || c.Differ) {
			n++
		}
	}
	return n
}

// ErrStillNeeded means that a shelf isn't retired because it holds what its successor doesn't.
var ErrStillNeeded = errors.New("it isn't retired")

// Replace retires the open shelf in favour of another one, to which everything on it was carried; the rules by which
// dates are kept go with it, unless the other one has its own. Both are compared as they are now.
func (w *shelves) Replace(ctx context.Context, to *shelf.Shelf) error {
	strays, err := w.shelf().StrayTwins(ctx)
	if err != nil {
		return fmt.Errorf("what %s holds can't be told: %w (%w)", w.shelf().Head().Name, ErrStillNeeded, err)
	}
	if len(strays) > 0 {
		return fmt.Errorf("of %s only the copy is on %s, and wasn't carried: %w; \"twinshelf shelf check --mend\" "+
			"puts it back", units.Plural(len(strays), "twin"), w.shelf().Head().Name, ErrStillNeeded)
	}
	compared, problems := keeping.Compare(ctx, w.shelf(), to)
	if len(problems) > 0 {
		return fmt.Errorf("a twin on %s or %s can't be read, so whether all were carried can't be told: %w (%w)",
			w.shelf().Head().Name, to.Head().Name, ErrStillNeeded, problems[0])
	}
	if n := (&Moved{Compared: compared}).Alone(); n > 0 {
		return fmt.Errorf("%s holds %s that %s doesn't have: %w; carry them all", w.shelf().Head().Name,
			units.Plural(n, "twin"), to.Head().Name, ErrStillNeeded)
	}
	if _, err := keeping.CarryRules(ctx, w.shelf(), to); err != nil {
		return err
	}
	return w.shelf().Retire(ctx, "replaced by "+to.Head().Name)
}

// StartCarry copies twins to another shelf and compares both at the end. twins nil means all.
func (w *shelves) StartCarry(ctx context.Context, to *shelf.Shelf,
	twins []*shelf.Twin) (r *run.Run, moved func() *Moved) {
	m := &Moved{}
	mine := func(*job.Job) bool { return true }
	if chosen := twins; chosen != nil { // other customers' cases are none of that drive's
		mine = func(j *job.Job) bool {
			return slices.ContainsFunc(chosen, func(t *shelf.Twin) bool {
				return strings.EqualFold(t.Machine,
					j.Machine)
			})
		}
	}
	const copying, reading, comparing = "Copy twins", "Read back", "Compare date by date"
	r = run.Start(ctx, "Carrying "+w.shelf().Head().Name+" to "+to.Head().Name, []string{copying, reading, comparing},
		nil, func(rc *run.Context) error {
			if twins == nil {
				all, problems := w.shelf().Twins(rc)
				if len(problems) > 0 {
					rc.Note("%v: it isn't carried", problems[0])
				}
				twins = all
			}
			var err error
			if m.Carried, err = keeping.Carry(rc, w.shelf(), to, twins, stepper(rc, copying)); err != nil {
				return err
			}
			if n := m.KeysLeft; n > 0 {
				rc.Note("the keys that are kept with %s stay behind: %s isn't sealed", units.Plural(n, "twin"),
					to.Head().Name)
			}
			there, problems := to.Twins(rc)
			if len(problems) > 0 {
				return problems[0]
			}
			there = slices.DeleteFunc(there, func(o *shelf.Twin) bool {
				return !slices.ContainsFunc(twins, func(t *shelf.Twin) bool { return t.ID == o.ID })
			})
			if m.ReadBack, err = keeping.ReadBack(rc, to, there, stepper(rc, reading)); err != nil {
				return err
			}
			if err := (&cases{w.room}).carry(rc, to, mine); err != nil {
				rc.Note("not all records of cases are carried: %v", err)
			}
			rc.Phase(comparing, 0)
			m.Compared, problems = keeping.Compare(rc, w.shelf(), to)
			for _, p := range problems {
				rc.Note("%v", p)
			}
			missing := 0
			for _, t := range twins {
				i := slices.IndexFunc(m.Compared, func(c keeping.Standing) bool { return c.Twin == t.ID })
				if i < 0 || !m.Compared[i].There || m.Compared[i].Differ {
					missing++
				}
			}
			if missing > 0 {
				return fmt.Errorf("%w: %s of %d is missing or different there", ErrDifferent,
					units.Plural(missing, "twin"), len(twins))
			}
			_ = w.Remember(rc, to) // what it holds now; a comfort, not a need
			return nil
		})
	return r, func() *Moved { return m }
}

// Foresee says how the open shelf will fill, by its twins.
func (w *shelves) Foresee(ctx context.Context, twins []*shelf.Twin) (keeping.Foresight, error) {
	st, err := w.shelf().Stats(ctx)
	if err != nil {
		return keeping.Foresight{}, err
	}
	free, err := w.shelf().Free(ctx)
	return keeping.Foresee(twins, st.Bytes, free, time.Now()), err
}

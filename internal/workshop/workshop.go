// Package workshop is what the commands and the screen share: the bench, the
// open shelf, what is remembered, and the operations as plans and runs. It holds
// no interface code.
package workshop

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"twinshelf/internal/bench"
	"twinshelf/internal/capture"
	"twinshelf/internal/disk"
	"twinshelf/internal/inside"
	"twinshelf/internal/job"
	"twinshelf/internal/prove"
	"twinshelf/internal/run"
	"twinshelf/internal/settings"
	"twinshelf/internal/shelf"
	"twinshelf/internal/stick/ramdisk"
	"twinshelf/internal/store"
	"twinshelf/internal/store/far"
	"twinshelf/internal/survey"
	"twinshelf/internal/units"
)

// Workshop is one technician's place of work.
type Workshop struct {
	*room
	shelves
	looking
	readying
	restoring
	rescues
	cases
	drawings
	papers
	hosting
	wired
	tellers tellers
}

// room is what all work shares: the bench, the open shelf, what is remembered.
type room struct {
	Bench *bench.Bench
	State *settings.State
	Shelf *shelf.Shelf // nil until one is open
	// Passphrase asks for the passphrase of a sealed shelf; nil when nobody can be asked.
	Passphrase func(dir string) ([]byte, error)
	// FarAsks are how a person is asked while a server is opened; nobody is where its fields are nil.
	FarAsks far.Asks
	// Demo says that everything here is a stand-in.
	Demo bool
	// Notice is what went wrong while the machine was started from a stick; empty for nothing.
	Notice string
	// Paper is what a paper says that came with a locked machine, to be read while its key is typed; empty for none.
	Paper string

	// shelfMu guards Shelf: work in the background asks for it while the screen exchanges it.
	shelfMu sync.RWMutex
	// mu keeps what is remembered from being changed by two at once, and guards the library.
	mu sync.Mutex
}

// shelves opens, checks, thins and carries shelves; readying lays disks out; restoring writes and proves them.
type (
	shelves   struct{ *room }
	readying  struct{ *room }
	restoring struct{ *room }
)

// looking reads files off disks and twins.
type looking struct {
	*room
	library   *inside.Library // of libraryOf; guarded by the room's mu
	libraryOf *shelf.Shelf
}

// New makes a workshop that remembers in stateDir.
func New(stateDir string, images []string, system bool) (*Workshop, error) {
	st, err := settings.Load(stateDir)
	if err != nil {
		return nil, err
	}
	r := &room{State: st}
	w := &Workshop{room: r, shelves: shelves{r}, looking: looking{room: r}, readying: readying{r},
		restoring: restoring{r}, rescues: rescues{r}, cases: cases{r}, drawings: drawings{r}, papers: papers{r},
		hosting: hosting{r}, wired: wired{room: r}, tellers: usualTellers()}
	if ramdisk.Started() {
		w.Notice = os.Getenv(ramdisk.Notice)
	}
	w.Bench = &bench.Bench{Images: images, System: system, OutOfReach: w.isOut, Started: ramdisk.Started()}
	return w, nil
}

// shelf is the shelf that is open at this moment; nil for none.
func (w *room) shelf() *shelf.Shelf {
	w.shelfMu.RLock()
	defer w.shelfMu.RUnlock()
	return w.Shelf
}

func (w *room) isOut(id disk.Identity) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.State.IsOut(id)
}

// ToggleReach puts a disk out of reach or back within it, over restarts.
func (w *Workshop) ToggleReach(id disk.Identity) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.State.Toggle(id)
}

// OpenShelf opens the shelf in a folder and takes it as the one that captures go to: its disk is out of reach.
func (w *Workshop) OpenShelf(ctx context.Context, dir string) error {
	s, err := w.openOther(ctx, dir)
	if err != nil {
		return err
	}
	w.Use(ctx, s)
	return nil
}

// openOther opens a shelf beside the one that is open.
func (w *room) openOther(ctx context.Context, dir string) (*shelf.Shelf, error) {
	var ask func() ([]byte, error)
	if w.Passphrase != nil {
		ask = func() ([]byte, error) { return w.Passphrase(dir) }
	}
	return w.openBy(ctx, dir, ask)
}

// openBy is openOther with its own way to a passphrase; nil where there is none.
func (w *room) openBy(ctx context.Context, dir string, ask func() ([]byte, error)) (*shelf.Shelf, error) {
	s, err := openAt(ctx, w.FarAsks, dir, ask)
	if err != nil {
		return nil, err
	}
	if id := s.Head().ID; !s.Sealed() && w.wasSealed(id) {
		s.Close()
		return nil, fmt.Errorf("the shelf in %s can't be opened: %w (it was sealed when it was open here last)", dir,
			store.ErrExchanged)
	}
	return s, nil
}

// wasSealed says whether a shelf was sealed when it was open here last.
func (w *room) wasSealed(id string) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return slices.ContainsFunc(w.State.Shelves, func(k settings.Known) bool { return k.ID == id && k.Sealed })
}

// ErrNoShelf means that no shelf was named.
var ErrNoShelf = errors.New("no shelf is open: name its folder with --shelf, or make one with \"twinshelf shelf new " +
	"FOLDER\"")

// Guard is the door for writing, for work that reads from the given paths.
func (w *room) Guard(sources ...string) *disk.Guard {
	out := func(id disk.Identity) bool { return w.isOut(id) || w.Bench.IsStick(id) }
	return &disk.Guard{Host: w.Bench.Host, Shelves: w.Bench.OpenShelves(), Sources: sources, OutOfReach: out}
}

// SuggestMachine gives the name under which the newest twin with one of these
// disks stands on the shelf; "" when there is none.
func SuggestMachine(twins []*shelf.Twin, disks []*bench.Disk) string {
	var best *shelf.Twin
	for _, t := range twins {
		for _, td := range t.Disks {
			for _, d := range disks {
				same := td.Identity.Serial != "" && td.Identity.Serial == d.Identity.Serial &&
					td.Identity.Model == d.Identity.Model
				if same && (best == nil || t.Taken.After(best.Taken)) {
					best = t
				}
			}
		}
	}
	if best == nil {
		return ""
	}
	return best.Machine
}

// Companions gives the disks that were captured together with d before: a
// machine with two disks needs both.
func Companions(twins []*shelf.Twin, all []*bench.Disk, d *bench.Disk) []*bench.Disk {
	machine := SuggestMachine(twins, []*bench.Disk{d})
	var out []*bench.Disk
	for _, other := range all {
		if other != d && machine != "" && SuggestMachine(twins, []*bench.Disk{other}) == machine {
			out = append(out, other)
		}
	}
	return out
}

// Parts are parts of disks, by number.
type Parts map[*bench.Disk]map[int]bool

// PlanCapture plans the capture of probed disks: without what is left out, and with asCut as if the power had been cut
// (fsys.Interrupted).
func (w *Workshop) PlanCapture(ctx context.Context, machine string, disks []*bench.Disk,
	leaveOut, asCut Parts) (*capture.Plan, error) {
	if w.shelf() == nil {
		return nil, ErrNoShelf
	}
	if err := w.checkClock(); err != nil {
		return nil, err
	}
	if units.Visible(machine) != machine {
		return nil, fmt.Errorf("%q can't be the name of a machine: it holds characters that can't be shown", machine)
	}
	p := &capture.Plan{Shelf: w.shelf(), Machine: strings.TrimSpace(machine), Tool: Tool()}
	var surveys []*survey.Survey
	for i, d := range disks {
		for _, o := range disks[:i] {
			if o == d || o.Path == d.Path || w.Bench.Host.Overlap(o.Path, d.Path) {
				return nil,
					fmt.Errorf("%s and %s are the same disk, or share bytes: name each disk once", o.Path, d.Path)
			}
		}
		if d.Survey == nil {
			return nil, fmt.Errorf("%s can't be captured: %s", d.Path, d.Words())
		}
		surveys = append(surveys, d.Survey)
	}
	joined, err := survey.Joined(ctx, surveys)
	if err != nil {
		return nil, err
	}
	for i, s := range joined {
		if s, err = s.AsCut(ctx, asCut[disks[i]]); err != nil {
			return nil, fmt.Errorf("%s: %w", disks[i].Path, err)
		}
		p.Sources = append(p.Sources,
			capture.Source{Survey: s, Path: disks[i].Path, LeaveOut: leaveOut[disks[i]],
				Rotational: disks[i].Rotational, Health: disks[i].Health})
	}
	return p, nil
}

const phaseNames = "List names"

// StartCapture runs a plan, lists the names of the files for searches, and thins the machine's dates when its rule says
// so. result is valid once the run has ended well.
func (w *Workshop) StartCapture(ctx context.Context, p *capture.Plan,
	leaving *Outgoing) (r *run.Run, result func() *shelf.Twin) {
	var t *shelf.Twin
	e, _ := p.Estimate(ctx)
	r = run.Start(ctx, "Capture of "+p.Machine, append(slices.Clone(capture.Phases), phaseNames), run.Expected{e.Time},
		func(rc *run.Context) (err error) {
			return w.onRecord(rc, captureWork(rc, p), func() error {
				end, err := w.attend(rc, sources(p))
				if err != nil {
					return err
				}
				defer end()
				defer w.listAhead(p)()
				if t, err = p.Run(rc); err == nil {
					keepKeys(rc, p, t)
					w.list(rc, p, t)
					leaving.drop(rc, p.Shelf)
				}
				return err
			}, func(r *job.Result) { captured(rc, p.Shelf, t, r) })
		})
	return r, func() *shelf.Twin { return t }
}

// sources are the disks of a plan.
func sources(p *capture.Plan) []*bench.Disk {
	var out []*bench.Disk
	for _, s := range p.Sources {
		d := &bench.Disk{Path: s.Path, Identity: s.Survey.Device.Identity(), Survey: s.Survey, Health: s.Health}
		d.Device, _ = s.Survey.Device.(*disk.File)
		out = append(out, d)
	}
	return out
}

// keepKeys keeps the keys of a new twin's volumes with it, where that is wanted. The twin is whole without.
func keepKeys(rc *run.Context, p *capture.Plan, t *shelf.Twin) {
	if !p.KeepUnlocking {
		return
	}
	if err := shelf.KeysOn(p.Shelf).Keep(rc, t); err != nil {
		rc.Note("the keys aren't kept with the twin: %v", err)
	}
}

// listAhead has the names of a new twin listed before it is committed, where what was read of its disks tells them all;
// done forgets that.
func (w *Workshop) listAhead(p *capture.Plan) (done func()) {
	lib, err := w.Library()
	if err != nil {
		return func() {}
	}
	g := shelf.NewGlimpses()
	p.Glimpses, p.NamesKept = g, false
	p.Names = func(ctx context.Context, t *shelf.Twin, s *shelf.Session) *shelf.Listing {
		return lib.Ahead(ctx, t, g, s)
	}
	return func() { p.Glimpses, p.Names = nil, nil }
}

// list makes the index of names of a new twin, unless the shelf has it already. The twin is whole without it: where it
// fails it is made when it is wanted.
func (w *Workshop) list(rc *run.Context, p *capture.Plan, t *shelf.Twin) {
	rc.Phase(phaseNames, 0)
	if p.NamesKept {
		return
	}
	w.listNames(rc, p.Glimpses, t)
}

// listNames makes the index of names of a twin, with what is still known of it.
func (w *Workshop) listNames(rc *run.Context, g *shelf.Glimpses, t *shelf.Twin) {
	lib, err := w.Library()
	if err == nil {
		_, err = lib.Of(shelf.WithGlimpses(rc, g), t)
	}
	if err != nil {
		rc.Note("the names of its files couldn't be listed (%v); that is done at the first search", err)
	}
}

// keptElsewhere keeps a proof in the state folder that the shelf couldn't take.
func (w *Workshop) keptElsewhere(rc *run.Context, p *shelf.Proof, err error) error {
	var cause *prove.NotKept
	if !errors.As(err, &cause) {
		return err
	}
	b, err := json.MarshalIndent(p, "", "  ")
	if err != nil {
		return err
	}
	name := fmt.Sprintf("proofs/%s-%s", p.Twin, p.When.UTC().Format("20060102T150405Z"))
	if err := w.State.Note(name).Save(b); err != nil {
		return errors.Join(cause, err)
	}
	rc.Note("%v; it is kept as %s", cause, filepath.Join(w.State.Folder(), name+".note"))
	return nil
}

// StartProofTwin proves a twin on the shelf.
func (w *Workshop) StartProofTwin(ctx context.Context, t *shelf.Twin) (r *run.Run, proof func() *shelf.Proof) {
	var result *shelf.Proof
	estimate := time.Duration(float64(t.Used) / (300 * units.MB) * float64(time.Second))
	r = run.Start(ctx, "Proof of "+t.Machine, prove.Phases, run.Expected{estimate}, func(rc *run.Context) (err error) {
		k := job.Work{Sort: job.Prove, Title: "Proof of " + t.Machine, Machine: t.Machine, Twin: t.ID,
			Dated: units.Moment(t.Taken)}
		return w.onRecord(rc, k, func() error {
			result, err = prove.Twin(rc, w.shelf(), t, Tool())
			return w.keptElsewhere(rc, result, err)
		}, func(r *job.Result) { claimed(result, r) })
	})
	return r, func() *shelf.Proof { return result }
}

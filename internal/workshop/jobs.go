package workshop

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/bench"
	"twinshelf/internal/job"
	"twinshelf/internal/run"
	"twinshelf/internal/settings"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

// cases opens, finds and closes customers' cases.
type cases struct{ *room }

// book is where the records of cases lie.
func (w *room) book() *job.Book { return job.NewBook(filepath.Join(w.State.Folder(), "jobs")) }

// Jobs are all cases on record here and on the open shelf, those that were worked on last first.
func (w *cases) Jobs(ctx context.Context) (jobs []*job.Job, problems []error) {
	if err := w.fetch(ctx); err != nil {
		problems = append(problems, err)
	}
	jobs, more := w.book().List()
	return jobs, append(problems, more...)
}

// Job is the case that is chosen; nil when none is, or when it is closed.
func (w *cases) Job() *job.Job {
	w.mu.Lock()
	id := w.State.Job
	w.mu.Unlock()
	if id == "" {
		return nil
	}
	j, err := w.book().Read(id)
	if err != nil || !j.Open() {
		return nil
	}
	return j
}

// UseJob chooses a case: what is done from now on belongs to it.
func (w *room) UseJob(id string) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.State.Job == id {
		return nil
	}
	return w.State.UseJob(id)
}

// Shop is who works here.
func (w *room) Shop() settings.Shop {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.State.Shop
}

// SetShop says who works here, and remembers it.
func (w *room) SetShop(shop settings.Shop) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.State.SetShop(shop)
}

// Sizes are the units that the screen says sizes in.
func (w *room) Sizes() units.System {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.State.Sizes()
}

// SaySizes remembers in which units the screen says sizes.
func (w *room) SaySizes(in units.System) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.State.SaySizes(in)
}

// NewJob opens a case and chooses it. Without a number it gets the next one.
func (w *room) NewJob(ctx context.Context, about job.Case) (*job.Job, error) {
	j, err := w.newJob(ctx, about)
	if err == nil {
		copyOf(w, j.ID).share(ctx)
	}
	return j, err
}

// newJob opens a case that is on record here, and not on the shelf so far.
func (w *room) newJob(ctx context.Context, about job.Case) (*job.Job, error) {
	_ = w.fetch(ctx) // numbers that only the shelf knows; without them it gets one all the same
	jobs, _ := w.book().List()
	if about.Number == "" {
		about.Number = job.NextNumber(w.Shop().Numbers, time.Now(), jobs)
	}
	if w.Bench.Started && about.Maker == "" && about.Model == "" && about.Serial == "" {
		c := w.Computer() // the machine that the stick was put into is the one that the case is about
		about.Maker, about.Model, about.Serial = c.Maker, c.Model, c.Serial
	}
	if about.Technician == "" {
		about.Technician = w.Shop().Technician
	}
	if err := unusedNumber(jobs, about.Number, ""); err != nil {
		return nil, err
	}
	id := job.NewID()
	e := job.NewEntry(job.About)
	e.About = &about
	if err := w.book().Append(id, e); err != nil {
		return nil, err
	}
	if err := w.choose(ctx, id); err != nil {
		return nil, err
	}
	return w.book().Read(id)
}

// choose chooses a case, unless nobody is there who would know of it.
func (w *room) choose(ctx context.Context, id string) error {
	if isUnattended(ctx) {
		return nil
	}
	return w.UseJob(id)
}

// ErrNumberTaken means that another case has that number.
var ErrNumberTaken = errors.New("another case has this number")

func unusedNumber(jobs []*job.Job, number, but string) error {
	for _, j := range jobs {
		if strings.EqualFold(j.Number, number) && j.ID != but {
			return fmt.Errorf("%w: %s is %s", ErrNumberTaken, number, j.Title())
		}
	}
	return nil
}

// ChangeJob says anew what a case is about.
func (w *cases) ChangeJob(ctx context.Context, j *job.Job, about job.Case) error {
	if jobs, _ := w.book().List(); about.Number != j.Number { // two machines may have given one number
		if err := unusedNumber(jobs, about.Number, j.ID); err != nil {
			return err
		}
	}
	e := job.NewEntry(job.About)
	e.About = &about
	return w.enter(ctx, j.ID, e)
}

// NoteJob enters a note of the technician.
func (w *cases) NoteJob(ctx context.Context, j *job.Job, text string) error {
	e := job.NewEntry(job.Noted)
	e.Note = text
	return w.enter(ctx, j.ID, e)
}

// LookJob enters what an attached disk is like now into a case. A disk that is there already just as it is isn't
// entered again: then entered is false.
func (w *cases) LookJob(ctx context.Context, j *job.Job, d *bench.Disk) (entered bool, err error) {
	if j, err = w.book().Read(j.ID); err != nil { // what else was entered meanwhile counts
		return false, err
	}
	now := onBench(d)
	for _, e := range slices.Backward(j.Looks()) {
		if e.Look.Identity.Key() == now.Identity.Key() {
			if reflect.DeepEqual(*e.Look, now) {
				return false, nil
			}
			break
		}
	}
	e := job.NewEntry(job.Looked)
	e.Look = &now
	return true, w.enter(ctx, j.ID, e)
}

// CloseJob closes a case, ReopenJob opens it again and chooses it.
func (w *cases) CloseJob(ctx context.Context, j *job.Job) error {
	return w.enter(ctx, j.ID, job.NewEntry(job.Closed))
}

// ReopenJob opens a closed case again, and chooses it.
func (w *cases) ReopenJob(ctx context.Context, j *job.Job) error {
	if !j.Open() {
		if err := w.enter(ctx, j.ID, job.NewEntry(job.Reopened)); err != nil {
			return err
		}
	}
	return w.UseJob(j.ID)
}

// enter writes entries into the record of a case, here and on the open shelf. Here is enough: what the shelf lacks
// comes onto it with the next entry.
func (w *room) enter(ctx context.Context, id string, entries ...job.Entry) error {
	if err := w.book().Append(id, entries...); err != nil {
		return err
	}
	copyOf(w, id).share(ctx)
	return nil
}

// fetch brings the entries of all cases from the open shelf that are lacking here.
func (w *room) fetch(ctx context.Context) error {
	s := w.shelf()
	if s == nil {
		return nil
	}
	ids, err := shelf.CasesOn(s).IDs(ctx)
	if err != nil {
		return fmt.Errorf("the cases on the shelf can't be listed: %w", err)
	}
	var hurt []error
	for _, id := range ids {
		if err := w.fetchJob(ctx, s, id); err != nil {
			hurt = append(hurt, fmt.Errorf("case %s on the shelf: %w", id, err))
		}
	}
	return errors.Join(hurt...)
}

func (w *room) fetchJob(ctx context.Context, s *shelf.Shelf, id string) error {
	there, err := shelf.CasesOn(s).Entries(ctx, id)
	if err != nil {
		return err
	}
	here := map[string]bool{}
	if j, err := w.book().Read(id); err == nil {
		for _, e := range j.Entries {
			here[e.ID] = true
		}
	} else if !errors.Is(err, job.ErrNoJob) {
		return err
	}
	var lacking []job.Entry
	var hurt []error
	for _, name := range there {
		if here[name] {
			continue
		}
		var e job.Entry
		if err := shelf.CasesOn(s).Get(ctx, id, name, &e); err != nil {
			hurt = append(hurt, err)
		} else if e.ID == name {
			lacking = append(lacking, e)
		}
	}
	if len(lacking) > 0 {
		hurt = append(hurt, w.book().Append(id, lacking...))
	}
	return errors.Join(hurt...)
}

// carry brings the records of those cases on the open shelf that are wanted onto another one.
func (w *cases) carry(ctx context.Context, to *shelf.Shelf, wanted func(*job.Job) bool) error {
	hurt := []error{w.fetch(ctx)}
	ids, err := shelf.CasesOn(w.shelf()).IDs(ctx)
	hurt = append(hurt, err)
	for _, id := range ids {
		if j, err := w.book().Read(id); err == nil && !wanted(j) {
			continue
		}
		if _, err := (caseCopy{w.book(), to, id}).push(ctx, nil); err != nil {
			hurt = append(hurt, fmt.Errorf("case %s: %w", id, err))
		}
	}
	return errors.Join(hurt...)
}

// jobFor is the case that work on a machine belongs to: the chosen one unless that is another machine's, an open one of
// the machine, or a new one. What it enters is on record here; whoever asked shares it.
func (w *room) jobFor(ctx context.Context, machine string) (string, error) {
	mine := func(j *job.Job) bool {
		return j.Open() && (machine == "" || j.Machine == "" || strings.EqualFold(j.Machine, machine))
	}
	w.mu.Lock()
	chosen := w.State.Job
	w.mu.Unlock()
	if chosen != "" {
		if j, err := w.book().Read(chosen); err == nil && mine(j) {
			return j.ID, w.nameMachine(j, machine)
		}
	}
	_ = w.fetch(ctx) // the case may have been opened on another machine
	if jobs, _ := w.book().List(); machine != "" {
		for _, j := range jobs {
			if j.Open() && strings.EqualFold(j.Machine, machine) {
				return j.ID, w.choose(ctx, j.ID)
			}
		}
	}
	j, err := w.newJob(ctx, job.Case{Machine: machine})
	if err != nil {
		return "", err
	}
	return j.ID, nil
}

// nameMachine gives a case that was opened before anything was known the machine that it turns out to be about.
func (w *room) nameMachine(j *job.Job, machine string) error {
	if j.Machine != "" || machine == "" {
		return nil
	}
	about := j.Case
	about.Machine = machine
	e := job.NewEntry(job.About)
	e.About = &about
	return w.book().Append(j.ID, e)
}

// UseOpenJob chooses a case that is open.
func (w *cases) UseOpenJob(_ context.Context, j *job.Job) error {
	if !j.Open() {
		return fmt.Errorf("case %s is closed: reopen it first", j.Title())
	}
	return w.UseJob(j.ID)
}

// settling is how long an entry may take to come onto the shelf after a run was cancelled.
const settling = 30 * time.Second

// onRecord does a work, and writes its beginning and its end into the case that it belongs to. The work doesn't depend
// on that: what can't be entered is noted with the run. came adds to the end what the work came to.
func (w *room) onRecord(rc *run.Context, k job.Work, do func() error, came func(*job.Result)) error {
	working := w.Routines().Working()
	defer working.Close()
	ctx := context.WithoutCancel(rc)
	e := job.NewEntry(job.Begun)
	k.Expected = rc.Snapshot().Estimate.Seconds()
	if s := w.shelf(); s != nil {
		k.Shelf = s.Head().Name
	}
	e.Begun = &k
	id, err := w.jobFor(ctx, k.Machine)
	if err == nil {
		err = w.book().Append(id, e)
	}
	if err != nil {
		rc.Note("this work isn't on record: %v", err)
		return do()
	}
	onShelf := copyOf(w, id)
	shared := onShelf.beside(ctx)
	failed := do()
	end := job.NewEntry(job.Ended)
	end.Ended = resultOf(rc.Snapshot(), e.ID, failed)
	came(end.Ended)
	if err := w.book().Append(id, end); err != nil {
		rc.Note("how this work ended isn't on record: %v", err)
	}
	ctx, cancel := context.WithTimeout(ctx, settling)
	defer cancel()
	_, _ = onShelf.push(ctx, shared(ctx)) // it is on record here
	return failed
}

// mostEntered is how many notes of a run, and how many names of files, are entered.
const mostEntered = 500

// resultOf is what a run came to.
func resultOf(s run.Snapshot, work string, err error) *job.Result {
	r := &job.Result{Work: work, State: string(run.Done), Seconds: s.Elapsed.Seconds(), Moved: s.All}
	r.Notes = s.Notes[:min(len(s.Notes), mostEntered)]
	r.More = len(s.Notes) - len(r.Notes)
	r.Pace = PaceOf(s)
	switch {
	case errors.Is(err, context.Canceled):
		r.State = string(run.Cancelled)
	case err != nil:
		r.State, r.Error = string(run.Failed), err.Error()
	}
	return r
}

// PaceOf is how fast a run went so far; nil where nothing was measured.
func PaceOf(s run.Snapshot) *job.Pace {
	if len(s.Samples) == 0 {
		return nil
	}
	p := &job.Pace{}
	for _, x := range s.Samples {
		p.Samples = append(p.Samples, job.Sample{At: x.At.Seconds(), Rate: x.Rate})
	}
	for _, x := range s.Begun {
		p.Phases = append(p.Phases, job.PhaseAt{Phase: x.Phase, At: x.At.Seconds()})
	}
	for _, x := range s.Pauses {
		p.Pauses = append(p.Pauses, job.Pause{From: x.From.Seconds(), To: x.To.Seconds()})
	}
	for _, x := range s.Misses {
		p.Missed = append(p.Missed, job.Miss{At: x.At.Seconds(), Bytes: x.Bytes})
	}
	return p
}

package workshop

import (
	"context"
	"testing"
	"time"

	"twinshelf/internal/job"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/store/backend"
)

// mute is a shelf's folder that takes nothing more until somebody lets it.
type mute struct {
	backend.Backend
	let chan struct{}
}

func (m mute) Create(ctx context.Context, name string, o backend.Options) (backend.Upload, error) {
	select {
	case <-m.let:
		return m.Backend.Create(ctx, name, o)
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// TestOnRecordBeforeTheShelf: a shelf that doesn't answer keeps neither a work from beginning nor its end from being on
// record here; both come onto the shelf once it answers.
func TestOnRecordBeforeTheShelf(t *testing.T) {
	w, _ := ferry(t)
	forget(t, w)
	let := make(chan struct{})
	in := mute{backend.InFolder(t.TempDir()), let}
	made, err := shelf.CreateAt(t.Context(), in.Backend, store.New{Name: "Elm"})
	if err != nil {
		t.Fatal(err)
	}
	made.Close()
	s, err := shelf.OpenAt(t.Context(), in, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	was := w.Shelf
	w.Shelf = s
	defer func() { w.Shelf = was }()
	k := job.Work{Sort: job.Prove, Title: "Proof of Harbour kiosk", Machine: "Harbour kiosk"}
	r := run.Start(t.Context(), k.Title, []string{"Read"}, run.Expected{}, func(rc *run.Context) error {
		return w.onRecord(rc, k, func() error { return nil }, func(*job.Result) {})
	})
	ended := func() bool {
		jobs, _ := w.book().List()
		return len(jobs) == 1 && len(jobs[0].Works()) == 1 && jobs[0].Works()[0].Result != nil
	}
	for end := time.Now().Add(settling / 2); !ended(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("how the work ended isn't on record while the shelf is waited for")
		}
	}
	close(let)
	if err := r.Wait(); err != nil {
		t.Fatal(err)
	}
	if there, err := shelf.CasesOn(s).Entries(t.Context(), w.Job().ID); err != nil || len(there) != 3 {
		t.Errorf("the shelf has %q, %v", there, err)
	}
}

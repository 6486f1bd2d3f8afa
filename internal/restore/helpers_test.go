package restore_test

import (
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fit"
	"twinshelf/internal/plan"
	"twinshelf/internal/prove"
	"twinshelf/internal/restore"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/testkit"
)

// planned plans a source onto a target.
func planned(t testing.TB, src disk.Mapped, target disk.Target, guard *disk.Guard,
	wish plan.Wish) (*restore.Restore, error) {
	t.Helper()
	p, err := plan.Make(t.Context(), plan.Order{Source: src, Target: target.Identity, Wish: wish})
	if err != nil {
		return nil, err
	}
	return restore.New(p, target, guard)
}

// rehearsed plans a disk that exists already.
func rehearsed(t testing.TB, src disk.Mapped, made disk.Device, wish plan.Wish) *plan.Plan {
	t.Helper()
	p, err := plan.Rehearse(t.Context(), plan.Order{Source: src, Target: made.Identity(), Wish: wish})
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// kept is the wish that every part keeps its size.
func kept() plan.Wish { return plan.Wish{Wish: fit.Wish{Keep: true}} }

// putBack restores disk 0 of a twin with every part at its size, and proves it.
func putBack(t testing.TB, s *shelf.Shelf, twin *shelf.Twin, target string) (*shelf.Proof, error) {
	t.Helper()
	proof, _, err := putBackAs(t, s, twin, target, kept())
	return proof, err
}

// putBackAs restores disk 0 of a twin as it is wished and proves it.
func putBackAs(t testing.TB, s *shelf.Shelf, twin *shelf.Twin, target string,
	wish plan.Wish) (*shelf.Proof, *plan.Plan, error) {
	t.Helper()
	src, err := s.OpenDisk(t.Context(), twin, 0)
	if err != nil {
		t.Fatal(err)
	}
	proof, p, err := written(t, src, &twin.Disks[0], target, wish, s.Place())
	if err == nil {
		proof.Twin = twin.ID
		err = s.SaveProof(t.Context(), proof)
	}
	return proof, p, err
}

// written writes a source onto a target, and proves it, as far as that can be done meanwhile.
func written(t testing.TB, src disk.Mapped, describe *shelf.TwinDisk, target string, wish plan.Wish,
	shelves ...string) (proof *shelf.Proof, made *plan.Plan, err error) {
	t.Helper()
	p, err := planned(t, src, testkit.Target(t, target), &disk.Guard{Shelves: shelves}, wish)
	if err != nil {
		return nil, nil, err
	}
	dev := opened(t, target)
	e := prove.Begin(t.Context(), describe, p.Plan, dev)
	defer e.Stop()
	p.Follow = e.Wrote
	if err := testkit.Run(t, p.Run); err != nil {
		return nil, nil, err
	}
	err = testkit.Run(t, func(rc *run.Context) (err error) {
		proof, err = e.Target(rc, "test")
		return err
	})
	return proof, p.Plan, err
}

// restoreOnly writes a twin's disk onto a target.
func restoreOnly(t testing.TB, src *shelf.Disk, s *shelf.Shelf, target string) error {
	t.Helper()
	p, err := planned(t, src, testkit.Target(t, target), &disk.Guard{Shelves: []string{s.Place()}}, plan.Wish{})
	if err != nil {
		return err
	}
	return testkit.Run(t, p.Run)
}

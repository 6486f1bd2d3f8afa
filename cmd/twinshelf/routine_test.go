package main

import (
	"path/filepath"
	"testing"

	"twinshelf/internal/demotest"
	"twinshelf/internal/tmuxtest"
)

// TestScreenRoutines: the page shows how it stands with each routine, pauses one and runs one; its runs are shown one
// after the other, and its history has what became of it.
func TestScreenRoutines(t *testing.T) {
	p := newPlace(t)
	for _, args := range [][]string{
		{"new", "Kiosk, nightly", "C3E9", "--machine", "Harbour kiosk", "--when", "every day at 3:30",
			"--do", "capture", "--do", "prove"},
		{"new", "Shelf, weekly", "--do", "check 5 %", "--when", "every sunday at 3:00"},
	} {
		if out, errs, code := p.run("", append([]string{"--disk", p.disks, "--shelf", p.shelf, "routine"},
			args...)...); code != 0 {
			t.Fatalf("%s%s", out, errs)
		}
	}
	s := tmuxtest.Start(t, 120, 36, []string{"XDG_STATE_HOME=" + filepath.Join(p.dir, "state")}, demotest.Program(t),
		"--disk", p.disks, "--shelf", p.shelf)
	s.WaitFor("1 Bench", "Turnstone CF 4")
	s.WaitGone("Looking")
	s.Keys("9")
	s.WaitFor("Work that happens by itself", "Shelf, weekly", "never ran yet", "every day at 3:30",
		"Sandmartin S 64, SM640027C3E9", "capture, then prove")
	s.Keys("Space")
	s.WaitFor("is paused", "· paused")
	s.Keys("Space")
	s.WaitFor("runs again", "· due ")
	s.Keys("Enter")
	s.WaitFor("Proof of Harbour kiosk", "Kiosk, nightly: done. Captured onto Oak")
	s.Keys("9")
	s.WaitFor("done 20", "■ done", "proven: all")
	s.Keys("q")
	s.WaitFor("[exit 0]")
}

package main

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/demotest"
	"twinshelf/internal/routine"
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
	// A new one, which is changed line by line; one that erases is confirmed on a last page.
	s.Keys("n")
	s.WaitFor("A new routine that does what", "capture Ticket desk")
	s.Keys("Down", "Down", "Down", "Down", "Enter")
	s.WaitFor("KEEP IT", "machine: Ticket desk", "when: every weekday at 18:30")
	s.Keys("Down", "Enter", "C-u")
	s.Type("Desk spare")
	s.Keys("Enter")
	s.WaitFor("name: Desk spare")
	s.Keys("Down", "Down", "Down", "Down", "Enter", "C-u")
	s.Type("wipe")
	s.WaitFor("isn't known; possible are capture")
	s.Keys("C-u")
	s.Type("copy")
	s.WaitFor("onto 0 spares")
	s.Keys("Enter")
	s.WaitFor("do: copy", "it copies 1 disk onto 0 spares")
	s.Keys("End", "Enter")
	s.WaitFor("Add which line", "ERASES")
	s.Keys("End", "Enter")
	s.Type("Heron H1 1 TB, HH1-90C2E7731")
	s.Keys("Enter")
	s.WaitFor("spare: Heron H1 1 TB, HH1-90C2E7731", "next ")
	s.Keys("Home", "Enter")
	s.WaitFor("LAST PAGE", "and nobody", "HH1-90C2E••••", "whole serial number")
	s.Type("7731")
	s.Keys("Enter")
	s.WaitFor("Nothing was written")
	s.Keys("C-u")
	s.Type("hh1-90c2e7731")
	s.Keys("Enter")
	s.WaitFor("Desk spare is kept", "ERASES", "Heron H1 1 TB, HH1-90C2E7731")
	s.Keys("1")
	s.WaitFor("NEW OR BLANK")
	s.Keys("9")
	s.WaitFor("Desk spare")
	s.Keys("Delete")
	s.WaitFor("Forget Desk spare")
	s.Keys("Down", "Enter")
	s.WaitFor("Desk spare is forgotten", "Nothing that can be seen from here")
	// A process beside the screen runs what is due, is seen by others, and ends with the screen.
	s.Keys("w")
	s.WaitFor("What is due runs by itself while this screen is open")
	args := []string{"--disk", p.disks, "--shelf", p.shelf, "routine"}
	if out, errs, code := p.run("", append(args, "new", "Card", "A0D2", "--machine", "Weighbridge", "--when",
		"when older than 1 day")...); code != 0 {
		t.Fatalf("%s%s", out, errs)
	}
	s.WaitFor("Card", "done 20")
	if out, errs, code := p.run("", append(args, "watch")...); code == 0 || !strings.Contains(errs, "one is enough") {
		t.Errorf("%s%s", out, errs)
	}
	s.Keys("w")
	s.WaitFor("Nothing runs by itself from here any more")
	s.Keys("w")
	s.WaitFor("What is due runs by itself while this screen is open")
	s.Keys("q")
	s.WaitFor("[exit 0]")
	lock, err := routine.NewBook(filepath.Join(p.dir, "state/twinshelf/routines")).LockWatch()
	if err != nil {
		t.Fatalf("it watches after the screen was left: %v", err)
	}
	lock.Close()
}

// TestRoutineStop: a run of another process is shown as it goes, and stopped.
func TestRoutineStop(t *testing.T) {
	p := newPlace(t)
	do := func(args ...string) (string, int) {
		t.Helper()
		out, errs, code := p.run("", append([]string{"--disk", p.disks, "--shelf", p.shelf, "routine"}, args...)...)
		return out + errs, code
	}
	if said, code := do("new", "Kiosk", "C3E9", "--machine", "Harbour kiosk"); code != 0 {
		t.Fatal(said)
	}
	b := routine.NewBook(filepath.Join(p.dir, "state/twinshelf/routines"))
	lock, err := b.Lock("Kiosk")
	if err != nil {
		t.Fatal(err)
	}
	began := time.Now()
	if err := b.Show("Kiosk", routine.Live{Began: began, Seen: began, Process: 7, Phase: "Read and store", Done: 3,
		Total: 4}); err != nil {
		t.Fatal(err)
	}
	if said, code := do("show", "Kiosk"); code != 0 || !strings.Contains(said, "Read and store, 75 %") {
		t.Errorf("%s", said)
	}
	if said, code := do("run", "Kiosk"); code == 0 || !strings.Contains(said, "running already") {
		t.Errorf("%s", said)
	}
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for !b.StopAsked("Kiosk", began) {
			time.Sleep(10 * time.Millisecond)
		}
		lock.Close()
	}()
	if said, code := do("stop", "Kiosk"); code != 0 || !strings.Contains(said, "was stopped") {
		t.Errorf("%s", said)
	}
	<-ended
	if said, code := do("stop", "Kiosk"); code == 0 || !strings.Contains(said, "isn't running") {
		t.Errorf("%s", said)
	}
}

// TestRoutineErases: a routine that erases a spare is kept only once its whole serial number was typed.
func TestRoutineErases(t *testing.T) {
	p := newPlace(t)
	new := func(in string, more ...string) (string, int) {
		t.Helper()
		args := []string{"--disk", p.disks, "--shelf", p.shelf, "routine", "new", "Spare", "C3E9", "--spare", "7731",
			"--do", "copy", "--when", "every friday at 12:00"}
		out, errs, code := p.run(in, append(args, more...)...)
		return out + errs, code
	}
	for _, in := range []string{"", "7731\n", "yes\n", "SM640027C3E9\n"} {
		if said, code := new(in); code == 0 || !strings.Contains(said, "nothing was written") {
			t.Errorf("%q: status %d: %s", in, code, said)
		}
	}
	if out, _, _ := p.run("", "routine", "list"); !strings.Contains(out, "No routine") {
		t.Errorf("it is kept: %s", out)
	}
	if said, code := new("HH1-90C2E7731\n"); code != 0 || !strings.Contains(said, "each time that this routine runs, "+
		"everything on Heron H1 1 TB") && !strings.Contains(said, "Each time") {
		t.Errorf("%s", said)
	}
	run := []string{"--disk", p.disks, "--shelf", p.shelf, "routine", "run", "Spare"}
	if out, errs, code := p.run("", run...); code != 0 || !strings.Contains(out, "copied onto 1 spare") {
		t.Errorf("%s%s", out, errs)
	}
}

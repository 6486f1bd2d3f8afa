package tui

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestAttachedDisksAnnounceThemselves: a disk that is attached while the program runs is named with what it could be,
// and nothing moves; one that is taken away is let go of, wherever it was chosen.
func TestAttachedDisksAnnounceThemselves(t *testing.T) {
	m := onDisk(opened(t), "Kestrel K2 256")
	mm := m.(*model)
	dir := filepath.Dir(mm.benchPage.chosen().Path)
	img := filepath.Join(dir, "auk.img")
	if err := os.WriteFile(img+".label.json", []byte(`{"model": "Auk A 32", "serial": "AA32-00C0FFEE"}`),
		0o600); err != nil {
		t.Fatal(err)
	}
	f, err := os.Create(img)
	if err != nil {
		t.Fatal(err)
	}
	if err := f.Truncate(32e9); err != nil {
		t.Fatal(err)
	}
	f.Close()
	n := len(mm.disks)
	m = feed(m, lookForNew{})
	if len(mm.disks) != n+1 || mm.benchPage.chosen().Identity.Model != "Kestrel K2 256" ||
		!strings.Contains(mm.note, "Attached: Auk A 32 …FFEE, blank. On the Bench n goes to it: w takes it as target") {
		t.Fatalf("%d disks, at %s: %q", len(mm.disks), mm.benchPage.chosen().Identity.Model, mm.note)
	}
	mm.note = ""
	if m = feed(m, lookForNew{}); mm.note != "" {
		t.Errorf("it is announced twice: %q", mm.note)
	}
	if m = key(m, "n"); mm.benchPage.chosen().Identity.Model != "Auk A 32" {
		t.Errorf("n goes to %s", mm.benchPage.chosen().Identity.Model)
	}
	m = key(m, "w")
	if mm.target == nil {
		t.Fatalf("%q", mm.note)
	}
	os.Remove(img)
	os.Remove(img + ".label.json")
	m = feed(m, lookForNew{})
	if mm.target != nil || len(mm.disks) != n || !strings.Contains(mm.note, "Taken away: Auk A 32 …FFEE") {
		t.Errorf("it is still there: %v %q", mm.target, mm.note)
	}
	if m = key(m, "n"); !strings.Contains(mm.note, "No disk was attached") {
		t.Errorf("%q", mm.note)
	}
	_ = m
}

// TestCursorStaysOnItsDisk: looking at all disks again, as after every run, leaves the cursor on the same disk.
func TestCursorStaysOnItsDisk(t *testing.T) {
	m := opened(t)
	mm := m.(*model)
	for _, d := range mm.disks {
		m = onDisk(m, d.Identity.Model)
		if m = key(m, "a"); mm.benchPage.chosen().Identity.Model != d.Identity.Model {
			t.Errorf("from %s to %s", d.Identity.Model, mm.benchPage.chosen().Identity.Model)
		}
	}
}

// TestListedTwice: disks that are listed once more while they are being looked at are looked at again, and once all
// of that is over the screen knows it.
func TestListedTwice(t *testing.T) {
	m := opened(t)
	mm := m.(*model)
	list := listed{mm.w.Bench.List()}
	_, first := m.Update(list)
	_, second := m.Update(list)
	if mm.looking != 2*len(mm.disks) {
		t.Errorf("%d disks are being looked at, %d are listed", mm.looking, len(mm.disks))
	}
	does(does(m, first), second)
	if mm.looking != 0 {
		t.Errorf("%d disks are still being looked at", mm.looking)
	}
}

package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/demotest"
	"twinshelf/internal/testkit"
	"twinshelf/internal/tmuxtest"
)

func TestReadyCommands(t *testing.T) {
	p := newPlace(t)
	base := []string{"--disk", p.disks, "--shelf", p.shelf, "ready"}
	for _, c := range []struct {
		in   string
		args []string
		code int
		says string
	}{
		{"", nil, 2, "what is to be done"},
		{"", []string{"lay"}, 2, "needs the disk"},
		{"", []string{"lay", "9999"}, 2, "no disk on the bench"},
		{"", []string{"lay", "7731", "--part", "250 GB:ext4:oak", "--plan"}, 0, "Make ext4 “oak” on part 1"},
		{"", []string{"lay", "7731", "--part", "250:ext4"}, 2, "has no unit"},
		{"", []string{"lay", "7731", "--part", "0 GB"}, 2, "nothing at all"},
		{"", []string{"lay", "7731", "--part", "-5 GB"}, 2, "doesn't begin with a number"},
		{"", []string{"lay", "7731", "--part", "2 TB"}, 2, "too little"},
		{"", []string{"lay", "7731", "--part", "500 TB"}, 2, "was 500 GB meant?"},
		{"", []string{"lay", "7731", "--part", "1 TB", "--part", "1 TB"}, 2, "too little"},
		{"", []string{"lay", "7731", "--part", "rest:FAT16"}, 2, "too large for FAT16"},
		{"", []string{"lay", "7731", "--part", "rest:exFAT:a label that is too long"}, 2, "takes up to"},
		{"", []string{"lay", "7731", "--part", "used on nobody"}, 2, "no twin of"},
		{"", []string{"lay", "7731", "--table", "paper"}, 2, "no kind of table"},
		{"", []string{"lay", "7731", "--for", "storage", "--dates", "30", "--plan"}, 0, "and a tenth to spare"},
		{"", []string{"lay", "7731", "--for", "storage", "--machine", "Nobody"}, 2, "no twin of"},
		{"", []string{"lay", "7731", "--for", "shared", "--with", "Windows,macOS", "--label", "FERRY", "--plan"}, 0,
			"exFAT is read and written by Windows, macOS"},
		{"", []string{"lay", "7731", "--for", "system", "--twin", "Weighbridge", "--plan"}, 0, "Make FAT16"},
		{"", []string{"lay", "7731", "--for", "split", "--kinds", "ext4,NTFS", "--plan"}, 0, "Make NTFS on part 2"},
		{"", []string{"lay", "7731", "--for", "dancing"}, 2, "no purpose"},
		{"", []string{"add", "7731", "--part", "rest"}, 1, "can only be laid out anew"},
		{"", []string{"add", "40B1"}, 2, "--part"},
		{"", []string{"add", "40B1", "--part", "5 TB"}, 2, "too little"},
		{"", []string{"change", "40B1", "9", "--remove"}, 2, "no part 9"},
		{"", []string{"change", "40B1", "3", "--size", "1 GB"}, 2, "can't shrink"},
		{"", []string{"change", "40B1", "3", "--label", "x"}, 2, "--format"},
		{"", []string{"change", "40B1", "2", "--name", "Reserved by the harbour", "--plan"}, 0, "nothing is lost"},
		{"", []string{"change", "40B1", "4", "--format", "exFAT", "--label", "spare", "--plan"}, 0, "1 part is lost"},
		{"", []string{"change", "D98F", "1", "--name", "x"}, 2, "an MBR keeps no names"},
		{"", []string{"erase", "7731"}, 2, "quick, zeros, random, discard or check"},
		{"", []string{"erase", "40B1", "--how", "zeros", "--plan"}, 0, "Flash keeps spare areas"},
		{"", []string{"erase", "D98F", "--how", "zeros", "--plan"}, 0, "On a rotating drive"},
		{"", []string{"back", "7731"}, 1, "no keepsake"},
		{"", []string{"mount", "7731", "1"}, 1, "no part 1"},
		{"", []string{"unmount", "7731"}, 1, "nothing of"},
		{"0000\n", []string{"lay", "7731", "--part", "rest:ext4"}, 3, "nothing was written"},
	} {
		out, errs, code := p.run(c.in, append(append([]string{}, base...), c.args...)...)
		if code != c.code || !strings.Contains(out+errs, c.says) {
			t.Errorf("%q: status %d, want %d and %q:\n%s%s", c.args, code, c.code, c.says, out, errs)
		}
	}
}

// TestFirstStorageDrive: before anything was captured there is no machine to size the part for.
func TestFirstStorageDrive(t *testing.T) {
	p := newPlace(t)
	lay := []string{"--disk", p.disks, "ready", "lay", "7731", "--for", "storage"}
	out, errs, code := p.run("", append(lay, "--plan")...)
	if code != 0 || !strings.Contains(out, "takes all the room") || strings.Contains(out, "Next:") {
		t.Errorf("%d\n%s%s", code, out, errs)
	}
	out, errs, code = p.run("7731\n", lay...)
	if code != 0 || !strings.Contains(out, "ext4  shelf  1.00 TB") || !strings.Contains(out, "Next: mount") {
		t.Errorf("%d\n%s%s", code, out, errs)
	}
	if _, errs, code := p.run("", append(lay, "--machine", "Ticket desk")...); code != 2 ||
		!strings.Contains(errs, "nothing is known") {
		t.Errorf("%d %s", code, errs)
	}
}

// TestReadyByCommand goes through a disk's life: laid out, changed, refused, put back, erased.
func TestReadyByCommand(t *testing.T) {
	testkit.Need(t, "blkid")
	p := newPlace(t)
	img := filepath.Join(p.disks, "heron-1tb.img")
	ready := func(code int, args ...string) string {
		t.Helper()
		out, errs, got := p.run("", append([]string{"--disk", p.disks, "--shelf", p.shelf, "ready"}, args...)...)
		if got != code {
			t.Fatalf("%q: status %d\n%s%s", args, got, out, errs)
		}
		return out + errs
	}
	type shown struct {
		Parts []struct {
			Number int    `json:"number"`
			Size   int64  `json:"size"`
			Kind   string `json:"file_system"`
			Label  string `json:"label"`
		} `json:"parts"`
	}
	var plan struct {
		Planned shown `json:"planned"`
		Summary struct {
			Confirm string   `json:"confirm"`
			Lost    []string `json:"lost"`
		} `json:"summary"`
	}
	lay := []string{"lay", "7731", "--part", "512 MiB:FAT32:START", "--part", "rest/2:ext4:oak", "--part",
		"rest:exFAT:ferry"}
	if err := json.Unmarshal([]byte(ready(0, append(lay, "--plan", "--json")...)), &plan); err != nil ||
		len(plan.Planned.Parts) != 3 || plan.Summary.Confirm != "7731" {
		t.Fatalf("%v %+v", err, plan)
	}
	if st, err := os.Stat(img); err != nil || blocks(t, img) != 0 {
		t.Fatalf("--plan wrote: %v %v", st, err)
	}
	var after struct {
		Disks []shown `json:"disks"`
	}
	if err := json.Unmarshal([]byte(ready(0, append(lay, "--confirm", "7731", "--json")...)), &after); err != nil ||
		len(after.Disks) != 1 || fmt.Sprint(after.Disks[0].Parts) != fmt.Sprint(plan.Planned.Parts) {
		t.Errorf("%v: planned %v, is %v", err, plan.Planned.Parts, after.Disks)
	}
	if out := testkit.Do(t, "blkid", "-p", "-O", fmt.Sprint(513<<20), img); !strings.Contains(out, `LABEL="oak"`) {
		t.Errorf("blkid: %s", out)
	}
	ready(0, "change", "7731", "3", "--remove", "--confirm", "7731")
	ready(0, "add", "7731", "--part", "100 GB:NTFS:tariffs", "--confirm", "7731")
	if out := ready(0, "back", "7731", "--list"); strings.Count(out, "before change of the table") != 2 ||
		!strings.Contains(out, "before laying out anew") {
		t.Errorf("keepsakes:\n%s", out)
	}
	if out := ready(0, "back", "7731", "--confirm", "7731"); strings.Contains(out, "tariffs”\n    1") ||
		!strings.Contains(out, "oak") {
		t.Errorf("%s", out)
	}
	ready(0, "erase", "7731", "--how", "quick", "--confirm", "7731")
	if out, err := testkit.Try("blkid", "-p", img); err == nil {
		t.Errorf("still recognised: %s", out)
	}
	if out := ready(0, "back", "7731", "--confirm", "7731"); !strings.Contains(out, "oak") {
		t.Errorf("%s", out)
	}
	ready(0, "erase", "7731", "--how", "discard", "--confirm", "7731")
	if n := blocks(t, img); n != 0 {
		t.Errorf("%d blocks are left after discarding", n)
	}
	// A disk that was put out of reach stays so.
	padlocked(t, p)
	if out := ready(3, "erase", "B41C8", "--how", "quick", "--confirm", "41C8"); !strings.Contains(out,
		"out of reach") {
		t.Errorf("%s", out)
	}
}

// padlocked remembers that the storage drive is out of reach, as the demo's own state does.
func padlocked(t *testing.T, p place) {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(p.dir, "demo/state/state.json"))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(p.dir, "state/twinshelf/state.json"), b, 0o600); err != nil {
		t.Fatal(err)
	}
}

// blocks is how many blocks of a sparse file hold something.
func blocks(t *testing.T, path string) int64 {
	t.Helper()
	out := strings.Fields(testkit.Do(t, "du", "--block-size=1", path))
	var n int64
	if _, err := fmt.Sscan(out[0], &n); err != nil {
		t.Fatal(err)
	}
	return n
}

func TestScreenMakesReady(t *testing.T) {
	testkit.Need(t, "blkid", "fsck.exfat")
	b := demotest.Bench(t)
	img := filepath.Join(b.Disks, "heron-1tb.img")
	s := tmuxtest.Start(t, 120, 40, []string{"XDG_STATE_HOME=" + t.TempDir()}, demotest.Program(t), "--disk", b.Disks,
		"--shelf", b.Shelf)
	s.WaitFor("Kestrel K2 256")
	s.WaitGone("Looking")
	s.Keys("2")
	s.WaitFor("Press t and choose the disk")
	s.Keys("t")
	s.WaitFor("blank: nothing would be lost")
	s.Keys("Enter")
	s.WaitFor("LAYS OUT A BLANK DISK", "nothing is lost")
	s.Keys("a")
	s.Type("250 G")
	s.WaitFor("250 GB (233 GiB), 25.0 % of the disk; 750 GB (699 GiB) stay free", "1 Linux data (new)")
	s.Type("X")
	s.WaitFor("is no unit that is known")
	s.Keys("BSpace", "Enter")
	s.WaitFor("File system of part 1")
	s.Keys("Enter") // ext4
	s.WaitFor("Label of the ext4")
	s.Type("oak")
	s.Keys("Enter", "e")
	s.WaitFor("among 2 parts")
	s.Keys("e")
	s.WaitFor("among 3 parts")
	s.Keys("u", "End", "a", "Enter")
	s.WaitFor("File system of part 2")
	s.Keys("Home", "Enter")
	s.WaitFor("Label of the exFAT")
	s.Type("ferry")
	s.Keys("Enter")
	s.WaitFor("2 ferry (new)", "0 B (0 B) free", "are written and read back")
	s.Keys("Enter")
	s.WaitFor("LAST PAGE", "laid out anew", "Make exFAT “ferry” on part 2")
	s.Type("0000")
	s.Keys("Enter")
	s.WaitFor("Nothing was written")
	s.Keys("BSpace", "BSpace", "BSpace", "BSpace")
	s.Type("7731")
	s.Keys("Enter")
	s.WaitFor("Making Heron H1 1 TB", "done, and read back", "TARGET  before", "WRITES  written")
	s.Keys("2")
	s.WaitFor("Adds to what is there", "all of its 2 parts stay")
	if out := testkit.Do(t, "blkid", "-p", "-O", "1048576", img); !strings.Contains(out, `LABEL="oak"`) {
		t.Errorf("blkid: %s", out)
	}
	s.Keys("d")
	s.WaitFor("LOSES 1 PART", "✗ goes   1 oak, ext4")
	s.Keys("u", "o")
	s.WaitFor("LAYS THE DISK OUT ANEW", "LOSES 2 PARTS")
	s.Keys("p")
	s.WaitFor("What is this disk for?")
	s.Keys("Enter")
	s.WaitFor("[■] Ticket desk")
	s.Keys("Enter")
	s.WaitFor("Room for how many dates")
	s.Keys("Enter")
	s.WaitFor("1 shelf (new)", "and a tenth to spare")
	s.Keys("x")
	s.WaitFor("where does the drive go next", "ERASES EVERYTHING")
	s.Keys("Enter")
	s.WaitFor("LAST PAGE", "is erased: quick")
	s.Keys("Escape")
	s.WaitFor("Nothing was written")
	s.Keys("b")
	s.WaitFor("LAST PAGE", "is put back", "laying out anew")
	s.Type("7731")
	s.Keys("Enter")
	s.WaitFor("Putting back", "done")
	s.Keys("2")
	s.WaitFor("LAYS OUT A BLANK DISK")
	if out, err := testkit.Try("blkid", "-p", img); err == nil {
		t.Errorf("still recognised: %s", out)
	}
	s.Keys("q")
	s.WaitFor("[exit 0]")
}

// TestPuttingBackSparesParts: the last page of putting back tells what goes from what stays as it is.
func TestPuttingBackSparesParts(t *testing.T) {
	p := place{t: t, dir: t.TempDir()}
	img := filepath.Join(p.dir, "pier.img")
	testkit.Sparse(t, img, 300<<20)
	do := func(args ...string) string {
		t.Helper()
		out, errs, code := p.run("", append(args, "--disk", img)...)
		if code != 0 {
			t.Fatalf("%q: %s%s", args, out, errs)
		}
		return out
	}
	do("ready", "lay", img, "--part", "100 MB:ext4:fares", "--part", "50 MB:ext4:notes", "--confirm", "315 MB")
	do("ready", "add", img, "--part", "50 MB:ext4:spare", "--confirm", "315 MB")
	_, plan, _ := strings.Cut(do("ready", "back", img, "--plan"), "Lost:")
	lost, stays, _ := strings.Cut(plan, "Stays:")
	if !strings.Contains(lost, "spare") || strings.Contains(lost, "fares") || !strings.Contains(stays, "fares") ||
		!strings.Contains(stays, "notes") {
		t.Errorf("%s\nStays: %s", lost, stays)
	}
	do("ready", "back", img, "--confirm", "315 MB")
	if out := do("bench", img); !strings.Contains(out, "notes") || strings.Contains(out, "spare") {
		t.Errorf("%s", out)
	}
}

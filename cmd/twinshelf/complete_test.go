package main

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// TestCompletion: the shell is told disks, machines, dates, parts and values, with what they are, and nothing asks.
func TestCompletion(t *testing.T) {
	p := newPlace(t)
	bench := []string{"--disk", p.disks, "--shelf", p.shelf}
	for line, want := range map[string][]string{
		"restore|": {"Ticket desk\tits newest twin", "Harbour kiosk\tits newest twin",
			"\tPurser's laptop, 2026-11-09"},
		"restore|ti":           {"Ticket desk\t"},
		"restore|Ticket desk|": {"heron-1tb.img\tHeron H1 1 TB HH1-90C2E7731, 1.00 TB"},
		"capture|--machine|h":  {"Harbour kiosk"},
		"ready|mount|" + filepath.Join(p.disks, "purser-1.img") + "|": {"1\tPURSERBOOT", "2\tpurser-root"},
		"ready|erase|7731|--how|":                                     {"quick", "zeros", "random", "discard"},
		"ready|lay|7731|--for|s":                                      {"storage", "shared", "system", "split"},
		"take|x|y|--clash|r":                                          {"replace"},
	} {
		args := strings.Split(line, "|")
		out, errs, code := p.run("", slices.Concat([]string{"__complete"}, bench, args)...)
		for _, w := range want {
			if !strings.Contains(out, w) {
				t.Errorf("%s: no %q in %q %s", line, w, out, errs)
			}
		}
		if code != 0 || !strings.HasSuffix(strings.TrimSpace(out), ":0") {
			t.Errorf("%s: status %d, %q", line, code, out)
		}
	}
}

// TestQuietAndLog: with --quiet only the result is said; what was done stands in the log, which doesn't grow for ever.
func TestQuietAndLog(t *testing.T) {
	p := newPlace(t)
	out, errs, code := p.run("", "prove", "Harbour kiosk", "--quiet", "--shelf", p.shelf)
	if code != 0 || errs != "" || !strings.Contains(out, "claims hold") {
		t.Errorf("%d %q %q", code, out, errs)
	}
	if _, errs, _ = p.run("", "prove", "Harbour kiosk", "--shelf", p.shelf); !strings.Contains(errs, "took") {
		t.Errorf("nothing says how long it took: %q", errs)
	}
	logs, _ := filepath.Glob(filepath.Join(p.dir, "state/twinshelf/*.log"))
	if len(logs) != 1 {
		t.Fatalf("%v", logs)
	}
	b, err := os.ReadFile(logs[0])
	if err != nil {
		t.Fatal(err)
	}
	for _, w := range []string{"prove Harbour kiosk --quiet", `work="Proof of Harbour kiosk"`, "state=done",
		"status=0"} {
		if !strings.Contains(string(b), w) {
			t.Errorf("the log doesn't say %q:\n%s", w, b)
		}
	}
	if err := os.WriteFile(logs[0], slices.Concat(b, make([]byte, 2<<20)), 0o600); err != nil {
		t.Fatal(err)
	}
	p.run("", "dates", "--shelf", p.shelf)
	now, err := os.Stat(logs[0])
	old, errOld := os.Stat(logs[0] + ".1")
	if err != nil || errOld != nil || now.Size() > 1<<20 || old.Size() < 2<<20 {
		t.Errorf("%v %v", err, errOld)
	}
}

// TestCapturePlanLists: a plan names disks and parts, what is left out and why.
func TestCapturePlanLists(t *testing.T) {
	p := newPlace(t)
	out, errs, code := p.run("", "capture", "C3E9", "--plan", "--without", "1", "--disk", p.disks, "--shelf", p.shelf)
	for _, w := range []string{"Sandmartin S 64, 64.0 GB",
		"part 1, KIOSKSTART (FAT32), 105 MB: left out: you asked for that", "part 2, kiosk-root (ext4)",
		"without swapped-out memory", "belongs to a system that no longer runs"} {
		if code != 0 || !strings.Contains(out, w) {
			t.Errorf("no %q in %s %s", w, out, errs)
		}
	}
	if out, _, _ = p.run("", "capture", "C3E9", "--plan", "--json", "--disk", p.disks, "--shelf",
		p.shelf); !strings.Contains(out, `"omits"`) || !strings.Contains(out, `"used"`) {
		t.Errorf("%s", out)
	}
}

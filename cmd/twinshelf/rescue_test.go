package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/disk"
)

// slowed makes a stand-in's bad places take so long.
func slowed(t *testing.T, img string, seconds float64) {
	t.Helper()
	l, err := disk.ReadLabel(img)
	if err != nil {
		t.Fatal(err)
	}
	l.Faults.BadSeconds = seconds
	b, err := json.Marshal(l)
	if err == nil {
		err = os.WriteFile(disk.LabelPath(img), b, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// TestKilledRescue kills the program in the middle of sittings: what they made durable stays, the next one goes on from
// it, at the end a single twin of the rescue is left, and the shelf is whole.
func TestKilledRescue(t *testing.T) {
	p := newPlace(t)
	img := filepath.Join(p.disks, "slipway-crane.img")
	slowed(t, img, 0.15)
	rescue := []string{"--shelf", p.shelf, "--disk", p.disks, "rescue", "E6F5", "--quiet"}
	twins := func() (found []string) {
		files, _ := filepath.Glob(filepath.Join(p.shelf, "twins/*/*.twin"))
		for _, f := range files {
			if b, err := os.ReadFile(f); err == nil && strings.Contains(string(b), `"rescue":`) {
				found = append(found, f)
			}
		}
		return found
	}
	for i := range 3 {
		c := p.command(rescue...)
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		for n, begun := len(twins()), time.Now(); len(twins()) <= n && time.Since(begun) < time.Minute; {
			time.Sleep(20 * time.Millisecond)
		}
		time.Sleep(time.Duration(i) * 700 * time.Millisecond)
		_ = c.Process.Kill()
		_ = c.Wait()
		if out, errs, code := p.run("", "--shelf", p.shelf, "shelf", "check", "--full"); code != 0 {
			t.Fatalf("after kill %d: %s%s", i, out, errs)
		}
	}
	slowed(t, img, 0)
	out, errs, code := p.run("", append(rescue, "--json")...)
	if code != 4 {
		t.Fatalf("status %d: %s", code, errs)
	}
	var twin struct {
		Unreadable int64 `json:"unreadable_bytes"`
		Rescue     struct{ Sittings []struct{ Done bool } }
	}
	if err := json.Unmarshal([]byte(out), &twin); err != nil {
		t.Fatal(err)
	}
	l, err := disk.ReadLabel(img)
	if err != nil {
		t.Fatal(err)
	}
	if twin.Unreadable != l.Unreadable.Total() || len(twin.Rescue.Sittings) < 2 || len(twins()) != 1 {
		t.Errorf("%d bytes are missing, %d can't be read; %d sittings, %d twins", twin.Unreadable, l.Unreadable.Total(),
			len(twin.Rescue.Sittings), len(twins()))
	}
	if out, errs, code := p.run("", "--shelf", p.shelf, "shelf", "check", "--full"); code != 0 {
		t.Errorf("%s%s", out, errs)
	}
	for _, to := range [][]string{{"--to", filepath.Join(p.dir, "out")}, {"--tar", filepath.Join(p.dir, "out.tar")}} {
		take := append([]string{"--shelf", p.shelf, "--quiet", "take", "Slipway crane",
			"1:srv/crane/load-cells-2026.dat"}, to...)
		out, errs, code := p.run("", take...)
		if code != 4 || !strings.Contains(out, "1 file has a gap") || !strings.Contains(out,
			"246 kB of it couldn't be read") {
			t.Errorf("a file with a gap, taken out %v: %d %s%s", to, code, out, errs)
		}
		out, errs, code = p.run("", append(append(slices.Clone(take[:5]), "1:srv/crane/limits.csv"), to[0],
			to[1]+"2")...)
		if code != 0 || strings.Contains(out, "gap") {
			t.Errorf("a whole file, taken out %v: %d %s%s", to, code, out, errs)
		}
	}
	if out, errs, code = p.run("", "--shelf", p.shelf, "prove", "Slipway crane"); !strings.Contains(out+errs,
		"246 kB") {
		t.Errorf("its proof says nothing of what is missing (%d): %s%s", code, out, errs)
	}
}

// TestScreenRescue looks at a failing drive on the real screen, and gets from it what can be got.
func TestScreenRescue(t *testing.T) {
	s := demoScreen(t, 140, 40)
	s.WaitFor("MACHINES", "failing: 212 sectors")
	s.Keys("/")
	s.WaitFor("Model, serial number")
	s.Type("E6F5")
	s.Keys("Enter")
	s.WaitFor("copy it before", "anything else")
	s.Keys("H")
	s.WaitFor("pending sectors", "212", "failed in reading at sector")
	s.Keys("H", "R")
	s.WaitFor("how far shall this sitting go", "the first sitting")
	s.Keys("Enter")
	s.WaitFor("1 file hit: 1:srv/crane/load-cells-2026.dat", "is on the shelf")
	s.Keys("4")
	s.WaitFor("Rescue, 1 sitting, 99.99 %", "weren't tried yet")
}

package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestUnreadIsSaid: a proof or a twin that can't be read isn't passed over in silence.
func TestUnreadIsSaid(t *testing.T) {
	p := newPlace(t)
	twins, err := filepath.Glob(filepath.Join(p.shelf, "twins", "ticket-desk-*", "*.twin"))
	if err != nil || len(twins) != 3 {
		t.Fatal(twins, err)
	}
	last := twins[2]
	id := strings.TrimSuffix(filepath.Base(last), ".twin")
	proof := filepath.Join(p.shelf, "proofs", id, "20261120T190000Z")
	if err := os.MkdirAll(filepath.Dir(proof), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(proof, []byte("torn"), 0o600); err != nil {
		t.Fatal(err)
	}
	out, _, code := p.run("", "--shelf", p.shelf, "dates", id)
	if code != 0 || strings.Contains(out, "not proven yet") ||
		!strings.Contains(out, "whether it is proven can't be told") {
		t.Errorf("with a torn proof: status %d\n%s", code, out)
	}
	out, _, code = p.run("", "--shelf", p.shelf, "dates", id, "--json")
	if code != 0 || !strings.Contains(out, `"proofs_unread"`) {
		t.Errorf("with a torn proof: status %d\n%s", code, out)
	}
	if err := os.Remove(last); err != nil { // its copy is left
		t.Fatal(err)
	}
	heron := filepath.Join(p.disks, "heron-1tb.img")
	restore := []string{"--shelf", p.shelf, "restore", "Ticket desk", heron, "--plan"}
	if out, errs, code := p.run("", restore...); code != 2 ||
		!strings.Contains(errs, "a later twin of it can't be read ("+id) {
		t.Errorf("the newest: status %d\n%s%s", code, out, errs)
	}
	restore = []string{"--shelf", p.shelf, "restore", "Ticket desk", "2026-10-30", heron, "--plan"}
	if out, errs, code := p.run("", restore...); code != 0 {
		t.Errorf("another date: status %d\n%s%s", code, out, errs)
	}
	if err := os.Remove(proof); err != nil {
		t.Fatal(err)
	}
	if _, errs, code := p.run("", "--shelf", p.shelf, "shelf", "check", "--mend"); code != 0 {
		t.Errorf("mend: status %d\n%s", code, errs)
	}
	restore[4] = "newest"
	if out, errs, code := p.run("", restore...); code != 0 || !strings.Contains(out, "2026-11-20") {
		t.Errorf("the newest, mended: status %d\n%s%s", code, out, errs)
	}
}

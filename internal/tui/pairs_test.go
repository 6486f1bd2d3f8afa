package tui

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/demo"
	"twinshelf/internal/demotest"
	"twinshelf/internal/disk"
	"twinshelf/internal/workshop"
)

// withBlank is the screen on a demo bench that has one more blank disk.
func withBlank(t *testing.T) tea.Model {
	t.Helper()
	b := demotest.Bench(t)
	for _, own := range []string{"purser-1.img", "purser-2.img"} { // the machine is elsewhere
		os.Remove(filepath.Join(b.Disks, own))
	}
	return with(t, b, 600e9, disk.Label{Model: "Curlew 600", Serial: "CU600-0000EE12", Bus: "SATA"})
}

// with is the screen on a demo bench that has more blank disks, of so many bytes.
func with(t *testing.T, b demo.Bench, size int64, labels ...disk.Label) tea.Model {
	t.Helper()
	for _, l := range labels {
		img := filepath.Join(b.Disks, l.Serial+".img")
		text, err := json.Marshal(l)
		if err == nil {
			err = errors.Join(disk.CreateImage(img, size), os.WriteFile(disk.LabelPath(img), text, 0o600))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	w, err := workshop.New(b.State, []string{b.Disks}, false)
	if err != nil {
		t.Fatal(err)
	}
	if err := w.OpenShelf(t.Context(), b.Shelf); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(w.Shelf.Close)
	return does(feed(newModel(context.Background(), w), tea.WindowSizeMsg{Width: 120, Height: 36}), nil)
}

// TestTwoDisksTwoTargets: each disk of a machine gets a target of its own, each is confirmed, and one run writes both.
func TestTwoDisksTwoTargets(t *testing.T) {
	m := withBlank(t)
	m = does(m, m.Init())
	mm := m.(*model)
	m = onMachine(m, "Purser's laptop")
	m = key(m, "enter")
	if mm.target == nil || mm.target.Identity.Model != "Curlew 600" ||
		!strings.Contains(text(m), "disk 2  Cormorant C 500 …D98F  →  Heron H1") {
		t.Fatalf("not proposed:\n%s", text(m))
	}
	m = key(m, "d", "n")
	if mm.target != nil || !strings.Contains(text(m), "what is on it will be missing") {
		t.Errorf("it isn't left out:\n%s", text(m))
	}
	m = key(m, "t")
	if n := mm.menus.menu; n == nil || !strings.Contains(n.choices[0].name, "Heron H1 1 TB") || n.choices[0].no != "" ||
		n.choices[len(n.choices)-1].no == "" {
		t.Fatalf("the blank disk isn't first, or what can't be written not last:\n%s", text(m))
	}
	if m = key(m, "end", "enter"); mm.menus.menu == nil || !mm.alarm {
		t.Errorf("what can't be written is taken:\n%s", text(m))
	}
	m = key(m, "home", "enter")
	if mm.target == nil || mm.target.Identity.Model != "Heron H1 1 TB" {
		t.Fatalf("the target can't be chosen: %+v", mm.target.Identity)
	}
	m = key(m, "enter")
	for _, serial := range []string{"EE12", "7731"} {
		if mm.lastPage.summary == nil || mm.lastPage.summary.Confirm != serial ||
			strings.Contains(strings.Join(mm.lastPage.summary.Doubts, ""), "gets no target") {
			t.Fatalf("%s: %+v\n%s", serial, mm.lastPage.summary, text(m))
		}
		m = key(m, strings.Split(serial, "")...)
		m = key(m, "enter")
	}
	if err := mm.runPage.run.Wait(); err != nil {
		t.Fatal(err)
	}
	m = feed(m, ticked{})
	if p := mm.proofPage.proof; p == nil || !p.Holds() || !strings.Contains(p.Of, "; Heron") {
		t.Errorf("%+v\n%s", p, text(m))
	}
	if p, _ := mm.w.Shelf.Proofs(t.Context(), mm.datesPage.twin().ID); len(p) != 2 {
		t.Errorf("%d proofs are kept", len(p))
	}
}

// TestCopyOnTheScreen: a disk is copied onto another one without a twin.
func TestCopyOnTheScreen(t *testing.T) {
	m := opened(t)
	mm := m.(*model)
	m = key(onDisk(targeted(m), "Turnstone CF 4"), "c")
	if mm.step != stepFit || mm.fitPage.copies == "" || mm.fitPage.pair == nil || mm.fitPage.pair.Bench == nil ||
		!strings.Contains(text(m), "Turnstone CF 4") {
		t.Fatalf("%v\n%s", mm.fitPage.restoreErr, text(m))
	}
	m = key(m, "enter")
	if mm.lastPage.summary == nil || !strings.Contains(text(m), "as it is now") ||
		!strings.Contains(text(m), "the same identity") {
		t.Fatalf("\n%s", text(m))
	}
	m = key(m, "7", "7", "3", "1", "enter")
	if err := mm.runPage.run.Wait(); err != nil {
		t.Fatal(err)
	}
	m = feed(m, ticked{})
	if mm.proofPage.proof == nil || !mm.proofPage.proof.Holds() || !strings.Contains(text(m), "claims hold") ||
		mm.step != stepRun {
		t.Errorf("%+v\n%s", mm.proofPage.proof, text(m))
	}
	if key(m, "4", "enter"); mm.fitPage.copies != "" {
		t.Error("Dates don't lead back to twins")
	}
}

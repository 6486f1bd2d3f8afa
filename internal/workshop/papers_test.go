package workshop

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"twinshelf/internal/bench"
	"twinshelf/internal/container/bitlocker"
	"twinshelf/internal/container/bitlocker/bitlockertest"
	"twinshelf/internal/draw"
	"twinshelf/internal/job"
	"twinshelf/internal/lock"
	"twinshelf/internal/settings"
	"twinshelf/internal/sheet"
	"twinshelf/internal/testkit"
)

// TestShelfListOfTheDemo: every twin is listed with its machine, its disks and its state, and what can't be read is
// said.
func TestShelfListOfTheDemo(t *testing.T) {
	w, _ := ferry(t)
	twins, _ := w.Shelf.Twins(t.Context())
	l, noLogo, err := w.ShelfList(t.Context())
	if err != nil || noLogo != nil || len(l.Problems) > 0 || len(l.Machines) != 6 || l.Shelf != "Oak" {
		t.Fatalf("%v %v %+v", err, noLogo, l)
	}
	n := 0
	for _, m := range l.Machines {
		n += len(m.Dates)
		if !slices.IsSortedFunc(m.Dates, func(a, b sheet.ListDate) int { return b.Taken.Compare(a.Taken) }) {
			t.Errorf("the dates of %s aren't the newest first", m.Machine)
		}
		if m.Machine == "Purser's laptop" && len(m.Disks) != 2 || m.Rule == "" {
			t.Errorf("%+v", m)
		}
		if m.Machine == "Slipway crane" && !strings.Contains(m.Dates[0].State, "missing") {
			t.Errorf("%+v", m.Dates)
		}
	}
	if n != len(twins) {
		t.Errorf("%d of %d twins are listed", n, len(twins))
	}
	if err := os.WriteFile(filepath.Join(w.Shelf.Place(), "twins", twins[0].ID+".twin"), []byte("junk"),
		0o600); err != nil {
		t.Fatal(err)
	}
	if l, _, err = w.ShelfList(t.Context()); err != nil || len(l.Problems) == 0 {
		t.Errorf("a twin that can't be read isn't told of: %v", err)
	}
	if b, err := l.PDF(); err != nil || len(b) > 200_000 {
		t.Errorf("%v, %d bytes", err, len(b))
	}
	alone, err := New(t.TempDir(), nil, false)
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := alone.ShelfList(t.Context()); !errors.Is(err, ErrNoShelf) {
		t.Error(err)
	}
	if _, err := alone.ShelfLabel(); !errors.Is(err, ErrNoShelf) {
		t.Error(err)
	}
	if _, err := alone.DrawGrowth(t.Context()); !errors.Is(err, ErrNoShelf) {
		t.Error(err)
	}
	if _, err := alone.DrawHistory(t.Context(), ""); !errors.Is(err, ErrNoShelf) {
		t.Error(err)
	}
}

// TestLabelsOfTheDemo: labels say whose a disk is, by which twin, and in which case.
func TestLabelsOfTheDemo(t *testing.T) {
	w, disks := ferry(t)
	forget(t, w)
	ctx := t.Context()
	if err := w.SetShop(settings.Shop{Name: "Ternhouse Repairs", Dates: "D.M.Y", Labels: "A4-24"}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.NewJob(ctx, job.Case{Machine: "Ticket desk", Number: "2026-044"}); err != nil {
		t.Fatal(err)
	}
	says := func(l sheet.Label, want ...string) {
		t.Helper()
		all := l.Title + "\n" + strings.Join(l.Lines, "\n") + "\n" + l.Code
		for _, s := range want {
			if !strings.Contains(all, s) {
				t.Errorf("no %q in %q", s, all)
			}
		}
	}
	says(w.DiskLabel(ctx, named(t, disks, "40B1")), "Ticket desk", "Kestrel K2 256", "KK2-55A1940B1", "20.11.2026",
		"on Oak",
		"case 2026-044", "Ternhouse Repairs")
	says(w.DiskLabel(ctx, named(t, disks, "7731")), "Heron H1 1 TB", "HH1-90C2E7731")
	tw, err := w.Shelf.Find(ctx, "Purser's laptop")
	if err != nil {
		t.Fatal(err)
	}
	both := w.TwinLabels(tw)
	if len(both) != 2 {
		t.Fatalf("%+v", both)
	}
	says(both[1], "disk 2 of 2", "Cormorant C 500", tw.ID)
	oak, err := w.ShelfLabel()
	if err != nil {
		t.Fatal(err)
	}
	says(oak, "Shelf Oak", w.Shelf.Head().ID)
	says(w.StickLabel(), "Starting stick")
	l, err := w.Labels(append(both, oak))
	if err != nil || l.Grid.Name != "A4-24" {
		t.Errorf("%v %+v", err, l.Grid)
	}
}

// TestLogoThatWent: papers are made without a logo that can't be read any more, and that is said; one that can't be
// printed isn't taken over.
func TestLogoThatWent(t *testing.T) {
	w, _ := ferry(t)
	logo := filepath.Join(t.TempDir(), "logo.svg")
	if err := os.WriteFile(logo, []byte(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 9 9"><rect width="9" `+
		`height="5" fill="#123456"/></svg>`), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Chdir(filepath.Dir(logo))
	shop := settings.Shop{Name: "Ternhouse", Logo: "logo.svg"}
	if err := CheckShop(&shop, true); err != nil || shop.Logo != logo {
		t.Fatalf("%v %+v", err, shop)
	}
	if err := w.SetShop(shop); err != nil {
		t.Fatal(err)
	}
	if h, err := w.PaperHead(); err != nil || h.Logo == nil {
		t.Errorf("%v", err)
	}
	if err := os.Remove(logo); err != nil {
		t.Fatal(err)
	}
	jobs, _ := w.Jobs(t.Context())
	s, err := w.SheetOf(jobs[0], "")
	if no := (*sheet.LogoError)(nil); !errors.As(err, &no) || no.File != logo {
		t.Errorf("%v", err)
	}
	if b, err := s.PDF(); err != nil || !bytes.HasPrefix(b, []byte("%PDF-")) {
		t.Errorf("%v", err)
	}
	for _, bad := range []settings.Shop{{Logo: logo}, {Dates: "Y/D/M"}, {Labels: "A4-7"}, {LabelsRight: 30},
		{Paper: "A7"}} {
		if err := CheckShop(&bad, true); err == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
}

// TestPapersOnAFullDrive: a paper that doesn't fit leaves nothing behind, nothing is written over, and a missing folder
// is named.
func TestPapersOnAFullDrive(t *testing.T) {
	testkit.Root(t)
	dir := t.TempDir()
	testkit.Do(t, "mount", "-t", "tmpfs", "-o", "size=16k", "none", dir)
	defer testkit.Try("umount", dir)
	file := filepath.Join(dir, "sheet.pdf")
	if err := WriteNew(file, make([]byte, 1<<20)); !errors.Is(err, syscall.ENOSPC) {
		t.Errorf("%v", err)
	}
	if left, err := os.ReadDir(dir); err != nil || len(left) != 0 {
		t.Errorf("%v is left: %v", left, err)
	}
	if err := WriteNew(file, []byte("x")); err != nil {
		t.Error(err)
	}
	if err := WriteNew(file, []byte("y")); !errors.Is(err, os.ErrExist) {
		t.Errorf("it is written over: %v", err)
	}
	if err := WriteNew(filepath.Join(dir, "none", "x.pdf"), nil); !errors.Is(err, os.ErrNotExist) {
		t.Error(err)
	}
}

// TestDrawingsOfTheDemo: what a drawing shows is what the record and the shelf have.
func TestDrawingsOfTheDemo(t *testing.T) {
	w, disks := ferry(t)
	ctx := t.Context()
	for _, d := range disks {
		w.Bench.Probe(ctx, d)
	}
	svg := string(w.DrawBench(disks, func(d *bench.Disk) string { return w.About(ctx, d) }).SVG())
	for _, d := range disks {
		if !strings.Contains(svg, d.Identity.Serial) {
			t.Errorf("%s isn't drawn", d.Path)
		}
	}
	s, err := w.DrawHistory(ctx, "Weighbridge")
	if err != nil {
		t.Fatal(err)
	}
	if n := strings.Count(string(s.SVG()), "stays: "); n != 60 {
		t.Errorf("%d of 60 dates are listed", n)
	}
	crane := named(t, disks, "E6F5")
	if s, err = w.DrawMap(ctx, Origin{Bench: crane}, MapFile{}); err != nil || !strings.Contains(string(s.SVG()),
		"used ") {
		t.Errorf("%v", err)
	}
	twin, err := w.Shelf.Find(ctx, "Slipway crane")
	if err != nil {
		t.Fatal(err)
	}
	if s, err = w.DrawMap(ctx, Origin{Twin: twin}, MapFile{}); err != nil ||
		!strings.Contains(string(s.SVG()), "couldn&#39;t be read 246 kB") {
		t.Errorf("%v", err)
	}
	jobs, _ := w.Jobs(ctx)
	if _, err := DrawRate(job.Done{}); !errors.Is(err, draw.ErrNoPace) || len(jobs) == 0 {
		t.Error(err)
	}
	dir := t.TempDir()
	if err := SaveDrawing(s, filepath.Join(dir, "x.doc")); err == nil {
		t.Error("a drawing of any kind is made")
	}
	for _, ext := range []string{".svg", ".PDF"} {
		if err := SaveDrawing(s, filepath.Join(dir, "x"+ext)); err != nil {
			t.Error(err)
		}
	}
}

// TestSecrets: keys are found in files as Windows saves them, and what is none is refused; a keyring opens what it can.
func TestSecrets(t *testing.T) {
	dir := t.TempDir()
	wide := []byte{0xFF, 0xFE}
	for _, c := range []byte("Recovery Key: \r\n" + bitlockertest.Recovery + "\r\n") {
		wide = append(wide, c, 0)
	}
	for name, c := range map[string]struct {
		b    []byte
		want string
	}{"a.txt": {wide, bitlockertest.Recovery}, "b.txt": {[]byte("key: " + bitlockertest.Recovery),
		bitlockertest.Recovery},
		"m.txt": {[]byte("Purser's Mac: K4TE-9PLM-22QX-AAB7-ZZ31-0NQR\n"), "K4TE-9PLM-22QX-AAB7-ZZ31-0NQR"},
		"c.txt": {[]byte("gulls over the pier\r\nmore"), "gulls over the pier"}, "d.txt": {nil, ""},
		"e.txt": {make([]byte, maxSecretFile+1), ""}} {
		file := filepath.Join(dir, name)
		if err := os.WriteFile(file, c.b, 0o600); err != nil {
			t.Fatal(err)
		}
		s, err := ReadSecret(file)
		if string(s.Text) != c.want || (err != nil) != (c.want == "") {
			t.Errorf("%s: %q, %v", name, s.Text, err)
		}
	}
	if _, err := ReadSecret(filepath.Join(dir, "none.txt")); !errors.Is(err, os.ErrNotExist) {
		t.Error(err)
	}
	if s, err := ReadSecret("key.BEK"); err != nil || s.File != "key.BEK" {
		t.Errorf("%+v %v", s, err)
	}
	img, bek, _ := bitlockertest.Office(t, bitlocker.CBC256)
	w, err := New(t.TempDir(), []string{img}, false)
	if err != nil {
		t.Fatal(err)
	}
	d := w.Bench.List()[0]
	w.Bench.Probe(t.Context(), d)
	locked := LockedOn(d)
	if len(locked) != 1 || LockedOn(nil) != nil {
		t.Fatalf("%d volumes are locked", len(locked))
	}
	if _, err := Unlock(t.Context(), locked, lock.Secret{File: bek}); !errors.Is(err, ErrNoKeyring) {
		t.Error(err)
	}
	ring := &lock.Keyring{}
	ctx := lock.With(t.Context(), ring)
	if n, err := Unlock(ctx, locked, lock.Secret{Text: []byte("gulls")}); n != 0 || err == nil {
		t.Errorf("%d, %v", n, err)
	}
	if n, err := Unlock(ctx, locked, lock.Secret{Text: []byte("gulls")}, lock.Secret{File: bek}); n != 1 ||
		err != nil ||
		!ring.Holds() {
		t.Errorf("%d, %v", n, err)
	}
	if n, err := Unlock(ctx, locked); n != 1 || err != nil { // it is open
		t.Errorf("%d, %v", n, err)
	}
	id, _ := locked[0].Name()
	if !ring.Lock(id) || ring.Lock(id) || ring.Holds() {
		t.Error("it doesn't lock")
	}
	if w.Bench.Probe(ctx, d); len(LockedOn(d)) != 1 {
		t.Error("it isn't locked any more")
	}
	ring.Wipe()
}

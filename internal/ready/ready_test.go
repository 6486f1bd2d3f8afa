package ready

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// looked surveys an image file or device.
func looked(t testing.TB, path string, sector int) (*survey.Survey, disk.Target) {
	t.Helper()
	target := testkit.Target(t, path)
	d, err := disk.Open(path, target.Identity)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	if sector != 0 {
		d.SetSectorSize(sector)
	}
	s, err := survey.Of(context.Background(), d, nil)
	if err != nil {
		t.Fatal(err)
	}
	target.Identity = d.Identity()
	if target.Fingerprint, err = disk.Fingerprint(d); err != nil {
		t.Fatal(err)
	}
	return s, target
}

// planOf plans a draft on its own disk.
func planOf(t testing.TB, d *Draft, target disk.Target) *Plan {
	t.Helper()
	p, err := d.Plan(context.Background(), d.Before.Device, target)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// carried plans and carries out; it gives the folder of the keepsakes.
func carried(t testing.TB, d *Draft, target disk.Target) Keepsakes {
	t.Helper()
	p := planOf(t, d, target)
	keep := Keepsakes{t.TempDir()}
	if err := testkit.Run(t, func(rc *run.Context) error {
		_, err := p.Run(rc, &disk.Guard{},
			keep)
		return err
	}); err != nil {
		t.Fatal(err)
	}
	return keep
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// sound checks the arithmetic of a draft: nothing overlaps, nothing lies outside,
// and parts, gaps and what alignment costs add up to the disk.
func sound(t *testing.T, d *Draft, what string) {
	t.Helper()
	usable := d.Usable()
	at, parts := usable.Start, int64(0)
	lost := int64(0)
	for i, p := range d.Parts {
		switch {
		case p.Span.Start < at:
			t.Fatalf("%s: part %d at %s begins before byte %d", what, p.Number, p.Span, at)
		case p.Span.End > usable.End:
			t.Fatalf("%s: part %d at %s ends behind byte %d", what, p.Number, p.Span, usable.End)
		case p.Span.Empty():
			t.Fatalf("%s: part %d is empty", what, p.Number)
		case p.Old == nil && p.Span.Start%d.Align != 0:
			t.Fatalf("%s: part %d begins at byte %d, not on %d", what, p.Number, p.Span.Start, d.Align)
		}
		if slices.ContainsFunc(d.Parts[:i], func(q Part) bool {
			return q.Number == p.Number || q.GUID != "" && q.GUID == p.GUID
		}) {
			t.Fatalf("%s: number or identity of part %d is there twice", what, p.Number)
		}
		at, parts = p.Span.End, parts+p.Span.Len()
	}
	for _, g := range d.Gaps() {
		if !usable.Covers(g) || g.Start%d.Align != 0 {
			t.Fatalf("%s: gap %s", what, g)
		}
		for _, p := range d.Parts {
			if p.Span.Overlaps(g) {
				t.Fatalf("%s: gap %s overlaps part %d", what, g, p.Number)
			}
		}
	}
	lost = usable.Len() - parts - d.Rest()
	if most := (int64(len(d.Parts))*3 + 3) * d.Align; lost < 0 || lost > most {
		t.Fatalf("%s: parts %d + rest %d + lost %d ≠ %d", what, parts, d.Rest(), lost, usable.Len())
	}
}

// TestArithmetic does random things to drafts of all kinds of disks.
func TestArithmetic(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 1))
	names := []string{"", "oak", "tickets", "a name that is much too long for any table of parts"}
	for round := range 60 {
		sector := []int{512, 4096}[round%2]
		size := []int64{20 * units.MiB, 4_009_754_624, 1_000_204_886_016, 3_000_592_982_016,
			16_000_900_661_248}[r.IntN(5)] / 4096 * 4096
		s, target := looked(t, testkit.Image(t, "new.img", size), sector)
		d := Anew(s, []int{0, 512, 4 << 20, 33 << 20, 12345}[r.IntN(5)], []table.Kind{table.GPT, table.MBR}[r.IntN(2)])
		for step := range 40 {
			what := fmt.Sprintf("round %d step %d (%s, %d bytes, sector %d)", round, step, d.Kind, size, sector)
			before := d.Clone()
			var err error
			i := -1
			if len(d.Parts) > 0 {
				i = r.IntN(len(d.Parts))
			}
			switch op := r.IntN(8); {
			case op < 3:
				if gaps := d.Gaps(); len(gaps) > 0 {
					g := gaps[r.IntN(len(gaps))]
					_, err = d.Add(g, 1+r.Int64N(g.Len()+g.Len()/8+1), false)
				}
			case op == 3:
				_, err = d.SplitRest(1 + r.IntN(5))
			case i < 0:
			case op == 4:
				d.Remove(i)
			case op == 5:
				err = d.Resize(i, 1+r.Int64N(2*d.Growable(i)))
			case op == 6:
				err = d.SetForm(i, []string{"ext4", "exFAT", "NTFS", "FAT32", ""}[r.IntN(5)], names[r.IntN(3)], 0)
			case op == 7:
				err = d.SetName(i, names[r.IntN(4)])
			}
			sound(t, d, what)
			if err != nil && len(d.Parts) < len(before.Parts) {
				t.Fatalf("%s: an error (%v) lost a part", what, err)
			}
		}
		if len(d.Parts) > 0 && size < 2*units.TB {
			for i := range d.Parts {
				d.Parts[i].Form = nil
			}
			p := planOf(t, d, target)
			if got, err := p.Survey(context.Background()); err != nil || len(got.Parts()) != len(d.Parts) {
				t.Fatalf("round %d: the planned disk: %v", round, err)
			}
		}
	}
}

func TestSizesThatCantBe(t *testing.T) {
	s, _ := looked(t, testkit.Image(t, "new.img", units.GiB), 512)
	d := Anew(s, 0, table.GPT)
	gap := d.Gap()
	for name, c := range map[string]struct {
		n    int64
		want string
	}{"nothing": {0, "can't be"}, "negative": {-units.MiB, "can't be"}, "beyond": {gap.Len() + 1, "too little"}} {
		if _, err := d.Add(gap, c.n, false); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := d.Add(span.Span{}, 5, false); err == nil || !strings.Contains(err.Error(), "no room") {
		t.Errorf("no gap: %v", err)
	}
	if _, err := d.SplitRest(5000); err == nil {
		t.Error("5000 parts of a GiB")
	}
	i, err := d.Add(gap, 100*units.MiB, false)
	must(t, err)
	for kind, want := range map[string]string{"NTFS": "", "FAT32": "", "ext9": "can't be made", "FAT12": ""} {
		err := d.SetForm(i, kind, "", 0)
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			if kind == "FAT12" && err != nil && strings.Contains(err.Error(), "too large") {
				continue
			}
			t.Errorf("%s: %v", kind, err)
		}
	}
	if err := d.SetForm(i, "FAT32", "a/b", 0); err == nil {
		t.Error("a label with a stroke")
	}
	if err := d.SetForm(i, "exFAT", "a label of far too many", 0); err == nil {
		t.Error("a long label")
	}
	if err := d.Resize(i, 2*units.GiB); err == nil || !strings.Contains(err.Error(), "can't grow") {
		t.Errorf("grow: %v", err)
	}
	if err := d.SetType(i, "no such type"); err == nil {
		t.Error("an unknown type")
	}
	if d.Kind = table.MBR; d.SetName(i, "oak") == nil {
		t.Error("an MBR with names")
	}
}

func TestMBRLimits(t *testing.T) {
	s, target := looked(t, testkit.Image(t, "big.img", 3_000_592_982_016), 512)
	d := Anew(s, 0, table.MBR)
	if end := d.Usable().End; end != 2<<40 {
		t.Errorf("usable up to %d", end)
	}
	for range 6 {
		_, err := d.Add(d.Gap(), 100*units.GB, false)
		must(t, err)
	}
	p := planOf(t, d, target)
	notes := strings.Join(p.Notes, "\n")
	for _, want := range []string{"an MBR reaches up to 2.20 TB", "logical ones, numbered from 5"} {
		if !strings.Contains(notes, want) {
			t.Errorf("no word of %q in:\n%s", want, notes)
		}
	}
	var numbers []int
	for _, q := range d.Parts {
		numbers = append(numbers, q.Number)
	}
	if !slices.Equal(numbers, []int{1, 2, 3, 5, 6, 7}) {
		t.Errorf("numbers %v", numbers)
	}
}

// TestLayoutsAreRead lays disks out over traces of other lives, and has the operating
// system's own tools read them.
func TestLayoutsAreRead(t *testing.T) {
	testkit.Need(t, "blkid", "partx", "mkfs.ext4", "mkswap")
	testkit.Root(t)
	kinds := []string{"FAT32", "ext4", "NTFS", "exFAT", ""}
	for _, kind := range []table.Kind{table.GPT, table.MBR} {
		for _, sector := range []int{512, 4096} {
			t.Run(fmt.Sprint(kind, sector), func(t *testing.T) {
				img := testkit.Image(t, "disk.img", 2*units.GiB)
				testkit.Do(t, "mkfs.ext4", "-q", "-F", "-L", "ghost", img)
				dev := testkit.Loop(t, img, sector)
				s, target := looked(t, dev, 0)
				if !s.Whole {
					t.Fatal("no file system on the whole of it")
				}
				if _, err := Change(s, 0); !errors.Is(err, ErrOnlyAnew) {
					t.Errorf("a disk without a table can be changed: %v", err)
				}
				d := Anew(s, 0, kind)
				for i, k := range kinds {
					at, err := d.Add(d.Gap(), 300*units.MiB, false)
					must(t, err)
					if k != "" {
						must(t, d.SetForm(at, k, fmt.Sprint("TICKET", i), 0))
					}
				}
				carried(t, d, target)
				if out := testkit.Do(t, "blkid", "-p", "-o", "value", "-s", "PTTYPE", dev); strings.TrimSpace(out) !=
					map[table.Kind]string{table.GPT: "gpt", table.MBR: "dos"}[kind] {
					t.Errorf("blkid: %q", out)
				}
				if out, _ := testkit.Try("blkid", "-p", "-o", "export", dev); strings.Contains(out, "\nTYPE=") ||
					strings.Contains(out, "LABEL") {
					t.Errorf("a ghost on the whole disk: %s", out)
				}
				var want strings.Builder
				for _, p := range d.Parts {
					fmt.Fprintln(&want, p.Number, p.Span.Start/512, p.Span.Len()/512)
				}
				if kind == table.MBR { // partx shows the extended entry too
					want.Reset()
				}
				got := testkit.Do(t, "partx", "--show", "-g", "-o", "NR,START,SECTORS", "--sector-size",
					fmt.Sprint(sector), dev)
				if sector == 512 && kind == table.GPT &&
					strings.Join(strings.Fields(got), " ") != strings.Join(strings.Fields(want.String()), " ") {
					t.Errorf("partx shows\n%swant\n%s", got, want.String())
				}
				if n := len(strings.Split(strings.TrimSpace(got), "\n")); n < len(kinds) {
					t.Errorf("partx shows %d parts:\n%s", n, got)
				}
				for i, p := range d.Parts {
					out, err := testkit.Try("blkid", "-p", "-O", fmt.Sprint(p.Span.Start), "-S",
						fmt.Sprint(p.Span.Len()), "-o", "export", dev)
					if kinds[i] == "" {
						continue
					}
					if err != nil || !strings.Contains(out, fmt.Sprint("LABEL=TICKET", i)) {
						t.Errorf("part %d (%s): %v %s", p.Number, kinds[i], err, out)
					}
				}
			})
		}
	}
}

// TestKernelSeesTheParts: after a layout the kernel shows the parts, or the run says that it doesn't.
func TestKernelSeesTheParts(t *testing.T) {
	dev := testkit.Loop(t, testkit.Image(t, "pier.img", 64*units.MiB), 512)
	s, target := looked(t, dev, 0)
	d := Anew(s, 0, table.GPT)
	for range 2 {
		_, err := d.Add(d.Gap(), 20*units.MiB, false)
		must(t, err)
	}
	p := planOf(t, d, target)
	r := run.Start(context.Background(), "t", p.Phases(), nil, func(rc *run.Context) error {
		_, err := p.Run(rc, &disk.Guard{}, Keepsakes{t.TempDir()})
		return err
	})
	must(t, r.Wait())
	shown := len((disk.Host{}).Partitions(filepath.Base(dev)))
	told := strings.Contains(strings.Join(r.Snapshot().Notes, " "), "the kernel doesn't show the new parts")
	if (shown == 2) == told {
		t.Errorf("the kernel shows %d parts, the run says %q", shown, r.Snapshot().Notes)
	}
}

// changing makes a GPT disk with two filled file systems and a gap after them.
func changing(t *testing.T) string {
	t.Helper()
	testkit.Need(t, "mkfs.ext4", "mkfs.fat")
	img := testkit.Image(t, "kiosk.img", 250*units.MiB)
	testkit.WriteTable(t, img, table.Layout{Kind: table.GPT, Sector: 512, ID: newGUID(), Parts: []table.Part{
		{Number: 1, Span: span.At(units.MiB, 40*units.MiB), Type: table.TypeESP, GUID: newGUID(), Name: "start"},
		{Number: 2, Span: span.At(41*units.MiB, 40*units.MiB), Type: table.TypeLinuxData, GUID: newGUID(),
			Name: "kiosk"},
	}}, 250*units.MiB)
	a, b := testkit.Image(t, "a", 40*units.MiB), testkit.Image(t, "b", 40*units.MiB)
	testkit.Do(t, "mkfs.fat", "-F", "32", "-n", "START", a)
	testkit.Do(t, "mkfs.ext4", "-q", "-L", "kiosk", b)
	testkit.Place(t, a, img, units.MiB)
	testkit.Place(t, b, img, 41*units.MiB)
	return img
}

func contents(t *testing.T, path string) []byte {
	t.Helper()
	b, err := os.ReadFile(path)
	must(t, err)
	return b
}

func TestChangeKeepsWhatStays(t *testing.T) {
	img := changing(t)
	before := contents(t, img)
	s, target := looked(t, img, 0)
	d, err := Change(s, 0)
	must(t, err)
	if _, err := d.Plan(context.Background(), s.Device, target); !errors.Is(err, ErrNothing) {
		t.Errorf("nothing is planned: %v", err)
	}
	if err := d.Resize(1, 30*units.MiB); err == nil || !strings.Contains(err.Error(), "can't shrink") {
		t.Errorf("shrinks under its file system: %v", err)
	}
	if err := d.Resize(0, 41*units.MiB); err == nil {
		t.Error("grows into its neighbour")
	}
	must(t, d.Resize(1, 80*units.MiB))
	must(t, d.SetName(1, "Kiosk, pier 2"))
	must(t, d.SetType(1, "Linux system"))
	i, err := d.Add(d.Gap(), 50*units.MiB, false)
	must(t, err)
	must(t, d.SetForm(i, "exFAT", "tickets", 0))
	sound(t, d, "change")
	p := planOf(t, d, target)
	if len(p.Stays) != 2 || len(p.Goes) != 0 {
		t.Errorf("stays %q, goes %q", p.Stays, p.Goes)
	}
	carried(t, d, target)
	after := contents(t, img)
	for _, part := range s.Parts() {
		if string(before[part.Span.Start:part.Span.End]) != string(after[part.Span.Start:part.Span.End]) {
			t.Errorf("part %d changed", part.Part.Number)
		}
	}
	s, target = looked(t, img, 0)
	if len(s.Parts()) != 3 || s.Table.Worst() == table.Damage || s.Parts()[1].Part.Name != "Kiosk, pier 2" ||
		s.Parts()[1].Part.Type != table.TypeLinuxRootX64 || s.Table.ID != d.ID {
		t.Errorf("%+v", s.Table)
	}
	// Taking out, and formatting in place.
	d, err = Change(s, 0)
	must(t, err)
	must(t, d.SetForm(1, "NTFS", "tariffs", 0))
	d.Remove(0)
	p = planOf(t, d, target)
	if len(p.Goes) != 2 || !strings.Contains(p.Goes[0], "START") || !strings.Contains(p.Goes[1], "formatted anew") ||
		len(p.Stays) != 1 {
		t.Errorf("stays %q, goes %q", p.Stays, p.Goes)
	}
	carried(t, d, target)
	s, _ = looked(t, img, 0)
	if parts := s.Parts(); len(parts) != 2 || parts[0].Content.Info.Kind != "NTFS" ||
		parts[0].Content.Info.Label != "tariffs" || parts[0].Part.Number != 2 {
		t.Errorf("%+v", parts)
	}
}

func TestTargetThatChangedSince(t *testing.T) {
	for name, hurt := range map[string]func(f *os.File){
		"head of a part": func(f *os.File) { f.WriteAt([]byte{0xA5}, 41*units.MiB+2000) },
		"table":          func(f *os.File) { f.WriteAt([]byte{0xA5}, 520) },
		"shrank":         func(f *os.File) { f.Truncate(240 * units.MiB) },
	} {
		img := changing(t) // one each: a disk with both tables hurt has no parts to look at
		s, target := looked(t, img, 0)
		d := Anew(s, 0, table.GPT)
		_, err := d.Add(d.Gap(), 40*units.MiB, false)
		must(t, err)
		p := planOf(t, d, target)
		f, err := os.OpenFile(img, os.O_RDWR, 0)
		must(t, err)
		hurt(f)
		f.Close()
		before := contents(t, img)
		err = testkit.Run(t, func(rc *run.Context) error {
			_, err := p.Run(rc, &disk.Guard{}, Keepsakes{t.TempDir()})
			return err
		})
		var refused *disk.Refusal
		if !errors.As(err, &refused) || string(before) != string(contents(t, img)) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

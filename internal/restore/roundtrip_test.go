package restore_test

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/capture"
	"twinshelf/internal/disk"
	"twinshelf/internal/fit"
	"twinshelf/internal/plan"
	"twinshelf/internal/prove"
	"twinshelf/internal/restore"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
)

const miB = 1 << 20

func guidN(n int) string { return fmt.Sprintf("7A5E0F10-3B1C-4D5A-9C00-%012X", n) }

// The parts of the test machine: ESP, ext4, NTFS, swap.
var layout = table.Layout{Kind: table.GPT, Sector: 512, ID: guidN(1), Parts: []table.Part{
	{Number: 1, Span: span.At(1*miB, 64*miB), Type: table.TypeESP, GUID: guidN(2), Name: "EFI system"},
	{Number: 2, Span: span.At(65*miB, 300*miB), Type: table.TypeLinuxData, GUID: guidN(3), Name: "kiosk"},
	{Number: 3, Span: span.At(365*miB, 200*miB), Type: table.TypeMSBasicData, GUID: guidN(4), Name: "desk"},
	{Number: 4, Span: span.At(565*miB, 64*miB), Type: table.TypeLinuxSwap, GUID: guidN(5), Name: "swap"},
}}

const sourceSize = 700 * miB

func fill(t testing.TB, dir string, seed uint64) {
	t.Helper()
	r := rand.New(rand.NewPCG(seed, 1))
	for i := range 40 {
		b := testkit.Noise(r.Uint64(), 1+r.IntN(400_000))
		for j := range b {
			if i%3 == 0 {
				break
			}
			b[j] = b[j]%9 + 'a'
		}
		p := filepath.Join(dir, fmt.Sprintf("quay %d", i%5), fmt.Sprintf("bill-%d-%02d.txt", seed, i))
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, b, 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// machine makes the disk of a machine as an image file.
func machine(t testing.TB) string {
	t.Helper()
	testkit.Need(t, "mkfs.fat", "mkfs.ext4", "mkntfs", "mkswap", "mcopy", "ntfs-3g")
	testkit.Root(t)
	img := testkit.Image(t, "machine.img", sourceSize)
	testkit.WriteTable(t, img, layout, sourceSize)
	dir := t.TempDir()
	fill(t, dir, 1)
	place := func(n int, make func(part string)) {
		p := testkit.Image(t, "part.img", layout.Parts[n].Span.Len())
		make(p)
		testkit.Place(t, p, img, layout.Parts[n].Span.Start)
	}
	place(0, func(p string) {
		testkit.Do(t, "mkfs.fat", "-F", "32", "-s", "1", "-n", "START", p)
		testkit.Do(t, "mcopy", "-s", "-i", p, filepath.Join(dir, "quay 1"), "::")
	})
	place(1, func(p string) { testkit.Do(t, "mkfs.ext4", "-q", "-F", "-L", "kiosk-root", "-d", dir, p) })
	place(2, func(p string) {
		testkit.Do(t, "mkntfs", "-q", "-Q", "-F", "-L", "Ticket desk", p)
		testkit.Mounted(t, []string{"ntfs-3g", p}, func(m string) { fill(t, m, 2) })
	})
	place(3, func(p string) { testkit.Do(t, "mkswap", "-L", "swap", p) })
	// Start-up code in the gap before the first part.
	f, err := os.OpenFile(img, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	f.WriteAt([]byte("start-up code in the gap"), 40*512+100)
	return img
}

func hashes(t testing.TB, dir string) map[string]string {
	t.Helper()
	out := map[string]string{}
	err := filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		b, err := os.ReadFile(p)
		name, _ := filepath.Rel(dir, p)
		out[name] = fmt.Sprintf("%x", sha256.Sum256(b))
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func newShelf(t testing.TB) *shelf.Shelf {
	t.Helper()
	s, err := shelf.Create(t.Context(), filepath.Join(t.TempDir(), "oak"), store.New{Name: "Oak"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

// take captures devices as one machine.
func take(t testing.TB, s *shelf.Shelf, devices ...disk.Device) (*shelf.Twin, error) {
	t.Helper()
	p := capture.Plan{Shelf: s, Machine: "Harbour kiosk", Tool: "test"}
	for _, d := range devices {
		sv, err := survey.Of(context.Background(), d, nil)
		if err != nil {
			t.Fatal(err)
		}
		p.Sources = append(p.Sources, capture.Source{Survey: sv})
	}
	var twin *shelf.Twin
	err := testkit.Run(t, func(rc *run.Context) (err error) {
		twin, err = p.Run(rc)
		return err
	})
	return twin, err
}

func opened(t testing.TB, path string) *disk.File {
	t.Helper()
	d, err := disk.Open(path, disk.Identity{Model: filepath.Base(path)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return d
}

// judge lets the operating system's own tools compare target and source.
func judge(t testing.TB, source, target string) {
	t.Helper()
	show := func(img string) string {
		return testkit.Do(t, "partx", "--show", "-o", "NR,START,END,UUID,TYPE,NAME", img)
	}
	if a, b := show(source), show(target); a != b {
		t.Errorf("partx sees\n%s instead of\n%s", b, a)
	}
	for i, p := range layout.Parts {
		was := testkit.Extract(t, source, p.Span.Start, p.Span.Len())
		is := testkit.Extract(t, target, p.Span.Start, p.Span.Len())
		id := func(img string) string {
			return strings.TrimPrefix(testkit.Do(t, "blkid", "-p", img), img)
		}
		if a, b := id(was), id(is); a != b {
			t.Errorf("part %d: blkid sees %s instead of %s", i+1, b, a)
		}
		var mount func(string) []string
		switch i {
		case 0:
			testkit.Do(t, "fsck.fat", "-n", is)
			out := t.TempDir()
			testkit.Do(t, "mcopy", "-s", "-i", is, "::", out)
			old := t.TempDir()
			testkit.Do(t, "mcopy", "-s", "-i", was, "::", old)
			same(t, i+1, hashes(t, old), hashes(t, out))
			continue
		case 1:
			testkit.Do(t, "e2fsck", "-fn", is)
			mount = func(img string) []string { return []string{"mount", "-o", "loop,ro", img} }
		case 2:
			testkit.Do(t, "ntfsfix", "-n", is)
			mount = func(img string) []string { return []string{"ntfs-3g", "-o", "ro", img} }
		default:
			continue
		}
		var before, after map[string]string
		testkit.Mounted(t, mount(was), func(m string) { before = hashes(t, m) })
		testkit.Mounted(t, mount(is), func(m string) { after = hashes(t, m) })
		same(t, i+1, before, after)
	}
}

func same(t testing.TB, part int, before, after map[string]string) {
	t.Helper()
	if len(before) == 0 || len(before) != len(after) {
		t.Errorf("part %d: %d files instead of %d", part, len(after), len(before))
	}
	for name, h := range before {
		if after[name] != h {
			t.Errorf("part %d: %s differs", part, name)
		}
	}
}

func TestRoundTripOntoLargerImage(t *testing.T) {
	source := machine(t)
	s := newShelf(t)
	twin, err := take(t, s, opened(t, source))
	if err != nil {
		t.Fatal(err)
	}
	if !twin.Quiet() || twin.Missing() != 0 {
		t.Errorf("quiet %v, missing %d", twin.Quiet(), twin.Missing())
	}
	// The target had another life: none of it may show afterwards.
	target := testkit.Image(t, "target.img", 1500*miB)
	old := layout
	old.ID = guidN(77)
	testkit.WriteTable(t, target, old, 1500*miB)
	junk := testkit.Image(t, "junk.img", 300*miB)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", "-L", "ghost", junk)
	testkit.Place(t, junk, target, 365*miB)
	proof, err := putBack(t, s, twin, target)
	if err != nil {
		t.Fatal(err)
	}
	if !proof.Holds() || len(proof.Claims) < 10 {
		t.Errorf("proof: %s\n%+v", proof.Words(), proof.Claims)
	}
	judge(t, source, target)
	b := make([]byte, 24)
	if _, err := opened(t, target).ReadAt(b, 40*512+100); err != nil || string(b) != "start-up code in the gap" {
		t.Errorf("the gap before the first part holds %q", b)
	}
	tab, err := table.Read(opened(t, target), 1500*miB, 512)
	if err != nil || len(tab.Findings) != 0 {
		t.Errorf("table of the target: %v %v", tab.Findings, err)
	}
	if proofs, _ := s.Proofs(t.Context(), twin.ID); len(proofs) != 1 || !proofs[0].Holds() {
		t.Errorf("the proof was not kept: %v", proofs)
	}
	// A later capture of the same contents brings next to nothing; one bit on the target fails the proof.
	again, err := take(t, s, opened(t, source))
	if err != nil || again.Added > 4096 {
		t.Errorf("second capture added %d, %v", again.Added, err)
	}
	f, _ := os.OpenFile(target, os.O_RDWR, 0)
	one := make([]byte, 1)
	f.ReadAt(one, 65*miB+4096)
	f.WriteAt([]byte{one[0] ^ 1}, 65*miB+4096)
	f.Close()
	src, _ := s.OpenDisk(t.Context(), twin, 0)
	p := rehearsed(t, src, opened(t, target), kept())
	err = testkit.Run(t, func(rc *run.Context) (err error) {
		proof, err = prove.Target(rc, &twin.Disks[0], p, opened(t, target), "test")
		return err
	})
	if err != nil || proof.Holds() {
		t.Errorf("a changed target passes: %s %v", proof.Words(), err)
	}
}

func TestRoundTripBetweenBlockDevices(t *testing.T) {
	source := machine(t)
	s := newShelf(t)
	from := testkit.Loop(t, source, 512)
	twin, err := take(t, s, opened(t, from))
	if err != nil {
		t.Fatal(err)
	}
	img := testkit.Image(t, "target.img", 900*miB)
	to := testkit.Loop(t, img, 512)
	proof, err := putBack(t, s, twin, to)
	if err != nil || !proof.Holds() {
		t.Fatalf("%v %+v", err, proof)
	}
	testkit.Do(t, "sync")
	judge(t, source, img)

	// A mounted part anywhere on the target: refused, nothing written.
	before := testkit.Target(t, to)
	testkit.LoopOf(t, "--offset", fmt.Sprint(65*miB), "--sizelimit", fmt.Sprint(300*miB), img)
	testkit.Mounted(t, []string{"mount", "-o", "ro", to, "--options", fmt.Sprintf("offset=%d,ro", 65*miB)},
		func(string) {
			src, _ := s.OpenDisk(t.Context(), twin, 0)
			for _, path := range []string{img} {
				target := before
				target.Path = path
				var refused *disk.Refusal
				if _, err := planned(t, src, target, &disk.Guard{}, plan.Wish{}); !errors.As(err,
					&refused) || !strings.Contains(err.Error(), "in use") {
					t.Errorf("%s: %v", path, err)
				}
			}
		})
}

// TestCutOffWhileWriting captures an ext4 whose journal was never replayed:
// the machine went down while the kernel wrote. After the restore and a
// replay every file is as it is after a replay of the source.
func TestCutOffWhileWriting(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "e2fsck")
	testkit.Root(t)
	live := testkit.Image(t, "live.img", 256*miB)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", "-L", "kiosk", live)
	cut := filepath.Join(t.TempDir(), "cut.img")
	testkit.Mounted(t, []string{"mount", "-o", "loop,commit=1", live}, func(m string) {
		fill(t, m, 3)
		testkit.Do(t, "sync")
		fill(t, m, 4)
		os.RemoveAll(filepath.Join(m, "quay 2"))
		fd, err := os.Open(m)
		if err != nil {
			t.Fatal(err)
		}
		fd.Sync() // commits the journal; the maps on disk stay as they were
		fd.Close()
		testkit.Do(t, "cp", "--sparse=always", live, cut)
	})
	d := opened(t, cut)
	sv, err := survey.Of(context.Background(), d, nil)
	if err != nil || len(sv.Warnings()) != 1 {
		t.Fatalf("warnings %v, %v", sv.Warnings(), err)
	}
	s := newShelf(t)
	twin, err := take(t, s, d)
	if err != nil || twin.Quiet() {
		t.Fatalf("quiet %v, %v", twin.Quiet(), err)
	}
	target := testkit.Image(t, "target.img", 300*miB)
	if proof, err := putBack(t, s, twin, target); err != nil || !proof.Holds() {
		t.Fatalf("%v %+v", err, proof)
	}
	var want, got map[string]string
	testkit.Try("e2fsck", "-p", cut)
	testkit.Try("e2fsck", "-p", target)
	testkit.Do(t, "e2fsck", "-fn", target)
	testkit.Mounted(t, []string{"mount", "-o", "loop,ro", cut}, func(m string) { want = hashes(t, m) })
	testkit.Mounted(t, []string{"mount", "-o", "loop,ro", target}, func(m string) { got = hashes(t, m) })
	same(t, 1, want, got)
	for name := range want {
		if strings.HasPrefix(name, "quay 2") {
			t.Errorf("%s should be gone: the test cut off too early", name)
		}
	}
}

func TestTooSmallIsRefusedBeforeAnythingIsWritten(t *testing.T) {
	s := newShelf(t)
	src := disk.NewMemory(64*miB, 512)
	copy(src.Bytes[10*miB:], "cargo")
	twin, err := take(t, s, src)
	if err != nil {
		t.Fatal(err)
	}
	target := testkit.Image(t, "small.img", 64*miB-1024)
	var small *fit.TooSmall
	if _, err := putBack(t, s, twin, target); !errors.As(err, &small) || small.Need-small.Have != 1024 ||
		!strings.Contains(err.Error(), "1 024 bytes") {
		t.Errorf("%v", err)
	}
	if _, err := opened(t, target).NextData(0); err == nil {
		t.Error("something was written")
	}
}

func TestGuardRefusals(t *testing.T) {
	s := newShelf(t)
	twin, err := take(t, s, disk.NewMemory(8*miB, 512))
	if err != nil {
		t.Fatal(err)
	}
	src, _ := s.OpenDisk(t.Context(), twin, 0)
	img := testkit.Image(t, "target.img", 8*miB)
	good := testkit.Target(t, img)
	inShelf := filepath.Join(s.Place(), "inside.img")
	testkit.Sparse(t, inShelf, 8*miB)
	stale := good
	stale.Fingerprint = "0123"
	for _, c := range []struct {
		name   string
		target disk.Target
		guard  disk.Guard
		word   string
	}{
		{"put out of reach", good, disk.Guard{OutOfReach: func(disk.Identity) bool { return true }}, "out of reach"},
		{"is the source", good, disk.Guard{Sources: []string{img}}, "also the disk that is read"},
		{"inside the shelf", testkit.Target(t, inShelf), disk.Guard{Shelves: []string{s.Place()}},
			"inside the open shelf"},
		{"changed since the plan", stale, disk.Guard{}, "contents changed"},
		{"no plan", disk.Target{Path: img, Identity: good.Identity}, disk.Guard{}, "plan again"},
	} {
		var refused *disk.Refusal
		if _, err := planned(t, src, c.target, &c.guard, plan.Wish{}); !errors.As(err, &refused) ||
			!strings.Contains(err.Error(), c.word) {
			t.Errorf("%s: %v", c.name, err)
		}
	}
	// Changed between the plan and the writing.
	p, err := planned(t, src, good, &disk.Guard{}, plan.Wish{})
	if err != nil {
		t.Fatal(err)
	}
	f, _ := os.OpenFile(img, os.O_RDWR, 0)
	f.WriteAt([]byte("somebody was here"), 4096)
	f.Close()
	var refused *disk.Refusal
	if err := testkit.Run(t, p.Run); !errors.As(err, &refused) {
		t.Errorf("changed after planning: %v", err)
	}
}

func TestFailingSourceIsRecorded(t *testing.T) {
	src := disk.NewMemory(32*miB, 512)
	copy(src.Bytes, testkit.Noise(1, len(src.Bytes)))
	clear(src.Bytes[:512])
	clear(src.Bytes[len(src.Bytes)-miB:])
	bad := span.Of(span.At(5*miB+8192, 4096), span.At(20*miB, 3*4096))
	s := newShelf(t)
	twin, err := take(t, s, &disk.Faulty{Writable: src, BadRead: bad})
	if err != nil {
		t.Fatal(err)
	}
	if got := twin.Disks[0].Missing; !got.Equal(bad) {
		t.Errorf("missing %v, want %v", got, bad)
	}
	d, _ := s.OpenDisk(t.Context(), twin, 0)
	b := make([]byte, miB)
	if _, err := d.ReadAt(b, 5*miB); err != nil {
		t.Fatal(err)
	}
	want := append([]byte{}, src.Bytes[5*miB:6*miB]...)
	clear(want[8192 : 8192+4096])
	if string(b) != string(want) {
		t.Error("what could be read around the bad place differs")
	}
	var proof *shelf.Proof
	err = testkit.Run(t, func(rc *run.Context) (err error) { proof, err = prove.Twin(rc, s, twin, "test"); return err })
	if err != nil || proof.Holds() {
		t.Errorf("the proof doesn't tell of the missing places: %v", err)
	}
}

func TestSourceThatVanishes(t *testing.T) {
	src := disk.NewMemory(32*miB, 512)
	for i := range src.Bytes {
		src.Bytes[i] = byte(i / 512)
	}
	clear(src.Bytes[:512])
	clear(src.Bytes[len(src.Bytes)-miB:])
	s := newShelf(t)
	twin, err := take(t, s, &disk.Faulty{Writable: src, GoneAfter: 20 * miB})
	if err != nil {
		t.Fatal(err)
	}
	if n := twin.Missing(); n < 10*miB || n > 24*miB {
		t.Errorf("missing %d bytes", n)
	}
	if got, err := s.Find(t.Context(), "Harbour kiosk"); err != nil || got.Missing() == 0 {
		t.Errorf("the twin on the shelf doesn't say so: %v", err)
	}
}

func TestLeavingOutAPart(t *testing.T) {
	src := disk.NewMemory(64*miB, 512)
	l := table.Layout{Kind: table.MBR, Sector: 512, ID: "00b21d9e", Parts: []table.Part{
		{Number: 1, Span: span.At(miB, 8*miB), Type: "0x83"}, {Number: 2, Span: span.At(10*miB, 8*miB), Type: "0x83"}}}
	patches, err := table.Build(l, src.Size())
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range patches {
		copy(src.Bytes[p.Off:], p.Data)
	}
	copy(src.Bytes[2*miB:], "kept")
	copy(src.Bytes[12*miB:], "left out")
	sv, err := survey.Of(context.Background(), src, nil)
	if err != nil {
		t.Fatal(err)
	}
	s := newShelf(t)
	p := capture.Plan{Shelf: s, Machine: "Weighbridge",
		Sources: []capture.Source{{Survey: sv, LeaveOut: map[int]bool{2: true}}}}
	var twin *shelf.Twin
	if err := testkit.Run(t, func(rc *run.Context) (err error) { twin, err = p.Run(rc); return err }); err != nil {
		t.Fatal(err)
	}
	d, _ := s.OpenDisk(t.Context(), twin, 0)
	b := make([]byte, 8)
	d.ReadAt(b, 2*miB)
	if string(b[:4]) != "kept" {
		t.Errorf("part 1 holds %q", b)
	}
	d.ReadAt(b, 12*miB)
	if string(b) == "left out" {
		t.Error("part 2 was captured")
	}
	if w := restore.Warnings(&twin.Disks[0]); len(w) != 1 || !strings.Contains(w[0], "was not captured") {
		t.Errorf("warnings %v", w)
	}
}

func TestCancelledCaptureLeavesTheShelfAsItWas(t *testing.T) {
	src := disk.NewMemory(64*miB, 512)
	copy(src.Bytes[miB:], testkit.Noise(9, len(src.Bytes)-miB))
	s := newShelf(t)
	sv, err := survey.Of(context.Background(), &disk.Faulty{Writable: src, Delay: 5 * time.Millisecond}, nil)
	if err != nil {
		t.Fatal(err)
	}
	p := capture.Plan{Shelf: s, Machine: "Kiosk", Sources: []capture.Source{{Survey: sv}}}
	rn := run.Start(context.Background(), "t", capture.Phases, nil, func(rc *run.Context) error {
		_, err := p.Run(rc)
		return err
	})
	for rn.Snapshot().Done < 10*miB {
		time.Sleep(time.Millisecond)
	}
	rn.Cancel()
	if err := rn.Wait(); !errors.Is(err, context.Canceled) || rn.Snapshot().State != run.Cancelled {
		t.Errorf("%v", err)
	}
	st, err := s.Stats(t.Context())
	if twins, _ := s.Twins(t.Context()); len(twins) != 0 || st.Bytes != 0 || err != nil {
		t.Errorf("left behind: %d twins, %+v", len(twins), st)
	}
}

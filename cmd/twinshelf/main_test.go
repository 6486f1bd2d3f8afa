package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/demotest"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
)

func TestMain(m *testing.M) {
	code := m.Run()
	demotest.Done()
	os.Exit(code)
}

// place is a workshop of the tests: a state folder and a demo bench.
type place struct {
	t     *testing.T
	dir   string
	disks string
	shelf string
}

func newPlace(t *testing.T) place {
	p := place{t: t, dir: t.TempDir()}
	p.disks, p.shelf = filepath.Join(p.dir, "demo/disks"), filepath.Join(p.dir, "demo/oak")
	if _, errs, code := p.run("", "demo", "--keep", filepath.Join(p.dir, "demo"), "--only-make"); code != 0 {
		t.Fatalf("the demo can't be made: %s", errs)
	}
	return p
}

func (p place) command(args ...string) *exec.Cmd {
	c := exec.Command(demotest.Program(p.t), args...)
	c.Env = append(os.Environ(), "XDG_STATE_HOME="+filepath.Join(p.dir, "state"), "TWINSHELF_SHELF=",
		"XDG_CACHE_HOME="+filepath.Join(p.dir, "cache"))
	return c
}

func (p place) run(in string, args ...string) (out, errs string, code int) {
	p.t.Helper()
	c := p.command(args...)
	var o, e bytes.Buffer
	c.Stdin, c.Stdout, c.Stderr = strings.NewReader(in), &o, &e
	err := c.Run()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		code = exit.ExitCode()
	} else if err != nil {
		p.t.Fatal(err)
	}
	return o.String(), e.String(), code
}

func TestCommandsAndTheirStatuses(t *testing.T) {
	p := newPlace(t)
	disk := func(name string) string { return filepath.Join(p.disks, name) }
	junk := filepath.Join(p.dir, "junk")
	os.MkdirAll(junk, 0o700)
	os.WriteFile(filepath.Join(junk, "letter.txt"), []byte("x"), 0o600)
	empty := filepath.Join(p.dir, "empty.img")
	os.WriteFile(empty, nil, 0o600)
	fresh := filepath.Join(p.dir, "fresh.img")
	testkit.Sparse(t, fresh, 140_000_000_000)
	for _, c := range []struct {
		in   string
		args []string
		code int
		says string
	}{
		{"", []string{"--help"}, 0, "Examples:"},
		{"", []string{"completion", "bash"}, 0, "bash completion"},
		{"", []string{"bench", "--disk", p.disks}, 0, "Kestrel K2 256"},
		{"", []string{"bench", "--disk", filepath.Join(p.dir, "missing.img")}, 1, "no such file"},
		{"", []string{"bench", "--disk", empty}, 1, "is empty"},
		{"", []string{"nonsense"}, 2, "no command"},
		{"", []string{"restor"}, 2, "did you mean restore"},
		{"", []string{"shelf", "chek"}, 2, "did you mean check"},
		{"", []string{"shelf"}, 2, "what is to be done"},
		{"", []string{"ready"}, 2, "what is to be done"},
		{"", []string{"shelf", "check", "extra"}, 2, "--help"},
		{"", []string{"capture"}, 2, ""},
		{"", []string{"--version"}, 0, "Twin Shelf"},
		{"", []string{"bench", "--wrong"}, 2, "unknown flag"},
		{"", []string{"dates"}, 2, "--shelf"},
		{"", []string{"--shelf", junk, "dates"}, 1, "no shelf"},
		{"", []string{"--shelf", p.shelf, "dates"}, 0, "Weighbridge"},
		{"", []string{"--shelf", p.shelf, "dates", "Purser's laptop"}, 0, "Cormorant C 500"},
		{"", []string{"--shelf", p.shelf, "dates", "Nobody"}, 2, "no such twin"},
		{"", []string{"--shelf", p.shelf, "prove", "ticket", "2026-10-30"}, 0, "claims hold"},
		{"", []string{"--shelf", p.shelf, "restore", "Ticket desk", "2026-10-30", disk("heron-1tb.img"), "--plan"}, 0,
			"2026-10-30 18:05"},
		{"", []string{"--shelf", p.shelf, "restore", "Ticket desk", "2026-10-31", disk("heron-1tb.img"), "--plan"}, 2,
			"has none of"},
		{"", []string{"--shelf", p.shelf, "restore", "Ticket desk", junk, "--plan"}, 3,
			"neither a disk nor an image file"},
		{"", []string{"--shelf", p.shelf, "restore", "Ticket desk", "/dev/null", "--plan"}, 3,
			"neither a disk nor an image file"},
		{"", []string{"shelf", "new", junk}, 1, "not empty"},
		{"", []string{"shelf", "new", "ftp://depot/oak"}, 2, "lies in a folder"},
		{"", []string{"shelf", "new", "sftp://depot/oak"}, 1, "needs a passphrase"},
		{"", []string{"shelf", "new", filepath.Join(p.dir, "elm"), "--name", "Elm"}, 0, "is ready"},
		{"", []string{"--shelf", p.shelf, "shelf", "show"}, 0, "70 twins"},
		{"", []string{"--shelf", p.shelf, "shelf", "reindex"}, 0, "blocks"},
		{"", []string{"--shelf", filepath.Join(p.dir, "elm"), "capture", disk("weighbridge.img")}, 2, "--machine"},
		{"", []string{"--shelf", p.shelf, "capture", disk("weighbridge.img"), "--plan"}, 0, "Weighbridge: "},
		{"", []string{"--shelf", p.shelf, "capture", disk("weighbridge.img"), "--without", "7"}, 2, "no part 7"},
		{"", []string{"--shelf", p.shelf, "capture", disk("weighbridge.img")}, 0, "new on the shelf"},
		{"", []string{"--shelf", p.shelf, "prove", "Weighbridge"}, 0, "claims hold"},
		{"", []string{"--shelf", p.shelf, "restore", "Weighbridge", disk("heron-1tb.img"), "--plan"}, 0, "Writes to:"},
		{"wrong\n", []string{"--shelf", p.shelf, "restore", "Weighbridge", disk("heron-1tb.img")}, 3,
			"nothing was written"},
		{"", []string{"--shelf", p.shelf, "restore", "Ticket desk", disk("weighbridge.img"), "--keep", "--confirm",
			"A0D2"}, 1, "too small by 245 254 603 264 bytes"},
		{"", []string{"--shelf", p.shelf, "restore", "Ticket desk", disk("purser-1.img"), "--plan"}, 0,
			"part 3 shrinks from 249 GB to 127 GB"},
		{"", []string{"--shelf", p.shelf, "restore", "Ticket desk", disk("heron-1tb.img"), "--plan", "--size",
			"3=least", "--grow", "4"}, 0, "part 3 shrinks"},
		{"", []string{"--shelf", p.shelf, "restore", "Ticket desk", disk("heron-1tb.img"), "--plan", "--size",
			"3=10MB"}, 1, "can't be smaller than"},
		{"", []string{"--shelf", p.shelf, "rehearse", "Weighbridge", filepath.Join(p.dir, "rehearsal.img"),
			"--disk-size", "8 GB"}, 0, "claims hold"},
		{"", []string{"--shelf", p.shelf, "rehearse", "Weighbridge", filepath.Join(p.dir, "rehearsal.img"),
			"--disk-size", "8 GB"}, 1, "is there already"},
		{"", []string{"bench", "--disk", filepath.Join(p.dir, "rehearsal.img")}, 0, "WEIGHBRIDGE"},
		{"", []string{"--shelf", p.shelf, "restore", "Ticket desk", disk("heron-1tb.img"), "--plan"}, 0,
			"part 3 grows from 249 GB to 999 GB"},
		{"", []string{"--shelf", p.shelf, "restore", "Ticket desk", disk("heron-1tb.img"), "--plan", "--keep"}, 0,
			"751 GB after the last part stay unused"},
		{"", []string{"--shelf", p.shelf, "restore", "Ticket desk", disk("heron-1tb.img"), "--plan", "--size",
			"3=300GB", "--without", "4"}, 0, "part 4 is left out"},
		{"", []string{"--shelf", p.shelf, "restore", "Ticket desk", disk("heron-1tb.img"), "--plan", "--grow", "3:2",
			"--grow", "4", "--json"}, 0, `"cannot_grow"`},
		{"", []string{"--shelf", p.shelf, "restore", "Ticket desk", disk("heron-1tb.img"), "--plan", "--grow", "2"}, 1,
			"part 2 can't grow"},
		{"", []string{"--shelf", p.shelf, "restore", "Ticket desk", disk("heron-1tb.img"), "--plan", "--size", "3=2TB"},
			1, "too small by"},
		{"", []string{"--shelf", p.shelf, "restore", "Ticket desk", disk("heron-1tb.img"), "--plan", "--without", "9"},
			1, "no part 9"},
		{"", []string{"--shelf", p.shelf, "restore", "Ticket desk", disk("heron-1tb.img"), "--grow", "three"}, 2,
			"NUMBER:SHARE"},
		{"", []string{"--shelf", p.shelf, "restore", "Ticket desk", disk("heron-1tb.img"), "--keep", "--grow", "3"}, 2,
			"--keep lets nothing grow"},
		{"", []string{"--shelf", p.shelf, "shelf", "parity", "5"}, 0, "5 % parity"},
		{"", []string{"--shelf", p.shelf, "shelf", "parity", "80"}, 2, "choose from 1 to 50"},
		{"", []string{"--shelf", p.shelf, "restore", "Purser's laptop", disk("heron-1tb.img")}, 2, "--from-disk"},
		{"", []string{"--shelf", p.shelf, "restore", "Purser's laptop", disk("heron-1tb.img")}, 2, "would go onto"},
		{"", []string{"--shelf", p.shelf, "restore", "Purser's laptop", disk("heron-1tb.img"), "-", "--grow", "2"}, 2,
			"DISK/PART"},
		{"", []string{"--shelf", p.shelf, "restore", "Purser's laptop", disk("heron-1tb.img"), disk("heron-1tb.img"),
			"--plan"}, 2, "a target of its own"},
		{"", []string{"--shelf", p.shelf, "restore", "Ticket desk", disk("heron-1tb.img"), disk("storage-oak.img"),
			"--fresh-on", "40B1", "--plan"}, 2, "none of the targets"},
		{"", []string{"--shelf", p.shelf, "restore", "Ticket desk", disk("heron-1tb.img"), "-", "--plan"}, 2,
			"each target gets the same disk"},
		{"", []string{"--shelf", p.shelf, "restore", "Weighbridge", disk("heron-1tb.img"), fresh, "--plan"}, 0,
			"Everything on 2 disks will be overwritten."},
		{"7731\n7731\n", []string{"--shelf", p.shelf, "restore", "Weighbridge", disk("heron-1tb.img"), fresh}, 3,
			"size, as shown above (" + fresh + ", 2 of 2)"},
		{"", []string{"--shelf", p.shelf, "restore", "Purser's laptop", disk("heron-1tb.img"), "-", "--plan"}, 0,
			"disk 2 of the machine"},
		{"", []string{"--shelf", p.shelf, "restore", "Purser's laptop", fresh, "-", "--confirm", "140 GB"}, 3,
			"--yes-fewer-disks"},
		{"no\n", []string{"--shelf", p.shelf, "restore", "Purser's laptop", fresh, "-", "--confirm", "140 GB"}, 3,
			"nothing was done"},
		{"yes\n", []string{"--shelf", p.shelf, "restore", "Purser's laptop", fresh, "-", "--confirm", "140 GB"}, 0,
			"claims hold"},
		{"", []string{"--shelf", p.shelf, "restore", "Purser's laptop", "-", "-"}, 2, "nothing to write"},
		{"7731\n", []string{"--shelf", p.shelf, "restore", "Weighbridge", disk("heron-1tb.img")}, 0, "claims hold"},
		{"", []string{"--shelf", p.shelf, "prove", "Weighbridge", "--target", disk("heron-1tb.img")}, 0, "claims hold"},
		{"", []string{"--shelf", p.shelf, "prove", "Harbour kiosk", "--target", disk("heron-1tb.img")}, 4,
			"isn't a restore of it"},
		{"", []string{"copy", disk("weighbridge.img"), disk("weighbridge.img"), "--plan"}, 3, "the disk that is read"},
		{"", []string{"copy", disk("weighbridge.img"), disk("heron-1tb.img"), "--plan"}, 0, "the same identity"},
		{"7731\n", []string{"copy", disk("weighbridge.img"), disk("heron-1tb.img")}, 0, "claims hold"},
	} {
		out, errs, code := p.run(c.in, c.args...)
		if code != c.code || !strings.Contains(out+errs, c.says) {
			t.Errorf("%q ended with %d (wanted %d) and said\n%s%s(wanted %q)", c.args, code, c.code, out, errs, c.says)
		}
	}
}

func TestJSON(t *testing.T) {
	p := newPlace(t)
	for _, args := range [][]string{
		{"bench", "--disk", p.disks}, {"--shelf", p.shelf, "dates"}, {"--shelf", p.shelf, "dates", "Ticket desk"},
		{"--shelf", p.shelf, "shelf", "show"},
		{"--shelf", p.shelf, "capture", "--plan", filepath.Join(p.disks, "ticket-desk.img")},
		{"--shelf", p.shelf, "prove", "Weighbridge"},
		{"--shelf", p.shelf, "restore", "Weighbridge", filepath.Join(p.disks, "heron-1tb.img"), "--plan"},
	} {
		out, errs, code := p.run("", append(args, "--json")...)
		var v any
		if err := json.Unmarshal([]byte(out), &v); err != nil || code != 0 {
			t.Errorf("%q: %d %v\n%s%s", args, code, err, out, errs)
		}
	}
}

// TestDamagedPack: status 4, the hurt part is named, the others hold.
func TestDamagedPack(t *testing.T) {
	p := newPlace(t)
	packs, _ := filepath.Glob(filepath.Join(p.shelf, "packs", "*.pack"))
	for _, file := range packs { // which block comes into which pack, and where, is chance
		f, err := os.OpenFile(file, os.O_RDWR, 0)
		if err != nil {
			t.Fatal(err)
		}
		st, err := f.Stat()
		if err != nil {
			t.Fatal(err)
		}
		for _, share := range []int64{4, 3, 2} {
			f.WriteAt(bytes.Repeat([]byte{0xA5}, 4096), st.Size()/share)
		}
		f.Close()
	}
	out, errs, code := p.run("", "--shelf", p.shelf, "prove", "Ticket desk")
	named := slices.ContainsFunc(packs, func(file string) bool { return strings.Contains(out, filepath.Base(file)) })
	if code != 4 || !strings.Contains(out, "FAILS") || !strings.Contains(out, "holds") || !named {
		t.Errorf("%d\n%s%s", code, out, errs)
	}
}

// TestKilledCapture kills the program in the middle: earlier twins stay whole, and it can be done again.
func TestKilledCapture(t *testing.T) {
	p := newPlace(t)
	img := filepath.Join(p.dir, "big.img")
	b := make([]byte, 300<<20)
	for i := 0; i < len(b); i += 8 {
		b[i], b[i+1], b[i+2] = byte(i>>8), byte(i>>16), byte(i*i>>7)
	}
	clear(b[:4096])
	clear(b[len(b)-4096:])
	if err := os.WriteFile(img, b, 0o600); err != nil {
		t.Fatal(err)
	}
	c := p.command("--shelf", p.shelf, "capture", img, "--machine", "Big")
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(time.Millisecond) {
		if tmp, _ := filepath.Glob(filepath.Join(p.shelf, "tmp", "*-????????????????")); len(tmp) > 0 {
			break
		}
	}
	c.Process.Kill()
	c.Wait()
	if out, errs, code := p.run("", "--shelf", p.shelf, "dates"); code != 0 || strings.Contains(out, "Big") {
		t.Errorf("%d %s%s", code, out, errs)
	}
	if out, errs, code := p.run("", "--shelf", p.shelf, "prove", "Ticket desk"); code != 0 {
		t.Errorf("an earlier twin is hurt: %s%s", out, errs)
	}
	if out, errs, code := p.run("", "--shelf", p.shelf, "capture", img, "--machine", "Big"); code != 0 {
		t.Errorf("the second try: %d %s%s", code, out, errs)
	}
}

func TestDemoWalk(t *testing.T) {
	p := place{t: t, dir: t.TempDir()}
	out, errs, code := p.run("", "demo", "--walk")
	for _, want := range []string{"timetable-winter.txt was deleted later and is back",
		"notice-storm.txt was added later and is gone", "Everything holds", "handed back with its job sheet"} {
		if !strings.Contains(out, want) {
			t.Errorf("it doesn't say %q", want)
		}
	}
	if code != 0 || strings.Contains(out, "FAILS") {
		t.Errorf("%d\n%s%s", code, out, errs)
	}
}

// TestRestoredDemoIsSoundForOthers lets the system's own tools judge a restored disk.
func TestRestoredDemoIsSoundForOthers(t *testing.T) {
	testkit.Need(t, "partx", "e2fsck", "blkid")
	p := newPlace(t)
	target := filepath.Join(p.disks, "heron-1tb.img")
	if out, errs, code := p.run("", "--shelf", p.shelf, "restore", "Harbour kiosk", target, "--confirm",
		"7731"); code != 0 {
		t.Fatalf("%s%s", out, errs)
	}
	if out := testkit.Do(t, "partx", "--show", "-o", "NR,NAME", target); !strings.Contains(out, "kiosk") ||
		strings.Count(out, "\n") != 4 {
		t.Errorf("partx: %s", out)
	}
	testkit.Do(t, "e2fsck", "-fn", target+"?offset=105906176")
	if out := testkit.Do(t, "blkid", "-p", "-O", "105906176", target); !strings.Contains(out, "kiosk-root") {
		t.Errorf("blkid: %s", out)
	}
}

// TestHostileTexts: a label, a file's and a machine's name can't give orders to a terminal, neither as text nor as
// JSON.
func TestHostileTexts(t *testing.T) {
	testkit.Need(t, "mkfs.ext4")
	p := newPlace(t)
	dir := t.TempDir()
	const evil = "\x1b]0;owned\x07\u009b31m"
	if err := os.WriteFile(filepath.Join(dir, "note"+evil), []byte("x"), 0o600); err != nil {
		t.Fatal(err)
	}
	img := filepath.Join(p.dir, "evil.img")
	testkit.Sparse(t, img, 16<<20)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", "-L", "\x1b[2Joak", "-d", dir, img)
	for _, args := range [][]string{
		{"bench", "--disk", img}, {"bench", "--disk", img, "--json"}, {"list", img, "--disk", img},
		{"list", img, "--disk", img, "--json"},
		{"--shelf", p.shelf, "capture", img, "--machine", "Kiosk" + evil},
		{"--shelf", p.shelf, "dates", "Kiosk" + evil},
	} {
		out, errs, _ := p.run("", args...)
		if strings.ContainsAny(out+errs, "\x1b\x07\u009b") {
			t.Errorf("%q: %q", args, out+errs)
		}
	}
}

// TestRegistryAsks: a Windows whose registry names the old identities needs a yes of its own before it gets others.
func TestRegistryAsks(t *testing.T) {
	testkit.Need(t, "mkntfs", "ntfs-3g")
	testkit.Root(t)
	p := place{t: t, dir: t.TempDir()}
	fs := filepath.Join(p.dir, "fs")
	testkit.Sparse(t, fs, 40<<20)
	testkit.Do(t, "mkntfs", "-F", "-Q", "-q", fs)
	testkit.Mounted(t, []string{"ntfs-3g", fs}, func(point string) {
		folder := filepath.Join(point, "Windows/System32/config")
		if err := os.MkdirAll(folder, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(folder, "SYSTEM"), []byte("regf"), 0o600); err != nil {
			t.Fatal(err)
		}
	})
	img, target := filepath.Join(p.dir, "desk.img"), filepath.Join(p.dir, "new.img")
	testkit.Sparse(t, img, 60<<20)
	testkit.Sparse(t, target, 80<<20)
	testkit.WriteTable(t, img, table.Layout{Kind: table.GPT, Sector: 512, ID: "7A5E0F10-3B1C-4D5A-9C00-00000000AE00",
		Parts: []table.Part{
			{Number: 1, Span: span.At(1<<20, 40<<20), Type: table.TypeMSBasicData,
				GUID: "7A5E0F10-3B1C-4D5A-9C00-00000000AE01"}}}, 60<<20)
	testkit.Place(t, fs, img, 1<<20)
	args := []string{"copy", img, target, "--fresh-identity", "--confirm", "83.9 MB"}
	if out, errs, code := p.run("", args...); code != 3 || !strings.Contains(errs, "--yes-registry") ||
		!strings.Contains(out, "drive letters may change") {
		t.Errorf("%d %s%s", code, out, errs)
	}
	if out, errs, code := p.run("", append(args, "--yes-registry")...); code != 0 {
		t.Errorf("%d %s%s", code, out, errs)
	}
}

package startup_test

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"twinshelf/internal/demo"
	"twinshelf/internal/disk"
	"twinshelf/internal/hive/hivetest"
	"twinshelf/internal/identity"
	"twinshelf/internal/span"
	"twinshelf/internal/startup"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// file is a file of the till's disk as independent readers give it.
func (w where) file(t testing.TB, img, name string) string {
	t.Helper()
	out := filepath.Join(t.TempDir(), "out")
	if w.kind == table.GPT && name != "Windows/System32/config/SYSTEM" {
		testkit.Do(t, "mcopy", "-i", testkit.Extract(t, img, hivetest.FirstAt, hivetest.FirstLen), "::"+name, out)
		return out
	}
	at, n := w.at, int64(hivetest.SystemLen)
	if name == "Boot/BCD" {
		at, n = hivetest.FirstAt, hivetest.FirstLen
	}
	text := testkit.Do(t, "ntfscat", "-f", testkit.Extract(t, img, at, n), name)
	if err := os.WriteFile(out, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return out
}

// where is what names the till's system.
type where struct {
	kind table.Kind
	at   int64
	id   string // of the disk
	part string
}

// check sees that the store and the letter name the system, by another program.
func (w where) check(t *testing.T, img string) {
	t.Helper()
	sign := uint32(0)
	want, store := []byte(nil), "EFI/Microsoft/Boot/BCD"
	if w.kind == table.MBR {
		if _, err := fmt.Sscanf(w.id, "%x", &sign); err != nil {
			t.Fatal(err)
		}
		want, store = hivetest.OnMBR(sign, w.at), "Boot/BCD"
	} else {
		want = hivetest.OnGPT(t, w.id, w.part)
	}
	path := w.file(t, img, store)
	for _, key := range []string{hivetest.TillID + `\Elements\11000001`, hivetest.TillID + `\Elements\21000001`,
		hivetest.WakingID + `\Elements\11000001`} {
		if got := valueOf(t, path, `\Objects\`+key, "Element"); got != hex.EncodeToString(want) {
			t.Errorf("%s is %s, and should be %x", key, got, want)
		}
	}
	letter := hivetest.LetterC(t, w.kind, sign, w.at, w.part)
	path = w.file(t, img, "Windows/System32/config/SYSTEM")
	if got := valueOf(t, path, `\MountedDevices`, `\\DosDevices\\C:`); got != hex.EncodeToString(letter) {
		t.Errorf("C: is %s, and should be %x", got, letter)
	}
}

// valueOf is a value as another program reads it.
func valueOf(t *testing.T, path, key, name string) string {
	t.Helper()
	c := exec.Command("hivexsh", path)
	c.Stdin = strings.NewReader("cd " + key + "\nlsval\nquit\n")
	out, err := c.CombinedOutput()
	if err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	for line := range strings.Lines(string(out)) {
		if rest, is := strings.CutPrefix(line, `"`+name+`"=`); is {
			return strings.ReplaceAll(strings.TrimPrefix(strings.TrimSpace(rest), "hex(3):"), ",", "")
		}
	}
	return string(out)
}

// TestOtherHardware: with its wish, a Windows loads at its start what it has drivers for, and nothing whose file is
// missing; letters and drivers are changed at once.
func TestOtherHardware(t *testing.T) {
	const away = 10 * units.MiB
	img := hivetest.Till(t, table.MBR, nil)
	r := checked(t, img, startup.Options{})
	if patches, _ := r.Repairs(); len(patches) > 0 || !says(r, startup.Good, "on AHCI; in another machine it may not "+
		"find its disk on NVMe (stornvme)") {
		t.Errorf("unasked:\n%s", told(r))
	}
	testkit.Place(t, testkit.Extract(t, img, hivetest.SystemAt, hivetest.SystemLen), img, hivetest.SystemAt+away)
	relaid(t, img, table.MBR, func(l *table.Layout) { l.Parts[1].Span = l.Parts[1].Span.Shift(away) })
	o := startup.Options{OtherHardware: true, Moves: []disk.Move{{From: span.At(hivetest.SystemAt,
		hivetest.SystemLen), To: hivetest.SystemAt + away}}}
	r = checked(t, img, o)
	patches, does := r.Repairs()
	if !strings.Contains(strings.Join(does, "\n"), "stornvme (NVMe) 3/3 → 0") {
		t.Errorf("%q", does)
	}
	testkit.Write(t, img, patches)
	now := where{table.MBR, hivetest.SystemAt + away, fmt.Sprintf("%08x", hivetest.TillSignature), ""}
	now.check(t, img)
	path := now.file(t, img, startup.SystemHive)
	for key, want := range map[string]string{`stornvme`: "dword:00000000", `storahci`: "dword:00000000",
		`LSI_SAS`: "dword:00000003", `mouclass`: "dword:00000003"} {
		if got := valueOf(t, path, `\ControlSet002\Services\`+key, "Start"); got != want {
			t.Errorf("%s: %s", key, got)
		}
	}
	if got := valueOf(t, path, `\ControlSet002\Services\stornvme\StartOverride`, "0"); got != "dword:00000000" {
		t.Errorf("what overrides it is %s", got)
	}
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	if any, err := startup.AnyHardware(t.Context(), d); !any || err != nil {
		t.Errorf("it starts anywhere: %v, %v", any, err)
	}
}

// TestSystems: a Windows says what it is, what it is called, when it was used, and who uses it.
func TestSystems(t *testing.T) {
	d, err := disk.Open(hivetest.Till(t, table.MBR, nil), disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	looked, err := survey.Of(t.Context(), d, nil)
	if err != nil {
		t.Fatal(err)
	}
	all := startup.Systems(t.Context(), looked)
	if len(all) != 1 {
		t.Fatal(all)
	}
	want := "Part 2: Windows 11 Pro 23H2 (build 22631.3155), called TILL-2 | Installed 2023-09-12, shut down last " +
		"2025-11-19 04:26 +00:00, time zone W. Europe Standard Time | People: mara (25.5 kB)"
	if got := strings.Join(all[0].Words(), " | "); got != want {
		t.Errorf("%s", got)
	}
}

// TestAnotherPartInItsPlace: a moved Windows is followed also where another part begins now where it began.
func TestAnotherPartInItsPlace(t *testing.T) {
	const to = hivetest.SystemAt + 25*units.MiB
	img := hivetest.Till(t, table.MBR, nil)
	testkit.Place(t, testkit.Extract(t, img, hivetest.SystemAt, hivetest.SystemLen), img, to)
	relaid(t, img, table.MBR, func(l *table.Layout) {
		l.Parts[1].Span = span.At(to, hivetest.SystemLen)
		l.Parts = append(l.Parts, table.Part{Number: 3, Span: span.At(hivetest.SystemAt, 20*units.MiB), Type: "0x83"})
	})
	repaired(t, img, startup.Options{Moves: []disk.Move{{From: span.At(hivetest.SystemAt, hivetest.SystemLen),
		To: to}}})
	where{table.MBR, to, fmt.Sprintf("%08x", hivetest.TillSignature), ""}.check(t, img)
}

// TestStoreThatCantBeFollowed: what it may name keeps its identity, so that the disk starts as it did.
func TestStoreThatCantBeFollowed(t *testing.T) {
	for _, kind := range []table.Kind{table.MBR, table.GPT} {
		img := hivetest.Till(t, kind, demo.Loader(7, 40_000))
		name := map[table.Kind]string{table.MBR: "Boot/BCD", table.GPT: "EFI/Microsoft/Boot/BCD"}[kind]
		path := where{kind: kind}.file(t, img, name)
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		begun := hivetest.Begun(b)
		whole, err := os.ReadFile(img)
		if err != nil {
			t.Fatal(err)
		}
		at := bytes.Index(whole, b[:4096])
		testkit.Write(t, img, []disk.Patch{{Off: int64(at), Data: begun[:4096]}})
		d, err := disk.Open(img, disk.Identity{})
		if err != nil {
			t.Fatal(err)
		}
		defer d.Close()
		r, err := identity.Renew(t.Context(), d, identity.Options{Seed: "a new till"})
		if err != nil {
			t.Fatal(err)
		}
		for _, id := range []string{hivetest.TillDisk, hivetest.TillSystem,
			fmt.Sprintf("%08x-02", hivetest.TillSignature)} {
			if now, there := r.IDs[id]; there {
				t.Errorf("%s: %s becomes %s", kind, id, now)
			}
		}
		if !strings.Contains(strings.Join(r.Stays, "\n"), name) {
			t.Errorf("%s: nothing is said of its store: %q", kind, r.Stays)
		}
	}
}

// TestRecoveryFollows: the file that says where the recovery is says so afterwards, and is as long as it was.
func TestRecoveryFollows(t *testing.T) {
	const away, name = 10 * units.MiB, "Windows/System32/Recovery/ReAgent.xml"
	const indent = "\r\n    "
	for _, c := range []struct {
		from, to int64
		room     string
		repaired bool
	}{{hivetest.SystemAt, hivetest.SystemAt + away, indent, true}, {hivetest.SystemAt + 50*units.MiB,
		hivetest.SystemAt, indent,
		true}, {hivetest.SystemAt, hivetest.SystemAt + 60*units.MiB, indent, true},
		{hivetest.SystemAt, hivetest.SystemAt + 60*units.MiB, "", false}} {
		img := hivetest.Till(t, table.GPT, demo.Loader(7, 40_000))
		system := testkit.Extract(t, img, hivetest.SystemAt, hivetest.SystemLen)
		text := func(at int64) string {
			return fmt.Sprintf("<?xml version='1.0' encoding='utf-8'?>\r\n<WindowsRE version=\"2.0\">%s<WinreLocation "+
				"path=\"\\Recovery\\WindowsRE\" id=\"0\" offset=\"%d\" guid=\"{%s}\"/>%s</WindowsRE>%s", c.room, at,
				hivetest.TillDisk, c.room, strings.Repeat(" ", 1200))
		}
		was := text(c.from)
		testkit.Mounted(t, []string{"ntfs-3g", system}, func(point string) {
			if err := os.MkdirAll(filepath.Join(point, filepath.Dir(name)), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(point, name), []byte(was), 0o600); err != nil {
				t.Fatal(err)
			}
		})
		const size = 200 * units.MiB
		if err := os.Truncate(img, size); err != nil {
			t.Fatal(err)
		}
		testkit.Place(t, system, img, c.to)
		testkit.WriteTable(t, img, table.Layout{Kind: table.GPT, Sector: 512, ID: hivetest.TillDisk,
			Parts: []table.Part{
				{Number: 1, Span: span.At(hivetest.FirstAt, hivetest.FirstLen), Type: table.TypeESP,
					GUID: hivetest.TillDisk[:35] + "1"},
				{Number: 2, Span: span.At(c.to, hivetest.SystemLen), Type: table.TypeMSBasicData,
					GUID: hivetest.TillSystem}}}, size)
		r := checked(t, img, startup.Options{Moves: []disk.Move{{From: span.At(c.from, hivetest.SystemLen), To: c.to}}})
		patches, does := r.Repairs()
		if (len(does) > 0) != c.repaired || !says(r, startup.Doubt, "would look for its recovery where that was") {
			t.Errorf("%d to %d: %q\n%s", c.from, c.to, does, told(r))
		}
		testkit.Write(t, img, patches)
		got := testkit.Do(t, "ntfscat", "-f", testkit.Extract(t, img, c.to, hivetest.SystemLen), name)
		want := fmt.Sprintf(` offset="%d"`, c.to)
		if c.repaired && !strings.Contains(got, want) || len(got) != len(was) {
			t.Errorf("%d to %d: %d bytes, %.200q", c.from, c.to, len(got), got)
		}
	}
}

// TestRecoveryKnowsTheDisk: with a new signature of an MBR the file about the recovery names that one, longer or
// shorter; where there is no room for it, the disk keeps its signature.
func TestRecoveryKnowsTheDisk(t *testing.T) {
	const name = "Windows/System32/Recovery/ReAgent.xml"
	for _, c := range []struct{ now, indent, want string }{
		{"fedcba98", "\r\n   ", `<WinreLocation path="\Recovery" id="4275878552" offset="1048576"/>`},
		{"0000001f", "\r\n   ", `<WinreLocation path="\Recovery" id="31"`},
		{"fedcba98", "", ""},
	} {
		img := hivetest.Till(t, table.MBR, nil)
		system := testkit.Extract(t, img, hivetest.SystemAt, hivetest.SystemLen)
		was := fmt.Sprintf("<?xml version='1.0' encoding='utf-8'?>\r\n<WindowsRE version=\"2.0\">%s<WinreLocation "+
			"path=\"\\Recovery\" id=\"%d\" offset=\"%d\"/></WindowsRE>%s", c.indent, hivetest.TillSignature,
			hivetest.FirstAt, strings.Repeat(" ", 1200))
		testkit.Mounted(t, []string{"ntfs-3g", system}, func(point string) {
			if err := os.MkdirAll(filepath.Join(point, filepath.Dir(name)), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(point, name), []byte(was), 0o600); err != nil {
				t.Fatal(err)
			}
		})
		testkit.Place(t, system, img, hivetest.SystemAt)
		d, err := disk.Open(img, disk.Identity{})
		if err != nil {
			t.Fatal(err)
		}
		defer d.Close()
		old := fmt.Sprintf("%08x-01", hivetest.TillSignature)
		r, err := startup.Rewrite(t.Context(), d, map[string]string{old: c.now + "-01"})
		if err != nil {
			t.Fatal(err)
		}
		if stuck := slices.Contains(r.Stuck, old); stuck != (c.want == "") {
			t.Errorf("%s: stuck %q, changed %q", c.now, r.Stuck, r.Changed)
		}
		testkit.Write(t, img, r.Patches)
		got := testkit.Do(t, "ntfscat", "-f", testkit.Extract(t, img, hivetest.SystemAt, hivetest.SystemLen), name)
		if !strings.Contains(got, c.want) || len(got) != len(was) || c.want == "" && got != was {
			t.Errorf("%s: %.250q", c.now, got)
		}
	}
}

// relaid gives a disk another table.
func relaid(t *testing.T, img string, kind table.Kind, change func(l *table.Layout)) {
	t.Helper()
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	tab, err := table.Read(d, d.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	l := table.Layout{Kind: kind, Sector: 512, ID: tab.ID, Parts: slices.Clone(tab.Parts)}
	change(&l)
	testkit.WriteTable(t, img, l, hivetest.TillSize)
	if kind == table.MBR {
		testkit.Write(t, img, []disk.Patch{{Off: 0, Data: testkit.TableCode}})
	}
}

// repaired checks a disk, writes what can be put right, and sees that it starts then.
func repaired(t *testing.T, img string, o startup.Options) {
	t.Helper()
	r := checked(t, img, o)
	patches, does := r.Repairs()
	testkit.Write(t, img, patches)
	if r := checked(t, img, startup.Options{}); !says(r, startup.Good, "“Till” starts the Windows on part 2") {
		t.Errorf("it doesn't start:\n%s\nrepaired: %q", told(r), does)
	}
}

// TestWindowsFollows: whatever became of the place and the identities of a Windows, its boot manager's store and its
// letters name it afterwards.
func TestWindowsFollows(t *testing.T) {
	const away = 10 * units.MiB
	sign := fmt.Sprintf("%08x", hivetest.TillSignature)
	for _, kind := range []table.Kind{table.MBR, table.GPT} {
		as := where{kind, hivetest.SystemAt, sign, ""}
		if kind == table.GPT {
			as = where{kind, hivetest.SystemAt, hivetest.TillDisk, hivetest.TillSystem}
		}
		t.Run(fmt.Sprintf("%s as it is", kind), func(t *testing.T) {
			img := hivetest.Till(t, kind, demo.Loader(7, 40_000))
			r := checked(t, img, startup.Options{})
			if patches, does := r.Repairs(); len(patches) > 0 || len(r.Starts()) != 1 {
				t.Errorf("%q\n%s", does, told(r))
			}
			as.check(t, img)
		})
		t.Run(fmt.Sprintf("%s, moved", kind), func(t *testing.T) {
			img := hivetest.Till(t, kind, demo.Loader(7, 40_000))
			testkit.Place(t, testkit.Extract(t, img, hivetest.SystemAt, hivetest.SystemLen), img,
				hivetest.SystemAt+away)
			relaid(t, img, kind, func(l *table.Layout) { l.Parts[1].Span = l.Parts[1].Span.Shift(away) })
			repaired(t, img, startup.Options{Moves: []disk.Move{{From: span.At(hivetest.FirstAt, hivetest.FirstLen),
				To: hivetest.FirstAt},
				{From: span.At(hivetest.SystemAt, hivetest.SystemLen), To: hivetest.SystemAt + away}}})
			now := as
			now.at += away
			now.check(t, img)
		})
		t.Run(fmt.Sprintf("%s, the disk has another identity", kind), func(t *testing.T) {
			img := hivetest.Till(t, kind, demo.Loader(7, 40_000))
			now := as
			relaid(t, img, kind, func(l *table.Layout) {
				l.ID = "deadbeef"
				if kind == table.GPT {
					l.ID = hivetest.TillDisk[:34] + "77"
				}
				now.id = l.ID
			})
			repaired(t, img, startup.Options{})
			if kind == table.GPT { // letters don't name the disk
				now.check(t, img)
			}
		})
		t.Run(fmt.Sprintf("%s, all identities renewed", kind), func(t *testing.T) {
			img := hivetest.Till(t, kind, demo.Loader(7, 40_000))
			d, err := disk.Open(img, disk.Identity{})
			if err != nil {
				t.Fatal(err)
			}
			defer d.Close()
			r, err := identity.Renew(t.Context(), d, identity.Options{Seed: "a new till"})
			if err != nil {
				t.Fatal(err)
			}
			testkit.Write(t, img, r.Patches)
			now := as
			if kind == table.GPT {
				now.id, now.part = r.IDs[as.id], r.IDs[as.part]
			} else {
				now.id = strings.TrimSuffix(r.IDs[as.id+"-02"], "-02")
			}
			if len(r.Asks) > 0 || now.id == "" || now.id == as.id {
				t.Errorf("%q, %v", r.Asks, r.IDs)
			}
			now.check(t, img)
			if r := checked(t, img, startup.Options{}); len(r.Starts()) != 1 {
				t.Error(told(r))
			}
		})
	}
}

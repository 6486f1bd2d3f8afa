package hive_test

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/hive"
	"twinshelf/internal/hive/hivetest"
	"twinshelf/internal/testkit"
)

// opened opens a registry file.
func opened(t testing.TB, b []byte, logs ...[]byte) *hive.Hive {
	t.Helper()
	h, err := open(b, logs...)
	if err != nil {
		t.Fatal(err)
	}
	return h
}

func open(b []byte, logs ...[]byte) (*hive.Hive, error) {
	var all []hive.Log
	for _, l := range logs {
		all = append(all, hive.Log{R: bytes.NewReader(l), Size: int64(len(l))})
	}
	return hive.Open(bytes.NewReader(b), int64(len(b)), all...)
}

// dump lists all keys and values as an independent reader does.
func dump(t testing.TB, b []byte) []string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "hive")
	if err := os.WriteFile(path, b, 0o600); err != nil {
		t.Fatal(err)
	}
	return strings.Split(strings.TrimSpace(testkit.Do(t, "reglookup", "-H", path)), "\n")
}

// mine lists the same as this package reads it.
func mine(t testing.TB, k hive.Key, path string) (out []string) {
	t.Helper()
	out = append(out, "/"+path)
	values, err := k.Values()
	if err != nil {
		t.Fatal(err)
	}
	for _, v := range values {
		b, err := v.Bytes()
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, fmt.Sprintf("/%s: %s %d %x", path, v.Name(), v.Kind(), b))
	}
	keys, err := k.Keys()
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range keys {
		out = append(out, mine(t, x, strings.TrimPrefix(path+"/"+x.Name(), "/"))...)
	}
	return out
}

// theirs lists it as hivexsh reads it.
func theirs(t testing.TB, b []byte, paths ...string) (out []string) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "hive")
	if err := os.WriteFile(path, b, 0o600); err != nil {
		t.Fatal(err)
	}
	for _, p := range paths {
		c := exec.Command("hivexsh", path)
		c.Stdin = strings.NewReader("cd \\" + strings.ReplaceAll(p, "/", `\`) + "\nlsval\nquit\n")
		said, err := c.CombinedOutput()
		if err != nil {
			t.Fatalf("%v: %s", err, said)
		}
		out = append(out, string(said))
	}
	return out
}

func root(t testing.TB, h *hive.Hive) hive.Key {
	t.Helper()
	k, err := h.Root()
	if err != nil {
		t.Fatal(err)
	}
	return k
}

// ticketDesk is a registry file that an independent program wrote.
func ticketDesk(t testing.TB) []byte {
	t.Helper()
	var many []string
	for i := range 700 { // lists of lists
		many = append(many, fmt.Sprintf("add sailing-%03d", i))
	}
	return hivetest.Written(t, slices.Concat([]string{"cd \\", "add Desk", "cd Desk", "setval 6", "Name",
		"string:Ticket desk", "Clerks", "dword:0x3", "Seal", "hex:3:01,02,03,04,05,06,07,08,09,0a,0b,0c", "@",
		"string:own", "Tiny", "hex:3:07", "Lines", "hex:7:41,00,00,00,42,00,43,00,00,00,00,00", "cd \\", "add Ærø",
		"add Sailings", "cd Sailings"}, many))
}

// listed is the file with the sailings in two lists, which a third one names.
func listed(t testing.TB, b []byte) []byte {
	t.Helper()
	const sailings = 700
	le := binary.LittleEndian
	key := bytes.Index(b, []byte("Sailings")) - 76
	list := b[4096+int(le.Uint32(b[key+28:]))+4:]
	if le.Uint32(b[key+20:]) != sailings || string(list[:2]) != "lh" && string(list[:2]) != "lf" {
		t.Fatalf("%q, %d", list[:2], le.Uint32(b[key+20:]))
	}
	var places []byte
	for i := range sailings {
		places = append(places, list[4+8*i:][:4]...)
	}
	head := func(mark string, n uint16) []byte { return le.AppendUint16([]byte(mark), n) }
	out, at := hivetest.Append(b, append(head("li", 300), places[:1200]...), append(head("li", 400), places[1200:]...))
	out, at = hivetest.Append(out, le.AppendUint32(le.AppendUint32(head("ri", 2), at[0]), at[1]))
	le.PutUint32(out[key+28:], at[0])
	return out
}

// TestReads: keys and values are what an independent writer put there and another reader sees.
func TestReads(t *testing.T) {
	testkit.Need(t, "hivexsh", "reglookup")
	b := listed(t, ticketDesk(t))
	k := root(t, opened(t, b))
	all := mine(t, k, "")
	if want := len(dump(t, b)); len(all) != want {
		t.Errorf("%d keys and values are read, and there are %d", len(all), want)
	}
	desk, err := k.Find(`desk`)
	if err != nil {
		t.Fatal(err)
	}
	name, err := desk.Value("NAME")
	if err != nil {
		t.Fatal(err)
	}
	if s, err := name.Text(); s != "Ticket desk" || err != nil {
		t.Errorf("%q, %v", s, err)
	}
	if _, err := name.Word(); !errors.Is(err, hive.ErrKind) {
		t.Error(err)
	}
	lines, err := desk.Value("Lines")
	if err != nil {
		t.Fatal(err)
	}
	if s, err := lines.Texts(); !slices.Equal(s, []string{"A", "BC"}) || err != nil {
		t.Errorf("%q, %v", s, err)
	}
	if _, err := k.Find(`Desk\Drawer`); !errors.Is(err, fs.ErrNotExist) {
		t.Error(err)
	}
	if _, err := k.Find(`ÆRØ`); err != nil {
		t.Error(err)
	}
	if _, err := k.Find(`Sailings\sailing-699`); err != nil {
		t.Error(err)
	}
}

// patched is a file with patches.
func patched(b []byte, patches []disk.Patch) []byte {
	out := bytes.Clone(b)
	for _, p := range patches {
		copy(out[p.Off:], p.Data)
	}
	return out
}

// TestSets: only the wanted values differ afterwards, to independent readers too.
func TestSets(t *testing.T) {
	testkit.Need(t, "hivexsh", "reglookup")
	b := ticketDesk(t)
	h := opened(t, b)
	desk, err := h.Find("Desk")
	if err != nil {
		t.Fatal(err)
	}
	if h.Patches() != nil {
		t.Error("nothing was changed, and something would be written")
	}
	set := func(name string, now []byte) {
		t.Helper()
		v, err := desk.Value(name)
		if err != nil {
			t.Fatal(err)
		}
		if err := v.Set(now); err != nil {
			t.Fatal(err)
		}
		if got, err := v.Bytes(); err != nil || !bytes.Equal(got, now) && name == "Seal" {
			t.Errorf("%s is %x, %v", name, got, err)
		}
	}
	set("Clerks", []byte{5, 0, 0, 0})
	set("Seal", []byte("a new seal!!"))
	set("Seal", []byte("another one!"))
	after := patched(b, h.Patches())
	was, now := dump(t, b), dump(t, after)
	var differ []string
	for i := range min(len(was), len(now)) {
		if was[i] != now[i] {
			differ = append(differ, now[i])
		}
	}
	if len(was) != len(now) || len(differ) != 2 || !strings.Contains(differ[0], "Clerks") ||
		!strings.Contains(differ[1], "another one!") {
		t.Errorf("%d lines and %d, of which differ %q", len(was), len(now), differ)
	}
	if got := theirs(t, after, "Desk")[0]; !strings.Contains(got, `"Clerks"=dword:00000005`) {
		t.Error(got)
	}
	again := opened(t, after)
	if again.Replayed || again.Patches() != nil {
		t.Error("it doesn't count as closed")
	}
	v, err := desk.Value("Clerks")
	if err != nil {
		t.Fatal(err)
	}
	if err := v.Set([]byte{1}); err == nil {
		t.Error("a value took fewer bytes than it has")
	}
}

// TestLargeValues: values that lie in segments are read, and changed in place.
func TestLargeValues(t *testing.T) {
	testkit.Need(t, "hivexsh", "reglookup")
	const n, segment = 40_000, 16344
	big := testkit.Noise(3, n)
	b := hivetest.Written(t, []string{"cd \\", "setval 1", "Chart", "hex:3:01,02,03,04,05"})
	le := binary.LittleEndian
	le.PutUint32(b[24:], 5)
	var places []uint32
	var list []byte
	b, places = hivetest.Append(b, big[:segment], big[segment:2*segment], big[2*segment:])
	for _, at := range places {
		list = le.AppendUint32(list, at)
	}
	b, places = hivetest.Append(b, list)
	b, places = hivetest.Append(b, le.AppendUint32([]byte("db\x03\x00"), places[0]))
	vk := bytes.Index(b, []byte("vk"))
	le.PutUint32(b[vk+4:], n)
	le.PutUint32(b[vk+8:], places[0])
	h := opened(t, b)
	v, err := root(t, h).Value("Chart")
	if err != nil {
		t.Fatal(err)
	}
	if got, err := v.Bytes(); err != nil || !bytes.Equal(got, big) {
		t.Fatalf("%d bytes, %v", len(got), err)
	}
	other := testkit.Noise(4, n)
	if err := v.Set(other); err != nil {
		t.Fatal(err)
	}
	var hexed []string
	for _, c := range other {
		hexed = append(hexed, hex.EncodeToString([]byte{c}))
	}
	if got := theirs(t, patched(b, h.Patches()), "")[0]; !strings.Contains(got, strings.Join(hexed, ",")) {
		t.Error("another reader sees something else")
	}
}

// TestLogs: a file that wasn't closed is what it was to become, by logs of both kinds, one or two of them; and refused
// where they don't fit.
func TestLogs(t *testing.T) {
	testkit.Need(t, "hivexsh", "reglookup")
	before := hivetest.Written(t, []string{"cd \\", "add Desk", "cd Desk", "setval 2", "Clerks", "dword:0x3", "Seal",
		"hex:3:01,02,03,04,05,06,07,08,09,0a,0b,0c"})
	change := func(b []byte, name string, now []byte) []byte {
		t.Helper()
		h := opened(t, b)
		desk, err := h.Find("Desk")
		if err != nil {
			t.Fatal(err)
		}
		v, err := desk.Value(name)
		if err != nil {
			t.Fatal(err)
		}
		if err := v.Set(now); err != nil {
			t.Fatal(err)
		}
		return patched(b, h.Patches())
	}
	one := change(before, "Clerks", []byte{9, 0, 0, 0})
	two := change(one, "Seal", []byte("a new seal!!"))
	three := change(two, "Clerks", []byte{7, 0, 0, 0})
	four := change(three, "Seal", []byte("an odd seal!"))
	dirty := hivetest.Begun(before)
	headless := bytes.Clone(dirty)
	headless[100]++
	for name, c := range map[string]struct {
		b    []byte
		logs [][]byte
		want []byte // nil where it is refused
	}{
		"new":                {dirty, [][]byte{hivetest.NewLog(before, one, two)}, two},
		"new, in two":        {dirty, [][]byte{hivetest.NewLog(one, two), hivetest.NewLog(before, one)}, two},
		"one is newer":       {dirty, [][]byte{hivetest.NewLog(one, two), {}}, two},
		"old":                {dirty, [][]byte{hivetest.OldLog(before, one)}, one},
		"without a head":     {headless, [][]byte{hivetest.NewLog(before, one, two)}, two},
		"closed":             {before, [][]byte{hivetest.NewLog(before, one)}, before},
		"none":               {dirty, nil, nil},
		"of something":       {dirty, [][]byte{[]byte(strings.Repeat("harbour ", 400))}, nil},
		"headless, none":     {headless, nil, nil},
		"a hole between":     {headless, [][]byte{hivetest.NewLog(before, one), hivetest.NewLog(three, four)}, four},
		"a hole, and a head": {dirty, [][]byte{hivetest.NewLog(before, one), hivetest.NewLog(three, four)}, nil},
		"a torn last one":    {dirty, [][]byte{hivetest.Torn(hivetest.NewLog(before, one, two))}, one},
	} {
		h, err := open(c.b, c.logs...)
		if c.want == nil {
			var why *hive.DirtyError
			if !errors.As(err, &why) {
				t.Errorf("%s: %v", name, err)
			}
			continue
		}
		if name == "one is newer" { // the first of the two writes is missing
			if err == nil && !slices.Equal(mine(t, root(t, h), ""), mine(t, root(t, opened(t, two)), "")) {
				t.Errorf("%s: a write that builds on a missing one was taken", name)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if got, want := mine(t, root(t, h), ""), mine(t, root(t, opened(t, c.want)), ""); !slices.Equal(got, want) {
			t.Errorf("%s: %q, not %q", name, got, want)
		}
		if !h.Replayed {
			continue
		}
		after := patched(c.b, h.Patches())
		if !slices.Equal(dump(t, after), dump(t, c.want)) {
			t.Errorf("%s: written as a whole it differs", name)
		}
	}
}

// TestMarvin: the sum is what is published of it.
func TestMarvin(t *testing.T) {
	const seed = 0x004FB61A001BDBCC
	for in, want := range map[string]uint64{"": 0x30ED35C100CD3C7D, "\xAF": 0x48E73FC77D75DDC1,
		"\xE7\x0F": 0xB5F6E1FC485DBFF8, "\x37\xF4\x95": 0xF0B07C789B8CF7E8} {
		if got := hive.Marvin(seed, []byte(in)); got != want {
			t.Errorf("%x: %x", in, got)
		}
	}
}

// TestHostile: what is absurd ends in an error.
func TestHostile(t *testing.T) {
	testkit.Need(t, "hivexsh")
	b := listed(t, ticketDesk(t))
	le := binary.LittleEndian
	at := func(mark string) int { return bytes.Index(b, []byte(mark)) }
	for name, change := range map[string]func(b []byte){
		"key above itself":  func(b []byte) { le.PutUint32(b[at("ri")+4:], uint32(at("ri")-4-4096)) },
		"a huge cell":       func(b []byte) { le.PutUint32(b[at("nk")-4:], 1<<31) },
		"a free cell":       func(b []byte) { le.PutUint32(b[at("nk")-4:], 16) },
		"no list of keys":   func(b []byte) { copy(b[at("ri"):], "vk") },
		"too many keys":     func(b []byte) { le.PutUint32(b[at("nk")+20:], 1<<30) },
		"a name too long":   func(b []byte) { le.PutUint16(b[at("nk")+72:], 40_000) },
		"outside":           func(b []byte) { le.PutUint32(b[at("nk")+28:], 0x7FFFFFF8) },
		"bins of the moon":  func(b []byte) { le.PutUint32(b[40:], 0xFFFFF000) },
		"a root of nothing": func(b []byte) { le.PutUint32(b[36:], 0xFFFFFFFF) },
	} {
		c := bytes.Clone(b)
		change(c)
		hivetest.Seal(c)
		h, err := open(c)
		if err == nil {
			var k hive.Key
			if k, err = h.Root(); err == nil {
				err = walk(k, 0)
			}
		}
		if err == nil {
			t.Errorf("%s: nothing is wrong with it", name)
		}
	}
}

// walk reads everything below a key, to a depth.
func walk(k hive.Key, depth int) error {
	const deepest, most = 4, 50
	values, err := k.Values()
	if err != nil {
		return err
	}
	for _, v := range values {
		if _, err := v.Bytes(); err != nil {
			return err
		}
	}
	keys, err := k.Keys()
	if err != nil || depth == deepest {
		return err
	}
	for _, x := range keys[:min(len(keys), most)] {
		if err := walk(x, depth+1); err != nil {
			return err
		}
	}
	return nil
}

// FuzzHive: no bytes of a file and of a log make it fail badly.
func FuzzHive(f *testing.F) {
	b := ticketDesk(f)[:4096+8192]
	binary.LittleEndian.PutUint32(b[40:], 8192)
	f.Add(uint16(0), []byte{}, []byte{})
	f.Add(uint16(36), []byte{0xFF, 0xFF}, []byte{})
	f.Add(uint16(4096+32+20), []byte{0, 0xFF}, []byte{})
	f.Add(uint16(4), []byte{9}, hivetest.NewLog(b, b))
	f.Add(uint16(4), []byte{9}, hivetest.OldLog(b, b))
	f.Fuzz(func(_ *testing.T, at uint16, patch, log []byte) {
		c := bytes.Clone(b)
		copy(c[int(at)%len(c):], patch)
		hivetest.Seal(c)
		h, err := open(c, log)
		if err != nil {
			return
		}
		if k, err := h.Root(); err == nil {
			_ = walk(k, 0)
		}
		h.Patches()
	})
}

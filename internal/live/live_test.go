package live

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"twinshelf/internal/disk"
)

const extent = 4 << 20

// machine is a made-up one: a disk sda with a plain part sda1 and a physical volume sda2, and LVM's answers.
type machine struct {
	t      *testing.T
	root   string
	dev    disk.Device
	free   int64 // of the group, bytes
	rows   []map[string]string
	calls  []string
	mounts []string
	broken string // the command that fails
	bad    string // what the snapshots' state is
	more   bool   // the group has a physical volume on another disk
}

// memory is a disk in memory.
type memory struct{ b []byte }

func (m memory) ReadAt(b []byte, off int64) (int, error) { return bytes.NewReader(m.b).ReadAt(b, off) }
func (m memory) Size() int64                             { return int64(len(m.b)) }
func (m memory) SectorSize() int                         { return 512 }
func (m memory) Identity() disk.Identity                 { return disk.Identity{Serial: "K1"} }

func newMachine(t *testing.T) *machine {
	t.Helper()
	m := &machine{t: t, root: t.TempDir(), free: 100 * extent}
	put := func(path, text string) {
		t.Helper()
		path = filepath.Join(m.root, path)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for part, start := range map[string]string{"sda1": "2048", "sda2": "8192"} {
		for _, under := range []string{"sys/class/block/sda/" + part, "sys/class/block/" + part} {
			put(under+"/partition", part[3:]+"\n")
			put(under+"/start", start+"\n")
			put(under+"/dev", "8:"+part[3:]+"\n")
		}
	}
	put("sys/class/block/sda/dev", "8:0\n")
	put("proc/swaps", "Filename Type Size Used Priority\n")
	put("proc/self/mountinfo", "20 1 253:0 / / rw - ext4 /dev/mapper/desk-root rw\n21 20 8:1 / /boot rw - ext4 "+
		"/dev/sda1 rw\n"+
		"22 20 253:1 / /srv ro - ext4 /dev/mapper/desk-srv ro\n")
	b := make([]byte, 12*extent)
	for i := range b {
		b[i] = byte(i >> 12)
	}
	m.dev = memory{b}
	snapshot := bytes.Repeat([]byte("snap"), extent/4*2)
	put("snapshot", string(snapshot))
	m.rows = []map[string]string{m.row("root", "0", "253:0", "1", 2, "linear"), m.row("srv", "0", "253:1", "4", 1,
		"linear")}
	return m
}

func (m *machine) row(name, start, device, first string, n int, kind string) map[string]string {
	major, minor, _ := strings.Cut(device, ":")
	at := 0
	_, _ = fmt.Sscan(first, &at)
	return map[string]string{"vg_name": "desk", "lv_name": name, "lv_dm_path": "/dev/mapper/desk-" + name,
		"lv_size": fmt.Sprint(n * extent), "lv_kernel_major": major, "lv_kernel_minor": minor, "lv_device_open": "open",
		"segtype": kind, "seg_start": start, "seg_size": fmt.Sprint(n * extent),
		"seg_pe_ranges": fmt.Sprintf("/dev/sda2:%s-%d", first, at+n-1)}
}

func (m *machine) means() Means {
	return Means{m.lvm, func(_ context.Context, how, point string) error {
		if m.broken == "mount" {
			return errors.New("busy")
		}
		m.mounts = append(m.mounts, how+" "+point)
		table := filepath.Join(m.root, "proc/self/mountinfo")
		b, err := os.ReadFile(table)
		if err != nil {
			return err
		}
		was := map[string]string{"ro": "rw", "rw": "ro"}[how]
		return os.WriteFile(table, bytes.ReplaceAll(b, []byte(point+" "+was+" - ext4 /dev/sda1 "+was),
			[]byte(point+" "+how+" - ext4 /dev/sda1 "+how)), 0o600)
	}, func(string) error { return nil }}
}

func (m *machine) lvm(_ context.Context, args ...string) ([]byte, error) {
	m.calls = append(m.calls, args[0]+" "+args[len(args)-1])
	if args[0] == m.broken {
		return nil, errors.New("no")
	}
	kind, rows := "", []map[string]string(nil)
	switch {
	case args[0] == "pvs":
		kind, rows = "pv", []map[string]string{{"pv_name": "/dev/sda2", "vg_name": "desk", "pe_start": "1048576",
			"pv_pe_count": "6", "dev_size": fmt.Sprint(1<<20 + 6*extent + 512), "vg_extent_size": fmt.Sprint(extent),
			"vg_free": fmt.Sprint(m.free)}}
		if m.more {
			rows = append(rows, maps.Clone(rows[0]))
			rows[1]["pv_name"] = "/dev/sdb1"
		}
	case args[0] == "lvs" && slices.Contains(args, "--segments"):
		kind, rows = "seg", m.rows
	case args[0] == "lvs":
		kind, rows = "lv", []map[string]string{{"lv_dm_path": filepath.Join(m.root, "snapshot"),
			"lv_snapshot_invalid": m.bad}}
	}
	b, err := json.Marshal(map[string]any{"report": []any{map[string]any{kind: rows}}})
	if err != nil {
		m.t.Fatal(err)
	}
	return b, nil
}

// TestFreeze: what is written is read from its snapshot, everything else and the descriptions of the group as they were
// on the disk; what is mounted read-only is left alone, and all of it is taken away again.
func TestFreeze(t *testing.T) {
	m := newMachine(t)
	f, err := Freeze(t.Context(), m.means(), disk.Host{Root: m.root}, "/dev/sda", m.dev)
	if err != nil {
		t.Fatal(err)
	}
	got := make([]byte, m.dev.Size())
	if n, err := f.ReadAt(got, 0); err != nil || n != len(got) {
		t.Fatalf("%d, %v", n, err)
	}
	want := bytes.Clone(m.dev.(memory).b)
	const root = 8192*512 + 1<<20 + 1*extent // the part, what lies before its data, its first extent
	copy(want[root:], bytes.Repeat([]byte("snap"), extent/4*2))
	if !bytes.Equal(got, want) {
		t.Error("it isn't read as it was")
	}
	head := 8192 * 512
	m.dev.(memory).b[head]++ // the snapshot is written into the description
	if n, err := f.ReadAt(got[:1], int64(head)); err != nil || n != 1 || got[0] != want[head] {
		t.Errorf("the description of the group is read as it is now: %v", err)
	}
	if err := f.Whole(t.Context()); err != nil {
		t.Error(err)
	}
	var over *CantError
	if m.bad = "1"; !errors.As(f.Whole(t.Context()), &over) {
		t.Error("a snapshot that overflowed is believed")
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if err := f.End(ctx); err != nil {
		t.Fatal(err)
	}
	if all := strings.Join(m.calls, ", "); !strings.Contains(all, "lvcreate desk/root") || strings.Contains(all,
		"srv") ||
		!strings.HasSuffix(all, "lvremove desk/twinshelf_root") {
		t.Error(all)
	}
	if !slices.Equal(m.mounts, []string{"ro /boot", "rw /boot"}) {
		t.Errorf("%q", m.mounts)
	}
}

// TestCantFreeze: what can't be read as it was at one moment is refused with the reason, and nothing is left behind.
func TestCantFreeze(t *testing.T) {
	for _, c := range []struct {
		name, says string
		change     func(*machine)
	}{
		{"striped", "isn't laid out linearly", func(m *machine) { m.rows[0]["segtype"] = "striped" }},
		{"another disk", "lies on other disks", func(m *machine) {
			m.rows = append(m.rows, m.row("root", "8388608", "253:0", "0", 1, "linear"))
			m.rows[2]["seg_pe_ranges"] = "/dev/sdb1:0-0"
		}},
		{"a group on two disks", "lies on other disks", func(m *machine) { m.more = true }},
		{"no room", "needs 8.39 MB for what is written", func(m *machine) { m.free = extent }},
		{"encrypted above", "isn't a file system", func(m *machine) {
			m.rows = append(m.rows, m.row("vault", "0", "253:9",
				"5", 1, "linear"))
		}},
		{"busy", "can't be mounted read-only", func(m *machine) { m.broken = "mount" }},
		{"no snapshot", "no snapshot of desk/root", func(m *machine) { m.broken = "lvcreate" }},
		{"no answer", "no", func(m *machine) { m.broken = "pvs" }},
		{"odd numbers", "is no number", func(m *machine) { m.rows[0]["seg_size"] = "-4" }},
		{"odd place", "lies at", func(m *machine) { m.rows[0]["seg_pe_ranges"] = "/dev/sda2:x-7" }},
	} {
		m := newMachine(t)
		c.change(m)
		f, err := Freeze(t.Context(), m.means(), disk.Host{Root: m.root}, "/dev/sda", m.dev)
		if err == nil || f != nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", c.name, err)
		}
		made, gone := 0, 0
		for _, call := range m.calls {
			if strings.HasPrefix(call, "lvcreate") && m.broken != "lvcreate" {
				made++
			}
			if strings.HasPrefix(call, "lvremove") {
				gone++
			}
		}
		if ro, rw := strings.Count(strings.Join(m.mounts, " "), "ro "), strings.Count(strings.Join(m.mounts, " "),
			"rw "); made != gone ||
			ro != rw {
			t.Errorf("%s: %d snapshots of %d are gone, %q", c.name, gone, made, m.mounts)
		}
	}
	m := newMachine(t) // of a process that was killed
	m.rows = append(m.rows, m.row("twinshelf_root", "0", "253:7", "5", 1, "linear"))
	m.rows[2]["lv_tags"] = "twinshelf"
	f, err := Freeze(t.Context(), m.means(), disk.Host{Root: m.root}, "/dev/sda", m.dev)
	if err != nil || slices.Contains(m.calls, "lvremove desk/twinshelf_root") { // it may be of another disk
		t.Fatalf("%v %q", err, m.calls)
	}
	if err := Tidy(t.Context(), m.means()); err != nil || !slices.Contains(m.calls, "lvremove desk/twinshelf_root") {
		t.Errorf("%v %q", err, m.calls)
	}
	if err := f.End(t.Context()); err != nil {
		t.Error(err)
	}
}

package ldm_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"testing"

	"twinshelf/internal/container"
	"twinshelf/internal/container/ldm"
	"twinshelf/internal/container/ldm/ldmtest"
	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
)

const sectors = 16 << 10 // of each volume

// office makes two dynamic disks with a volume of each kind.
func office(t testing.TB) ldmtest.Group {
	t.Helper()
	g := ldmtest.Office(testkit.Image(t, "a.img", 40<<20), testkit.Image(t, "b.img", 36<<20), sectors)
	g.Write(t)
	return g
}

// parts are the parts of an image that volumes lie in.
func parts(t testing.TB, img string) (out []container.Member) {
	t.Helper()
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	tab, err := table.Read(d, d.Size(), d.SectorSize())
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range tab.Parts {
		m := container.Member{R: disk.Section(d, p.Span.Start, p.Span.Len()), Size: p.Span.Len()}
		if is := ldm.Is(m); is {
			out = append(out, m)
		}
	}
	return out
}

// TestVolumes: every byte of every volume comes from where it was put, on a disk by MBR and on one by GPT; one disk
// alone gives what lies on it alone.
func TestVolumes(t *testing.T) {
	g := office(t)
	for v := range g.Volumes {
		img := testkit.Image(t, "content", sectors*ldmtest.Sector)
		if err := os.WriteFile(img, testkit.Noise(uint64(v), sectors*ldmtest.Sector), 0o600); err != nil {
			t.Fatal(err)
		}
		g.Fill(t, v, img)
	}
	a, b := parts(t, g.Disks[0].Image), parts(t, g.Disks[1].Image)
	if len(a) != 1 || len(b) != 1 {
		t.Fatalf("%d and %d parts", len(a), len(b))
	}
	c, members, err := ldm.Open(a[0], b...)
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, d := range c.Devices() {
		names = append(names, d.Name)
		v := 3
		for i := range g.Volumes {
			if strings.HasPrefix(d.Name, g.Volumes[i].Name) {
				v = i
			}
		}
		got := make([]byte, d.Size)
		if err := disk.ReadFull(container.Open(d, members, 512), got, 0); err != nil {
			t.Fatal(err)
		}
		if !bytes.Equal(got, g.Bytes(t, v, 0)) || d.Sealed != "" || (d.Fixed != "") != (v == 3) {
			t.Errorf("%s differs: %+v", d.Name, d)
		}
	}
	if s := strings.Join(names, ", "); s != "Volume1, Volume2, Stripe1, Volume3 mirror 1" {
		t.Error(s)
	}
	alone, _, err := ldm.Open(b[0])
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range alone.Devices() {
		if whole := d.Name == "Volume3 mirror 2"; (d.Map != nil) != whole || (d.Sealed == "") != whole {
			t.Errorf("%s of the second disk alone: %+v", d.Name, d)
		}
	}
	// Spanned and striped volumes have half of theirs here.
	if own := alone.Own(0); own.Total() < sectors*512 || own.Total() > b[0].Size-sectors*512 {
		t.Errorf("%d bytes are its own", own.Total())
	}
	if h := alone.Head(0); h.Members != 2 || h.Name != "TICKETS-Dg0" {
		t.Errorf("%+v", h)
	}
}

// TestAsAnotherReader: the system's reader of dynamic disks sees the volumes that the tests make, and in the same
// places.
func TestAsAnotherReader(t *testing.T) {
	testkit.Need(t, "ldmtool")
	g := office(t)
	var ask strings.Builder
	fmt.Fprintf(&ask, "scan %s %s\n", g.Disks[0].Image, g.Disks[1].Image)
	for _, v := range g.Volumes {
		fmt.Fprintf(&ask, "show volume %s %s\n", ldmtest.GroupID, v.Name)
	}
	cmd := exec.Command("ldmtool")
	cmd.Stdin = strings.NewReader(ask.String())
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	var kinds []string
	for _, block := range strings.Split(string(out), "{")[1:] {
		body, _, _ := strings.Cut(block, "}")
		var v struct {
			Name, Type, GUID string
			Size             int64
			Chunk            int64 `json:"chunk-size"`
			Partitions       []string
		}
		if err := json.Unmarshal([]byte("{"+body+"}"), &v); err != nil {
			t.Fatalf("%v in %s", err, out)
		}
		kinds = append(kinds, v.Type)
		if v.Size != sectors || v.GUID != ldmtest.VolumeID(len(kinds)-1) || v.Type == "striped" && v.Chunk != 128 {
			t.Errorf("%+v", v)
		}
	}
	if s := strings.Join(kinds, " "); s != "simple spanned striped mirrored" {
		t.Errorf("%s: %s", s, out)
	}
}

// TestContradictions: databases that disagree with themselves, with their headers or with each other give an error that
// says so, and nothing is read by them.
func TestContradictions(t *testing.T) {
	for _, c := range []struct {
		name, want string
		change     func(g *ldmtest.Group)
	}{
		{"settled", "being changed", func(g *ldmtest.Group) { g.Status = 2 }},
		{"overlap", "overlaps", func(g *ldmtest.Group) { g.Volumes[1].Mirrors[0].Pieces[0].Start = 0 }},
		{"beyond", "room for volumes", func(g *ldmtest.Group) { g.Volumes[0].Mirrors[0].Pieces[0].Start = 1 << 30 }},
		{"unknown", "isn't known", func(g *ldmtest.Group) {
			g.Extra = []ldmtest.Record{{Kind: 0x61, Body: []byte{1, 99, 1, 'x'}}}
		}},
		{"twice", "two objects", func(g *ldmtest.Group) {
			g.Extra = []ldmtest.Record{{Kind: 0x34, Body: []byte{1, 3, 1, 'x', 0, 0}}}
		}},
		{"orphan", "belongs to no volume", func(g *ldmtest.Group) {
			g.Extra = []ldmtest.Record{{Kind: 0x33, Body: append([]byte{1, 99, 1, 'x'}, make([]byte, 40)...)}}
		}},
		{"short", "ends too early", func(g *ldmtest.Group) {
			g.Extra = []ldmtest.Record{{Kind: 0x33, Body: []byte{1, 99, 200, 'x'}}}
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			g := office(t)
			c.change(&g)
			g.Write(t)
			_, _, err := ldm.Open(parts(t, g.Disks[0].Image)[0])
			if err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%v", err)
			}
		})
	}
	t.Run("disks", func(t *testing.T) {
		g := office(t)
		g.Committed++
		g.WriteDisk(t, 1)
		_, _, err := ldm.Open(parts(t, g.Disks[0].Image)[0], parts(t, g.Disks[1].Image)...)
		if err == nil || !strings.Contains(err.Error(), "disagree (change 12, and change 13") {
			t.Errorf("%v", err)
		}
	})
	t.Run("clones", func(t *testing.T) {
		g := office(t)
		mine := parts(t, g.Disks[0].Image)
		if _, _, err := ldm.Open(mine[0], parts(t, g.Disks[0].Image)...); err == nil ||
			!strings.Contains(err.Error(), "the same one") {
			t.Errorf("%v", err)
		}
	})
	t.Run("headers", func(t *testing.T) {
		g := office(t)
		for _, c := range []struct {
			data []byte
			want string
		}{{make([]byte, 512), ""}, {[]byte("PRIVHEAD\x00\x00\x00\x00\x00\x09"), "version 9"}} {
			overwrite(t, g.Disks[0].Image, 6*512, c.data)
			_, _, err := ldm.Open(parts(t, g.Disks[0].Image)[0])
			if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
				t.Errorf("%q: %v", c.want, err)
			}
		}
	})
}

func overwrite(t testing.TB, img string, at int64, b []byte) {
	t.Helper()
	f, err := os.OpenFile(img, os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if _, err := f.WriteAt(b, at); err != nil {
		t.Fatal(err)
	}
}

// TestSeveralParts: volumes of a disk whose MBR has several parts lie in the right ones, and one that reaches over two
// isn't followed, and kept.
func TestSeveralParts(t *testing.T) {
	g := office(t)
	end := int64(40<<20/512 - ldmtest.Area)
	cut := 63 + sectors
	g.Disks[0].Parts = []span.Span{{Start: 63, End: int64(cut)}, {Start: int64(cut), End: 63 + 2*sectors + 4096},
		{Start: 63 + 2*sectors + 4096, End: end}}
	g.Write(t)
	all := parts(t, g.Disks[0].Image)
	c, _, err := ldm.Open(all[0], all[1:]...)
	if err != nil {
		t.Fatal(err)
	}
	if d := c.Devices(); len(d) != 1 || d[0].Name != "Volume1" || d[0].Map == nil || !c.Own(0).Empty() {
		t.Errorf("%+v", d)
	}
	c, _, err = ldm.Open(all[1], all[0], all[2])
	if err != nil {
		t.Fatal(err)
	}
	var mirror *container.Device
	for _, d := range c.Devices() {
		if strings.HasPrefix(d.Name, "Volume3") {
			mirror = &d
		}
	}
	if mirror == nil || mirror.Map != nil || !strings.Contains(mirror.Sealed, "no single part") ||
		c.Own(0).Total() != all[1].Size { // of the others the second disk isn't here
		t.Errorf("%+v, %d of %d", mirror, c.Own(0).Total(), all[1].Size)
	}
}

// FuzzOpen: whatever a database says gives volumes that can be read, or an error.
func FuzzOpen(f *testing.F) {
	g := ldmtest.Office(testkit.Image(f, "a.img", 2<<20), testkit.Image(f, "b.img", 2<<20), 256)
	g.Write(f)
	b, err := os.ReadFile(g.Disks[0].Image)
	if err != nil {
		f.Fatal(err)
	}
	database := b[len(b)-ldmtest.Area*512:]
	f.Add(uint16(0x11B), []byte{0, 0, 0, 0, 0, 0, 0, 9}, database[17*512:][:8192])
	f.Add(uint16(0x30), []byte("x"), database[17*512:][:2048])
	f.Fuzz(func(t *testing.T, at uint16, head, config []byte) {
		d := disk.NewMemory(int64(len(b)), 512)
		copy(d.Bytes, b)
		copy(d.Bytes[6*512+int(at)%512:7*512], head)
		copy(d.Bytes[len(b)-ldmtest.Area*512+17*512:], config)
		start := int64(63 * 512)
		m := container.Member{R: disk.Section(d, start, int64(len(b))-ldmtest.Area*512-start),
			Size: int64(len(b)) - ldmtest.Area*512 - start}
		c, members, err := ldm.Open(m)
		if err != nil {
			return
		}
		own := c.Own(0)
		if !(span.Span{End: m.Size}).Covers(own.Bounds()) {
			t.Errorf("%v of %d bytes are its own", own.Bounds(), m.Size)
		}
		for _, x := range c.Devices() {
			if x.Map == nil {
				continue
			}
			r := container.Open(x, members, 512)
			if _, err := r.ReadAt(make([]byte, 512), max(0, x.Size-512)); err != nil && err != io.EOF {
				t.Errorf("%s: %v", x.Name, err)
			}
		}
	})
}

package ready

import (
	"fmt"
	"strings"
	"testing"

	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

func TestSharedKind(t *testing.T) {
	for _, c := range []struct {
		systems string
		size    int64
		want    string
	}{
		{"Windows,macOS,Linux", units.TB, "exFAT"},
		{"Windows,Linux", units.TB, "exFAT"},
		{"windows", units.TB, "NTFS"},
		{"Linux", units.TB, "ext4"},
		{"Windows,older devices", 500 * units.GB, "FAT32"},
		{"older devices", 20 * units.TB, "no file system"},
		{"Amiga", units.TB, "no kind of system"},
		{"", units.TB, "for which systems"},
	} {
		var systems []string
		if c.systems != "" {
			systems = strings.Split(c.systems, ",")
		}
		m, err := SharedKind(systems, c.size, 512)
		if m.Kind != c.want && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%s, %d: %s %v", c.systems, c.size, m.Kind, err)
		}
	}
}

// TestRoomAfter: what the systems of a file system leave free after it is left, and taken back with another one.
func TestRoomAfter(t *testing.T) {
	s, target := looked(t, testkit.Image(t, "new.img", 64*units.GB), 0)
	d := Anew(s, 0, table.GPT)
	if err := d.Shared([]string{"macOS"}, "ferry"); err != nil {
		t.Fatal(err)
	}
	all := d.Growable(0)
	if got := all - d.Parts[0].Span.Len(); got != 128*units.MiB || d.Parts[0].Form.Size != d.Parts[0].Span.Len() ||
		d.leftAfter(0) != got || d.Parts[0].Type != "48465300-0000-11AA-AA11-00306543ECAC" {
		t.Errorf("%d bytes are left after %+v", got, d.Parts[0])
	}
	p, err := d.Plan(t.Context(), s.Device, target)
	if err != nil || !strings.Contains(strings.Join(p.Notes, "\n"), "128 MiB after part 1 stay free, as the "+
		"systems that use "+
		"HFS+ leave them") {
		t.Errorf("%v, %v", p, err)
	}
	if err := d.SetForm(0, "HFS+", "again", 0); err != nil || all-d.Parts[0].Span.Len() != 128*units.MiB {
		t.Errorf("the second time: %v", err)
	}
	if err := d.SetForm(0, "exFAT", "ferry", 0); err != nil || d.Parts[0].Span.Len() != all || d.leftAfter(0) != 0 {
		t.Errorf("%d of %d bytes for another file system, %v", d.Parts[0].Span.Len(), all, err)
	}
}

func TestPurposes(t *testing.T) {
	const size = 1_000_204_886_016
	shape := Shape{Machine: "Ticket desk", Kind: table.GPT, Parts: []ShapePart{
		{Part: table.Part{Span: span.At(0, 100*units.MiB), Type: table.TypeESP, Name: "EFI system"},
			FileSystem: "FAT32", Label: "START", Role: table.RoleStartup},
		{Part: table.Part{Span: span.At(0, 16*units.MiB), Type: table.TypeMSReserved}, Role: table.RoleReserved},
		{Part: table.Part{Span: span.At(0, 250*units.GB), Type: table.TypeMSBasicData}, FileSystem: "NTFS",
			Label: "Desk", Role: table.RoleSystem, Used: 90 * units.GB},
		{Part: table.Part{Span: span.At(0, 600*units.MiB), Type: table.TypeMSRecovery}, FileSystem: "NTFS",
			Role: table.RoleRecovery},
	}}
	for name, c := range map[string]struct {
		size int64
		do   func(d *Draft) error
		want []string // parts, or an error
		bad  string
	}{
		"storage": {size, func(d *Draft) error { return d.Storage(400*units.GB, "oak") },
			[]string{"1 ext4 400 GB"}, ""},
		"storage, all": {size, func(d *Draft) error { return d.Storage(0, "oak") }, []string{"1 ext4 1.00 TB"}, ""},
		"storage, more": {size, func(d *Draft) error { return d.Storage(1500*units.GB, "oak") }, nil,
			"500 GB are missing"},
		"shared": {size, func(d *Draft) error { return d.Shared([]string{"Windows", "macOS"}, "ferry") },
			[]string{"1 exFAT 1.00 TB"}, ""},
		"shared by Macs": {size, func(d *Draft) error { return d.Shared([]string{"macOS"}, "ferry") },
			[]string{"1 HFS+ 1.00 TB"}, ""},
		"split": {size, func(d *Draft) error { return d.Split([]string{"ext4", "NTFS", "exFAT"}) },
			[]string{"1 ext4 333 GB", "2 NTFS 333 GB", "3 exFAT 333 GB"}, ""},
		"split, large": {size * 10, func(d *Draft) error { return d.Split([]string{"ext4", "FAT32"}) }, nil,
			"too large"},
		"system": {size, func(d *Draft) error { return d.System(shape) },
			[]string{"1 FAT32 105 MB", "2  16.8 MB", "3 NTFS 999 GB", "4 NTFS 629 MB"}, ""},
		"system, less": {128 * units.GB, func(d *Draft) error { return d.System(shape) },
			[]string{"1 FAT32 105 MB", "2  16.8 MB", "3 NTFS 127 GB", "4 NTFS 629 MB"}, ""},
		"system, small": {64 * units.GB, func(d *Draft) error { return d.System(shape) }, nil,
			"too small for the shape of Ticket desk"},
	} {
		t.Run(name, func(t *testing.T) {
			s, target := looked(t, testkit.Image(t, "new.img", c.size), 0)
			d := Anew(s, 0, table.GPT)
			err := c.do(d)
			if c.bad != "" {
				if err == nil || !strings.Contains(err.Error(), c.bad) || len(d.Parts) > 0 {
					t.Errorf("%v, %d parts", err, len(d.Parts))
				}
				return
			}
			must(t, err)
			sound(t, d, name)
			for i, p := range d.Parts {
				kind := ""
				if p.Form != nil {
					kind = p.Form.Kind
				}
				if got := fmt.Sprintf("%d %s %s", p.Number, kind, units.Bytes(p.Span.Len())); i >= len(c.want) ||
					got != c.want[i] {
					t.Errorf("part %q, want %q", got, c.want)
				}
			}
			planOf(t, d, target)
		})
	}
}

// TestSystemDiskWithOldTable: an MBR's active part and logical ones survive the change of disk.
func TestSystemDiskWithOldTable(t *testing.T) {
	shape := Shape{Machine: "Weighbridge", Kind: table.MBR}
	for i := range 5 {
		shape.Parts = append(shape.Parts,
			ShapePart{Part: table.Part{Span: span.At(0, 200*units.MiB), Type: "0x06", Active: i == 0, Logical: i > 2},
				FileSystem: "FAT16", Role: table.RoleData, Used: units.MiB})
	}
	s, target := looked(t, testkit.Image(t, "new.img", 4*units.GB), 0)
	d := Anew(s, 0, table.MBR)
	must(t, d.System(shape))
	sound(t, d, "system")
	if len(d.Parts) != 5 || !d.Parts[0].Active || d.Parts[1].Active || !d.Parts[4].Logical ||
		d.Parts[0].Type != "0x06" {
		t.Errorf("%+v", d.Parts)
	}
	planOf(t, d, target)
	if err := d.System(shape); err == nil {
		t.Error("a second system on the same disk")
	}
}

// BenchmarkLargeDisks is what planning and making a whole disk costs us, with the bytes written.
func BenchmarkLargeDisks(b *testing.B) {
	for _, kind := range []string{"ext4", "NTFS", "exFAT"} {
		b.Run(kind+" 1TB", func(b *testing.B) {
			for range b.N {
				s, target := looked(b, testkit.Image(b, "new.img", 1_000_204_886_016), 0)
				d := Anew(s, 0, table.GPT)
				must(b, d.addMade(d.Gap().Len(), true, kind, "oak"))
				p := planOf(b, d, target)
				carried(b, d, target)
				b.ReportMetric(float64(p.Bytes())/float64(units.MiB), "MiB-written")
			}
		})
	}
}

package startup_test

import (
	"encoding/binary"
	"io"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/span"
	"twinshelf/internal/startup"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// journalAt is where the journal of a new volume begins, in bytes.
func journalAt(t *testing.T, d *io.SectionReader) int64 {
	t.Helper()
	v, err := families.Identify(t.Context(), d, d.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	tree, err := fsys.TreeOf(v)
	if err != nil {
		t.Fatal(err)
	}
	it, err := fsys.Find(tree, ".journal")
	if err != nil {
		t.Fatal(err)
	}
	c, err := tree.Open(it, "")
	if err != nil {
		t.Fatal(err)
	}
	return c.Spans()[0].Start
}

// TestBlessed: what a volume of a Mac says that firmware starts is told, and whether it is there; that it starts isn't
// said.
func TestBlessed(t *testing.T) {
	const size, at, n = 40 * units.MiB, units.MiB, 32 * units.MiB
	img := testkit.Image(t, "mac.img", size)
	testkit.WriteTable(t, img, table.Layout{Kind: table.GPT, Sector: 512, ID: "7A5E0F10-3B1C-4D5A-9C00-0000000000A0",
		Parts: []table.Part{{Number: 1, Span: span.At(at, n), Type: "48465300-0000-11AA-AA11-00306543ECAC",
			GUID: "7A5E0F10-3B1C-4D5A-9C00-0000000000A1"}}}, size)
	m, err := families.All().MakerOf("HFS+")
	if err != nil {
		t.Fatal(err)
	}
	patches, err := m.Format(fsys.Form{Label: "Purser", Size: n, Sector: 512, ID: [16]byte{3}, Now: time.Now()})
	if err != nil {
		t.Fatal(err)
	}
	for i := range patches {
		patches[i].Off += at
	}
	testkit.Write(t, img, patches)
	loader, err := os.ReadFile("/usr/lib/systemd/boot/efi/systemd-bootx64.efi")
	if err != nil {
		testkit.Lacks(t, "systemd-boot-efi")
	}
	const folder, file = at + 1024 + 80, at + 1024 + 84 // in the volume header
	for name, c := range map[string]struct {
		folder, file uint32
		says         string
		verdict      startup.Verdict
		words        string
		loader       []byte // in the journal's place
	}{
		"nothing": {0, 0, "", "", "there is nothing on it to start from", nil},
		"a file": {2, 16, "whether a Mac starts from the blessed loader .journal in part 1", startup.Doubt,
			"can't be told", make([]byte, len(loader))},
		"a loader": {2, 16, "a Mac's own firmware looks for the blessed loader .journal in part " +
			"1", startup.Good,
			"can't be told: what that loader starts isn't followed", loader},
		"nobody's number": {2, 999, "what is blessed in part 1 can't be read", startup.Doubt, "can't be told", nil},
		"a folder without": {2, 0, "the blessed loader, boot.efi in part 1, isn't there", startup.Bad, "it won't " +
			"start", nil},
	} {
		t.Run(name, func(t *testing.T) {
			b := binary.BigEndian.AppendUint32(nil, c.folder)
			testkit.Write(t, img, []disk.Patch{{Off: folder, Data: b}, {Off: file,
				Data: binary.BigEndian.AppendUint32(nil, c.file)}})
			d, err := disk.Open(img, disk.Identity{})
			if err != nil {
				t.Fatal(err)
			}
			defer d.Close()
			if c.loader != nil {
				testkit.Write(t, img, []disk.Patch{{Off: journalAt(t, disk.Section(d, at, n)) + at, Data: c.loader}})
			}
			r, err := startup.Check(t.Context(), d, startup.Options{})
			if err != nil {
				t.Fatal(err)
			}
			if !strings.Contains(r.Words(), c.words) || len(r.Starts()) > 0 {
				t.Errorf("%s; %v", r.Words(), r.Starts())
			}
			if c.says != "" && !slices.ContainsFunc(r.Findings, func(f startup.Finding) bool {
				return f.Way == startup.Mac && f.Verdict == c.verdict && strings.Contains(f.Says, c.says)
			}) {
				t.Errorf("%+v", r.Findings)
			}
		})
	}
}

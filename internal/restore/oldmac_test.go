package restore_test

import (
	"encoding/binary"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fit"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/plan"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
)

// oldMac is the disk of an old Mac as an image: an Apple partition map, a driver and two HFS+ volumes.
func oldMac(t testing.TB) string {
	t.Helper()
	const size = 24 * miB
	img := testkit.Image(t, "weighbridge.img", size)
	m, err := families.MakerOf("HFS+")
	if err != nil {
		t.Fatal(err)
	}
	be := binary.BigEndian
	head := be.AppendUint32(be.AppendUint16([]byte("ER"), 512), size/512)
	testkit.Write(t, img, []disk.Patch{{Data: head}, {Off: 64 * 512, Data: testkit.Noise(3, 56*512)}})
	all := []struct {
		kind, name string
		at, n      int64
	}{{"Apple_partition_map", "Apple", 512, 63 * 512}, {"Apple_Driver43", "Macintosh", 64 * 512, 56 * 512},
		{"Apple_HFS", "Weighbridge", miB, 8 * miB}, {"Apple_HFS", "Archive", 12 * miB, 6 * miB},
		{"Apple_Free", "Extra", 18 * miB, 6 * miB}}
	for i, x := range all {
		e := make([]byte, 512)
		copy(e, "PM")
		for at, n := range map[int]int64{4: int64(len(all)), 8: x.at / 512, 12: x.n / 512, 84: x.n / 512} {
			be.PutUint32(e[at:], uint32(n))
		}
		copy(e[16:], x.name)
		copy(e[48:], x.kind)
		testkit.Write(t, img, []disk.Patch{{Off: int64(i+1) * 512, Data: e}})
		if x.kind != "Apple_HFS" {
			continue
		}
		patches, err := m.Format(fsys.Form{Label: x.name, Size: x.n, Sector: 512, ID: [16]byte{byte(i), 7},
			Now: time.Now()})
		if err != nil {
			t.Fatal(err)
		}
		for j := range patches {
			patches[j].Off += x.at
		}
		testkit.Write(t, img, patches)
	}
	return img
}

// TestOldMac: a disk with an Apple partition map is captured by its parts, and restored onto a larger one, where one
// of its volumes grows, and onto a smaller one, where the map says what there is.
func TestOldMac(t *testing.T) {
	s := newShelf(t)
	twin, err := take(t, s, opened(t, oldMac(t)))
	if err != nil {
		t.Fatal(err)
	}
	if d := twin.Disks[0]; d.Table.Kind != table.APM || len(d.Parts()) != 3 || d.Parts()[1].Kind != "HFS+" {
		t.Fatalf("%+v", d)
	}
	for size, wish := range map[int64]fit.Wish{
		60 * miB: {Parts: map[int]fit.PartWish{3: {Share: 1}}}, 19 * miB: {Keep: true},
	} {
		target := testkit.Image(t, "target.img", size)
		proof, _, err := putBackAs(t, s, twin, target, plan.Wish{Wish: wish})
		if err != nil {
			t.Fatal(err)
		}
		if !proof.Holds() {
			t.Errorf("proof: %s\n%+v", proof.Words(), proof.Claims)
		}
		now, err := survey.Of(t.Context(), opened(t, target), nil)
		if err != nil || len(now.Table.Findings) > 0 || len(now.Parts()) != 3 {
			t.Fatalf("%+v, %v", now, err)
		}
		first := now.Parts()[1]
		if c := first.Content; !c.Sound || c.Info.Label != "Weighbridge" || size > 24*miB && first.Span.Len() < 40*miB {
			t.Errorf("%v: %+v, %s", first.Span, c.Info, c.Why)
		}
		if driver := now.Parts()[0].Span; driver != span.At(64*512, 56*512) {
			t.Errorf("the driver lies at %v", driver)
		}
	}
}

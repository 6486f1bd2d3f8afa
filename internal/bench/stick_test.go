package bench

import (
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// TestSticksAreOutOfReach: on a machine that was started from a stick no stick is written, by whatever way it is asked;
// elsewhere a stick is a drive like any other.
func TestSticksAreOutOfReach(t *testing.T) {
	img := testkit.Image(t, "stick.img", 64*units.MiB)
	testkit.WriteTable(t, img, table.Layout{Kind: table.GPT, Sector: 512, ID: "7A5E0F10-3B1C-4D5A-9C00-00000000AA01",
		Parts: []table.Part{{Number: 1, Span: span.At(units.MiB, 8*units.MiB), Type: table.TypeESP,
			Name: "Twin Shelf start", GUID: "7A5E0F10-3B1C-4D5A-9C00-00000000AA02"}}}, 64*units.MiB)
	for _, started := range []bool{true, false} {
		b := &Bench{Images: []string{img}, Started: started}
		d := b.List()[0]
		b.Probe(t.Context(), d)
		if d.Problem != "" {
			t.Fatal(d.Problem)
		}
		defer d.Device.Close()
		if strings.Contains(d.Reach, "starting stick") != started || b.IsStick(d.Identity) != started {
			t.Errorf("started %v: %q", started, d.Reach)
		}
		g := disk.Guard{OutOfReach: b.IsStick}
		if err := g.Check(d.Target()); (err != nil) != started {
			t.Errorf("started %v: the guard says %v", started, err)
		}
	}
}

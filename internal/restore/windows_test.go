package restore_test

import (
	"os"
	"strings"
	"testing"

	"twinshelf/internal/container/ldm/ldmtest"
	"twinshelf/internal/demo"
	"twinshelf/internal/fit"
	"twinshelf/internal/hive/hivetest"
	"twinshelf/internal/plan"
	"twinshelf/internal/startup"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
)

// TestWindowsElsewhere: a Windows is restored onto a larger disk, its part moved and grown, with identities of its own,
// for a machine with another controller: the proof holds, it should start, its store and letters name what is there,
// and its driver for the other controller loads. On both kinds of tables.
func TestWindowsElsewhere(t *testing.T) {
	testkit.Need(t, "ntfsfix", "reglookup", "ntfscat")
	for _, kind := range []table.Kind{table.MBR, table.GPT} {
		t.Run(string(kind), func(t *testing.T) {
			s := newShelf(t)
			twin, err := take(t, s, opened(t, hivetest.Till(t, kind, demo.Loader(7, 40_000))))
			if err != nil {
				t.Fatal(err)
			}
			target := testkit.Image(t, "target.img", 260*miB)
			wish := fit.Wish{Parts: map[int]fit.PartWish{2: {Share: 1}}}
			if kind == table.MBR { // FAT keeps its size
				wish.Parts[1] = fit.PartWish{Share: 1}
			}
			proof, _, err := putBackAs(t, s, twin, target, plan.Wish{Wish: wish, Fresh: true, OtherHardware: true})
			if err != nil {
				t.Fatal(err)
			}
			if !proof.Holds() {
				t.Errorf("proof: %s\n%+v", proof.Words(), proof.Claims)
			}
			d := opened(t, target)
			now, err := survey.Of(t.Context(), d, nil)
			if err != nil {
				t.Fatal(err)
			}
			system := now.Parts()[1]
			if system.Span.Len() < 2*hivetest.SystemLen || now.Table.ID == twin.Disks[0].Table.ID {
				t.Errorf("the system has %v, the disk %s", system.Span, now.Table.ID)
			}
			r, err := startup.Check(t.Context(), d, startup.Options{})
			if err != nil {
				t.Fatal(err)
			}
			if _, does := r.Repairs(); len(does) > 0 || !r.Ways[r.Findings[0].Way] {
				t.Errorf("it starts: %v; still to be done: %q", r.Ways, does)
			}
			if all := startup.Systems(t.Context(), now); len(all) != 1 || all[0].Machine != "TILL-2" {
				t.Errorf("%+v", all)
			}
			part := testkit.Extract(t, target, system.Span.Start, system.Span.Len())
			testkit.Do(t, "ntfsfix", "-n", part)
			registry := testkit.Image(t, "SYSTEM", 0)
			got := testkit.Do(t, "ntfscat", "-f", part, startup.SystemHive)
			if err := os.WriteFile(registry, []byte(got), 0o600); err != nil {
				t.Fatal(err)
			}
			start := testkit.Do(t, "reglookup", "-p", "/ControlSet002/Services/stornvme/Start", registry)
			if !strings.Contains(start, "0x00000000") {
				t.Errorf("the driver for NVMe: %s", start)
			}
		})
	}
}

// TestDynamicMachine: two dynamic disks are captured as one machine by what their volumes use, and restored onto larger
// ones in their places: the proof holds, and every volume is whole.
func TestDynamicMachine(t *testing.T) {
	testkit.Need(t, "mkntfs", "ntfsfix", "ldmtool")
	const sectors = 32 * miB / 512
	g := ldmtest.Office(testkit.Image(t, "a.img", 100*miB), testkit.Image(t, "b.img", 80*miB), sectors)
	g.Write(t)
	for v := range g.Volumes {
		fs := testkit.Image(t, "fs", sectors*512)
		testkit.Do(t, "mkntfs", "-Q", "-F", "-q", fs)
		testkit.Do(t, "ntfscp", "-q", "-f", fs, "/bin/busybox", "rota")
		g.Fill(t, v, fs)
	}
	s := newShelf(t)
	twin := takeJoined(t, s, []string{g.Disks[0].Image, g.Disks[1].Image}, 30*miB)
	for i := range g.Disks {
		src, err := s.OpenDisk(t.Context(), twin, i)
		if err != nil {
			t.Fatal(err)
		}
		target := testkit.Image(t, "target.img", 140*miB)
		proof, _, err := written(t, src, &twin.Disks[i], target, kept())
		if err != nil || !proof.Holds() {
			t.Fatalf("%v %+v", err, proof)
		}
		g.Disks[i].Image = target
	}
	if said := testkit.Do(t, "ldmtool", "scan", g.Disks[0].Image, g.Disks[1].Image); !strings.Contains(said,
		ldmtest.GroupID) {
		t.Errorf("no group is seen: %s", said)
	}
	for v := range g.Volumes {
		for m := range g.Volumes[v].Mirrors {
			out := testkit.Image(t, "out", sectors*512)
			if err := os.WriteFile(out, g.Bytes(t, v, m), 0o600); err != nil {
				t.Fatal(err)
			}
			testkit.Do(t, "ntfsfix", "-n", out)
			if got := testkit.Do(t, "ntfscat", "-f", out, "rota"); got != busybox(t) {
				t.Errorf("%s: its file differs", g.Volumes[v].Name)
			}
		}
	}
}

func busybox(t *testing.T) string {
	t.Helper()
	b, err := os.ReadFile("/bin/busybox")
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

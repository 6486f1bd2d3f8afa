package bench

import (
	"maps"
	"os"
	"testing"
	"time"

	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// TestProbeAgain: a disk is looked at again only where it may have been written, or is another one.
func TestProbeAgain(t *testing.T) {
	img := testkit.Image(t, "kiosk.img", 8*units.MiB)
	b := &Bench{Images: []string{img}}
	again := func(was *Disk) *Disk {
		t.Helper()
		d := b.List()[0]
		b.ProbeAgain(t.Context(), d, was)
		if d.Problem != "" || d.Survey == nil || d.Device == nil || d.Fingerprint == "" {
			t.Fatalf("not probed: %+v", d)
		}
		return d
	}
	first := again(nil)
	second := again(first)
	if second.Survey != first.Survey || second.Identity != first.Identity || second.Fingerprint != first.Fingerprint {
		t.Error("an untouched disk was looked at again")
	}
	f, err := os.OpenFile(img, os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	time.Sleep(20 * time.Millisecond) // the clock of file times is a coarse one
	if _, err := f.WriteAt([]byte{1}, 5*units.MiB); err != nil {
		t.Fatal(err)
	}
	f.Close()
	if third := again(second); third.Survey == second.Survey {
		t.Error("a written disk wasn't looked at again")
	}
	locked := again(first)
	locked.state = ""
	if again(locked).Survey == locked.Survey {
		t.Error("a disk of which nobody can say whether it was written wasn't looked at again")
	}
}

// TestStateOfBlocks: what the kernel counts changes with writes, discards and another drive; reads change nothing, and
// devices that are made of others can't be told.
func TestStateOfBlocks(t *testing.T) {
	const at = "sys/devices/pci0/ata1/host0/block/sda/"
	of := func(change map[string]string, from string) string {
		files := map[string]string{from + "size": "2048\n", from + "diskseq": "9\n",
			from + "stat": " 10 2 300 4 50 6 700 8 0 9 10 11 12 1300 14 15 16\n"}
		maps.Copy(files, change)
		links := map[string]string{"sys/block/sda": "../../" + from}
		return (&Bench{Host: host(t, files, links), System: true}).List()[0].state
	}
	plain := of(nil, at)
	for name, c := range map[string]struct {
		change map[string]string
		same   bool
	}{
		"read": {map[string]string{at + "stat": " 11 2 308 4 50 6 700 8 0 9 10 11 12 1300 14 15 16\n"}, true},
		"written": {map[string]string{at + "stat": " 10 2 300 4 51 6 708 8 0 9 10 11 12 1300 14 15 " +
			"16\n"}, false},
		"discarded": {map[string]string{at + "stat": " 10 2 300 4 50 6 700 8 0 9 10 11 13 1308 14 15 " +
			"16\n"}, false},
		"another drive":  {map[string]string{at + "diskseq": "10\n"}, false},
		"an old kernel":  {map[string]string{at + "diskseq": ""}, false},
		"short counters": {map[string]string{at + "stat": "10 2 300\n"}, false},
	} {
		if got := of(c.change, at); plain == "" || (got == plain) != c.same {
			t.Errorf("%s: %q after %q", name, got, plain)
		}
	}
	if got := of(nil, "sys/devices/virtual/block/sda/"); got != "" {
		t.Errorf("a device made of others: %q", got)
	}
}

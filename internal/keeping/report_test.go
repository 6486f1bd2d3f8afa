package keeping

import (
	"slices"
	"testing"
	"time"

	"twinshelf/internal/span"
)

func TestDamageByTwin(t *testing.T) {
	taken := time.Date(2026, 11, 3, 18, 0, 0, 0, time.UTC)
	d := func(machine, twin string, disk, part int, at span.Span) Damage {
		return Damage{Machine: machine, Twin: twin, Taken: taken, Disk: disk, Part: part, Title: "kiosk-root", Span: at,
			Why: "gone"}
	}
	rep := &Report{Damage: []Damage{
		d("Harbour kiosk", "a", 1, 2, span.At(0, 1_000_000)),
		d("Harbour kiosk", "a", 1, 2, span.At(5_000_000, 2_000_000)),
		d("Ticket desk", "b", 1, 3, span.At(0, 4096)), d("Weighbridge", "c", 1, 0, span.At(0, 512)),
		d("Harbour kiosk", "a", 2, 1, span.At(0, 1_000_000)),
	}}
	want := []string{
		"Harbour kiosk, twin of 2026-11-03 18:00: 3 places with 4.00 MB can't be had in part 2 (kiosk-root) of disk " +
			"1 and other parts",
		"Ticket desk, twin of 2026-11-03 18:00: 1 place with 4.10 kB can't be had in part 3 (kiosk-root) of disk 1",
		"Weighbridge, twin of 2026-11-03 18:00: 1 place with 512 B can't be had between the parts of disk 1",
	}
	if got := rep.ByTwin(); !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	if got := (&Report{}).ByTwin(); len(got) != 0 {
		t.Errorf("%q", got)
	}
}

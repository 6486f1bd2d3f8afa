package tui

import (
	"strings"
	"testing"

	"twinshelf/internal/names"
)

func TestCountWords(t *testing.T) {
	for _, c := range []struct {
		counts map[names.Way]int
		want   string
	}{
		{nil, "no file or folder differs."},
		{map[names.Way]int{names.Added: 1}, "1 item came back. c lists them."},
		{map[names.Way]int{names.Removed: 1, names.Moved: 2}, "1 item is gone, 2 are elsewhere. c lists them."},
		{map[names.Way]int{names.Added: 3, names.Removed: 2, names.Changed: 1},
			"3 items came back, 2 are gone, 1 has other contents. c lists them."},
	} {
		if got := countWords(c.counts); got != c.want {
			t.Errorf("%v: %q, not %q", c.counts, got, c.want)
		}
	}
}

// TestWhatCameBack: after the restore of an older date the page Proof compares by itself, with the machine that was
// restored, and c lists what it found.
func TestWhatCameBack(t *testing.T) {
	m := targeted(opened(t))
	mm := m.(*model)
	m = key(onMachine(m, "Ticket desk"), "left", "enter")
	if m = key(m, "enter"); mm.lastPage.summary == nil {
		t.Fatalf("no last page:\n%s", text(m))
	}
	m = key(m, "7", "7", "3", "1", "enter")
	if err := mm.runPage.run.Wait(); err != nil {
		t.Fatal(err)
	}
	m = feed(m, ticked{})
	m = key(onMachine(m, "Weighbridge"), "7") // looking around at another machine changes nothing
	page := strings.Join(strings.Fields(text(m)), " ")
	if mm.proofPage.diff == nil || !mm.proofPage.diff.done || mm.proofPage.diff.err != nil {
		t.Fatalf("nothing was compared: %+v\n%s", mm.proofPage.diff, text(m))
	}
	for _, want := range []string{"What came back, and what is gone? compared", "1 date of Ticket desk came after"} {
		if !strings.Contains(page, want) {
			t.Errorf("no %q on\n%s", want, text(m))
		}
	}
	m = key(m, "c")
	if got := text(m); mm.step != stepInside || !strings.Contains(got, "to what was restored") ||
		!strings.Contains(got, "gone") {
		t.Errorf("c shows\n%s", got)
	}
	m = key(m, "esc")
	if mm.step != stepProof || !mm.proofPage.diff.done {
		t.Errorf("Esc leads to step %d", mm.step)
	}
	// Another proof has nothing of that.
	m = key(onMachine(m, "Ticket desk"), "v")
	if err := mm.runPage.run.Wait(); err != nil {
		t.Fatal(err)
	}
	m = key(feed(m, ticked{}), "7")
	if mm.proofPage.diff != nil || strings.Contains(text(m), "What came back") {
		t.Errorf("the proof of a twin tells of a restore:\n%s", text(m))
	}
}

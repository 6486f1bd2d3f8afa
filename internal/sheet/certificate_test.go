package sheet

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/job"
	"twinshelf/internal/testkit"
)

// erasing is a case in which a disk was erased, and how that ended.
func erasing(way, state string) *job.Job {
	begun, ended := job.NewEntry(job.Begun), job.NewEntry(job.Ended)
	begun.At, ended.At = made, made
	begun.Begun = &job.Work{Sort: job.Erase, Title: "Erasing Heron H1", Way: way,
		Lost: []string{"part 1, old photographs"},
		Does: []string{"overwrites every sector once and reads it back"},
		Before: []job.Disk{{Identity: disk.Identity{Model: "Heron H1 1 TB", Serial: "HH1-90C2E7731",
			Size: 1_000_204_886_016}}}}
	ended.Ended = &job.Result{Work: begun.ID, State: state, Seconds: 9000}
	return job.Of("0123456789abcdef", []job.Entry{begun, ended})
}

// TestCertificate: only what was overwritten from end to end is certified, and the sheet says of every way what it did.
func TestCertificate(t *testing.T) {
	b, err := Sheet{Job: erasing("random", "done"), Head: Head{Made: made}}.Certificate()
	if err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(t.TempDir(), "c.pdf")
	if err := os.WriteFile(file, b, 0o600); err != nil {
		t.Fatal(err)
	}
	text := strings.Join(strings.Fields(testkit.Do(t, "pdftotext", "-layout", file, "-")), " ")
	for _, want := range []string{"Certificate of erasure", "HH1-90C2E7731", "1 000 204 886 016 bytes", "2 h 30 min",
		"was overwritten with random bytes everywhere, and read back", "old photographs", "Witness, date"} {
		if !strings.Contains(text, want) {
			t.Errorf("no %q in\n%s", want, text)
		}
	}
	for _, c := range [][2]string{{"quick", "done"}, {"discard", "done"}, {"zeros", "cancelled"}, {"zeros", "failed"},
		{"", "done"}} {
		if _, err := (Sheet{Job: erasing(c[0], c[1]), Head: Head{Made: made}}).Certificate(); !errors.Is(err,
			ErrNothingErased) {
			t.Errorf("%v is certified: %v", c, err)
		}
	}
	for way, want := range map[string]string{"quick": "contents are still on it", "discard": "its own affair",
		"zeros": "zeros everywhere, and read back"} {
		if text, _ := printed(t, Sheet{Job: erasing(way, "done"), Head: Head{Made: made}}); !strings.Contains(text,
			want) {
			t.Errorf("%s: no %q in\n%s", way, want, text)
		}
	}
}

// TestOnlyWhatIsStillSo: a disk that was erased after its restore isn't drawn as it was restored, and one whose proof
// failed is drawn as planned only.
func TestOnlyWhatIsStillSo(t *testing.T) {
	text, _ := printed(t, Sheet{Job: fullCase(), Head: Head{Made: made}})
	if !strings.Contains(text, "not all of it is right") || strings.Contains(text, "Before and after") {
		t.Errorf("a failed proof doesn't show in the drawing's heading\n%s", text)
	}
	restored, erased := fullCase(), erasing("quick", "done")
	works := restored.Works()
	for i := range erased.Entries {
		if b := erased.Entries[i].Begun; b != nil {
			b.Before = works[len(works)-1].After
		}
	}
	both := job.Of("0123456789abcdef", append(restored.Entries, erased.Entries...))
	if text, _ = printed(t, Sheet{Job: both, Head: Head{Made: made}}); strings.Contains(text, "After: ") {
		t.Errorf("a disk that was erased since is drawn as it was restored\n%s", text)
	}
}

package sheet

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/job"
	"twinshelf/internal/settings"
	"twinshelf/internal/testkit"
)

var made = time.Date(2026, 11, 28, 16, 0, 0, 0, time.UTC)

// fullCase is a restore of two disks with 12 parts, after a capture that couldn't read everything.
func fullCase() *job.Job {
	at := made.Add(-time.Hour)
	var all []job.Entry
	enter := func(kind job.Kind) *job.Entry {
		at = at.Add(time.Minute)
		all = append(all, job.NewEntry(kind))
		e := &all[len(all)-1]
		e.At = at
		e.ID = at.Format("20060102T150405.000000Z") + "-00000000"
		return e
	}
	enter(job.About).About = &job.Case{Number: "2026-114", Customer: "Grüße Ødegård, Ωmega & Söhne",
		Machine: "Ticket desk",
		Contact: strings.Repeat("a very long way to reach somebody ", 12), Asked: "Жёсткий диск побольше",
		Technician: "Tam"}
	begun := enter(job.Begun)
	begun.Begun = &job.Work{Sort: job.Capture, Title: "Capture of Ticket desk", Shelf: "Oak",
		From: []job.Disk{manyParts("Kestrel K2 256", 256e9)}}
	id := begun.ID
	r := &job.Result{Work: id, State: "done", Seconds: 70, Used: 108e9, Added: 31e9, Twin: "20261128T150000Z-ab12cd",
		Unread: 1228800}
	for i := range 300 {
		r.Hit = append(r.Hit, fmt.Sprintf("part 3, Tickets/letter-%03d.txt: 4.10 kB of it", i))
	}
	enter(job.Ended).Ended = r
	begun = enter(job.Begun)
	begun.Begun = &job.Work{Sort: job.Restore, Title: "Restore of Ticket desk", Machine: "Ticket desk", Shelf: "Oak",
		Twin: "20261128T150000Z-ab12cd", Dated: "2026-11-28 15:00 +00:00",
		From: []job.Disk{manyParts("Kestrel K2 256", 256e9), manyParts("Dunlin D 128", 128e9)},
		Before: []job.Disk{manyParts("Heron H1 1 TB", 1e12), {Identity: disk.Identity{Model: "Curlew C 480",
			Size: 480e9}}},
		After: []job.Disk{manyParts("Heron H1 1 TB", 1e12), manyParts("Curlew C 480", 480e9)},
		Lost:  []string{"part 1, old photographs"}, Does: []string{"part 3 grows"},
		Warned: []string{"it may not start"}}
	id = begun.ID
	enter(job.Ended).Ended = &job.Result{Work: id, State: "done", Seconds: 90, Claims: []job.Claim{
		{About: "part 1", Says: "equals what was planned", Holds: true}, {About: "table", Says: "both copies agree"}}}
	enter(job.Noted).Note = "the old drive clicks " + strings.Repeat("x", 400)
	return job.Of("0123456789abcdef", all)
}

func manyParts(model string, size int64) job.Disk {
	d := job.Disk{Identity: disk.Identity{Model: model, Serial: "S-" + model, Size: size}, Table: "GPT", Words: "full"}
	names := []string{"START", "größer", "Жёлтый", "Ωμέγα", "水", "🛥 boat", "data",
		"a name that is so long that no column takes it"}
	for i := range int64(12) {
		used := size / 40
		d.Parts = append(d.Parts, job.Part{Number: int(i + 1), Title: names[int(i)%len(names)], FileSystem: "NTFS",
			Role: "data", Start: size / 12 * i, Size: size / 12, Used: &used})
	}
	return d
}

// printed is the text of a sheet as the system's reader finds it, and how many pages there are.
func printed(t *testing.T, s Sheet) (string, int) {
	t.Helper()
	b, err := s.PDF()
	if err != nil {
		t.Fatal(err)
	}
	again, err := s.PDF()
	if err != nil || !bytes.Equal(b, again) {
		t.Error("the same sheet isn't the same bytes", err)
	}
	file := filepath.Join(t.TempDir(), "sheet.pdf")
	if err := os.WriteFile(file, b, 0o600); err != nil {
		t.Fatal(err)
	}
	text := testkit.Do(t, "pdftotext", "-layout", file, "-")
	return strings.Join(strings.Fields(text), " "), strings.Count(text, "\f")
}

func TestFullSheet(t *testing.T) {
	for _, paper := range Papers {
		text, pages := printed(t, Sheet{Job: fullCase(), Head: Head{Made: made,
			Shop: settings.Shop{Name: "Ternhouse Repairs", Address: []string{"Quay 4", "Skarnholm"}, Paper: paper}}})
		for _, want := range []string{"Ternhouse Repairs", "Quay 4", "Job sheet 2026-114",
			"Grüße Ødegård, Ωmega & Söhne",
			"Жёсткий диск побольше", "Жёлтый", "Ωμέγα", "[U+6C34]", "[U+1F6E5] boat", "Before: Kestrel K2 256, 256 GB",
			"After: Curlew C 480, 480 GB", "What was on it, and is overwritten: Heron H1 1 TB",
			"READ BACK, AND NOT ALL OF IT IS RIGHT", "DOESN'T HOLD: table: both copies agree", "letter-000.txt",
			"letter-059.txt", "… and 240 more files", "20261128T150000Z-ab12cd", "Technician, date", "Customer, date",
			"page 1 of", "takes it", "1.23 MB of the disk couldn't be read", "it may not start", "old photographs"} {
			if !strings.Contains(text, want) {
				t.Errorf("%s: no %q in\n%s", paper, want, text)
			}
		}
		if pages < 4 || pages > 12 {
			t.Errorf("%s: %d pages", paper, pages)
		}
	}
}

// TestPlainSheets: a shop without settings, a case without work, one that failed, and a damaged record.
func TestPlainSheets(t *testing.T) {
	text, pages := printed(t, Sheet{Job: job.Of("0123456789abcdef", []job.Entry{job.NewEntry(job.Closed)}),
		Head: Head{Made: made}})
	if !strings.Contains(text, "Nothing has been done yet.") || !strings.Contains(text, "Closed") || pages != 1 {
		t.Errorf("%d pages\n%s", pages, text)
	}
	begun, ended, cut := job.NewEntry(job.Begun), job.NewEntry(job.Ended), job.NewEntry(job.Begun)
	begun.Begun = &job.Work{Sort: job.Restore, Title: "Restore of Weighbridge", After: []job.Disk{{}}}
	ended.Ended = &job.Result{Work: begun.ID, State: "failed", Error: "the target went away"}
	cut.Begun = &job.Work{Sort: job.Erase, Title: "Erasing Heron H1"}
	j := job.Of("0123456789abcdef", []job.Entry{begun, ended, cut})
	j.Problems = []error{errors.New("line 4 can't be read")}
	text, _ = printed(t, Sheet{Job: j, Head: Head{Made: made}})
	for _, want := range []string{"FAILED: the target went away", "no end is on record", "line 4 can't be read"} {
		if !strings.Contains(text, want) {
			t.Errorf("no %q in\n%s", want, text)
		}
	}
	if strings.Contains(text, "Before and after") {
		t.Errorf("a disk that wasn't written is drawn as it was planned\n%s", text)
	}
}

func TestKindsOfFiles(t *testing.T) {
	s := Sheet{Job: fullCase(), Head: Head{Made: made}}
	if b, err := s.As(".SVG"); err != nil || !bytes.Contains(b, []byte("After: Heron H1")) {
		t.Errorf("%v", err)
	}
	if b, err := s.As(".pdf"); err != nil || !bytes.HasPrefix(b, []byte("%PDF-")) {
		t.Errorf("%v", err)
	}
	if _, err := s.As(".doc"); err == nil {
		t.Error("anything is made")
	}
	empty := Sheet{Job: job.Of("0123456789abcdef", nil), Head: Head{Made: made}}
	if _, err := empty.As(".svg"); !errors.Is(err, ErrNothingToDraw) {
		t.Errorf("%v", err)
	}
	for _, bad := range []settings.Shop{{Paper: "A7"}, {Numbers: "none"}} {
		s.Shop = bad
		if _, err := s.PDF(); err == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
}

// BenchmarkSheet makes a full sheet.
func BenchmarkSheet(b *testing.B) {
	s := Sheet{Job: fullCase(), Head: Head{Made: made}}
	for b.Loop() {
		if _, err := s.PDF(); err != nil {
			b.Fatal(err)
		}
	}
}

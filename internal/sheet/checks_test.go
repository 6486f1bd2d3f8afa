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

// checking is a case in which a drive was checked, and how that ended.
func checking(sort job.Sort, way string, r job.Result) *job.Job {
	begun, ended := job.NewEntry(job.Begun), job.NewEntry(job.Ended)
	begun.At, ended.At = made, made
	drive := []job.Disk{{Identity: disk.Identity{Model: "Curlew C 480", Serial: "CC480-6D1E9A27",
		Size: 480_103_981_056}, Health: "no fault in its own figures"}}
	begun.Begun = &job.Work{Sort: sort, Title: "Check of Curlew C 480", Way: way, From: drive}
	if sort == job.Erase {
		begun.Begun.From, begun.Begun.Before = nil, drive
	}
	r.Work = begun.ID
	ended.Ended = &r
	return job.Of("0123456789abcdef", []job.Entry{begun, ended})
}

// TestReport: every check from end to end has its page, with a verdict that is the run's.
func TestReport(t *testing.T) {
	bad := "not every sector is good: 8.19 kB can't be read, the first at byte 4096"
	for want, j := range map[string]*job.Job{
		"Passed": checking(job.Check, "", job.Result{State: "done", Seconds: 3000,
			Notes: []string{"every sector was read"}}),
		"FAILED Not every sector": checking(job.Check, "", job.Result{State: "failed", Error: bad}),
		"Cut short":               checking(job.Check, "", job.Result{State: "cancelled", Error: "cancelled"}),
		"Every sector is written": checking(job.Erase, "check", job.Result{State: "done"}),
		"every sector was read": checking(job.Check, "", job.Result{State: "done",
			Notes: []string{"every sector was read"}}),
		"no fault in its own figu": checking(job.Check, "", job.Result{State: "done"}),
	} {
		b, err := Sheet{Job: j, Head: Head{Made: made}}.Report()
		if err != nil {
			t.Fatal(err)
		}
		file := filepath.Join(t.TempDir(), "c.pdf")
		if err := os.WriteFile(file, b, 0o600); err != nil {
			t.Fatal(err)
		}
		text := strings.Join(strings.Fields(testkit.Do(t, "pdftotext", "-layout", file, "-")), " ")
		for _, w := range []string{want, "Drive checks", "CC480-6D1E9A27", "480 103 981 056 bytes",
			"Technician, date"} {
			if !strings.Contains(text, w) {
				t.Errorf("no %q in\n%s", w, text)
			}
		}
		if strings.Contains(text, "Passed") != (j.Works()[0].Result.State == "done") {
			t.Errorf("%s: the verdict is another:\n%s", want, text)
		}
	}
	for _, j := range []*job.Job{erasing("zeros", "done"), checking(job.Prove, "", job.Result{State: "done"})} {
		if _, err := (Sheet{Job: j}).Report(); !errors.Is(err, ErrNothingChecked) {
			t.Errorf("there is a report: %v", err)
		}
	}
}

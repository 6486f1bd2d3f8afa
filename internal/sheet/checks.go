package sheet

import (
	"errors"

	"twinshelf/internal/job"
	"twinshelf/internal/ready"
)

// ErrNothingChecked means that no drive was checked in a case.
var ErrNothingChecked = errors.New("no drive was checked from end to end in this case: there is nothing to report")

// Report is the paper on the drives that were checked in a case: a page for each check, those that failed too.
func (s Sheet) Report() ([]byte, error) {
	blocks, err := s.Reported()
	if err != nil {
		return nil, err
	}
	return s.ofCase("Drive checks", blocks)
}

// Reported are what the report says; ErrNothingChecked where there is nothing to report.
func (s Sheet) Reported() ([]Block, error) {
	var blocks []Block
	for _, w := range s.Job.Works() {
		d, ok := checked(w)
		if !ok {
			continue
		}
		if len(blocks) > 0 {
			blocks = append(blocks, Block{Page: true})
		}
		blocks = append(blocks, s.checkPage(w, d)...)
	}
	if len(blocks) == 0 {
		return nil, ErrNothingChecked
	}
	return blocks, nil
}

// checked gives the drive that a work checked from end to end.
func checked(w job.Done) (d job.Disk, ok bool) {
	switch {
	case w.Result == nil:
	case w.Sort == job.Check && len(w.From) == 1:
		return w.From[0], true
	case w.Sort == job.Erase && ready.Way(w.Way) == ready.Check && len(w.Before) == 1:
		return w.Before[0], true
	}
	return job.Disk{}, false
}

func (s Sheet) checkPage(w job.Done, d job.Disk) []Block {
	verdict := "FAILED"
	switch w.Result.State {
	case "done":
		verdict = "Passed"
	case "cancelled":
		verdict = "Cut short: it says nothing of what wasn't reached"
	}
	out := []Block{{Heading: "This drive"}, {Facts: s.diskFacts(w, d)}, {Heading: verdict}}
	if w.Result.Error != "" && w.Result.State != "cancelled" {
		out = append(out, Block{Text: upper(w.Result.Error) + "."})
	}
	how := "Every sector is read; nothing is written."
	if w.Sort == job.Erase {
		how = "Every sector is written with other bytes, and then read back and compared, so that it is known " +
			"to keep " +
			"what is written to it, and to have the size that it says."
	}
	out = append(out, Block{Text: how})
	if d.Health != "" {
		out = append(out, Block{Text: "What the drive said of itself before: " + d.Health + "."})
	}
	return append(append(out, notesOf(w, "What was found")...), Block{Sign: []string{"Technician"}})
}

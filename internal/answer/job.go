package answer

import (
	"time"

	"twinshelf/internal/job"
)

// Job is a customer's case.
type Job struct {
	ID string `json:"id"`
	job.Case
	Opened time.Time  `json:"opened_on"`
	Closed *time.Time `json:"closed_on,omitempty"`
	// Chosen says that what is done now belongs to it.
	Chosen bool      `json:"chosen"`
	Works  []JobWork `json:"works"`
	Notes  []JobNote `json:"notes"`
	Looks  []JobLook `json:"looks"`
	// Problems say what of its record can't be read.
	Problems []string `json:"problems"`
}

// JobWork is a work of a case; Ended and Result are missing where no end is on record.
type JobWork struct {
	ID string `json:"id"`
	job.Work
	Begun  time.Time   `json:"begun"`
	Ended  *time.Time  `json:"ended,omitempty"`
	Result *job.Result `json:"result,omitempty"`
	Words  string      `json:"words"`
}

// JobNote is a note of the technician.
type JobNote struct {
	At   time.Time `json:"when"`
	Text string    `json:"text"`
}

// JobLook is a disk that was looked at.
type JobLook struct {
	At   time.Time `json:"when"`
	Disk job.Disk  `json:"looked"`
}

// JobOf is a case as commands say it.
func JobOf(j *job.Job, chosen bool) Job {
	out := Job{ID: j.ID, Case: j.Case, Opened: j.Opened, Chosen: chosen}
	if !j.Open() {
		out.Closed = &j.Closed
	}
	for _, d := range j.Works() {
		w := JobWork{ID: d.ID, Work: d.Work, Begun: d.Begun, Result: d.Result, Words: d.Words()}
		if d.Result != nil {
			w.Ended = &d.Ended
		}
		out.Works = append(out.Works, w)
	}
	for _, n := range j.Notes() {
		out.Notes = append(out.Notes, JobNote{n.At, n.Note})
	}
	for _, e := range j.Looks() {
		out.Looks = append(out.Looks, JobLook{e.At, *e.Look})
	}
	for _, p := range j.Problems {
		out.Problems = append(out.Problems, p.Error())
	}
	return out
}

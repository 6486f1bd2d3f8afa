package sheet

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"twinshelf/internal/job"
	"twinshelf/internal/ready"
	"twinshelf/internal/units"
)

// ErrNothingErased means that nothing was erased in a case in a way that can be certified.
var ErrNothingErased = errors.New("no disk was overwritten from end to end in this case: there is nothing to certify")

// Certificate is the paper on the disks that were erased in a case: a page for each. Only what was overwritten from end
// to end and read back is certified; cleared signatures and a discard leave contents that nobody has seen go.
func (s Sheet) Certificate() ([]byte, error) {
	blocks, err := s.Certified()
	if err != nil {
		return nil, err
	}
	return s.ofCase("Certificate of erasure", blocks)
}

// Certified are what the certificate says; ErrNothingErased where there is nothing to certify.
func (s Sheet) Certified() ([]Block, error) {
	var blocks []Block
	for _, w := range s.Job.Works() {
		if !certain(w) {
			continue
		}
		if len(blocks) > 0 {
			blocks = append(blocks, Block{Page: true})
		}
		blocks = append(blocks, s.certified(w)...)
	}
	if len(blocks) == 0 {
		return nil, ErrNothingErased
	}
	return blocks, nil
}

// certain says whether a work overwrote a disk from end to end, and read it back.
func certain(w job.Done) bool {
	whole := ready.Way(w.Way) == ready.Zeros || ready.Way(w.Way) == ready.Random
	return w.Sort == job.Erase && whole && w.Result != nil && w.Result.State == "done" && len(w.Before) == 1
}

func (s Sheet) certified(w job.Done) []Block {
	out := []Block{{Heading: "This disk"}, {Facts: s.diskFacts(w, w.Before[0])}, {Heading: "was " + erasedWords(w)}}
	for _, l := range w.Does {
		out = append(out, Block{Text: upper(l)})
	}
	if len(w.Lost) > 0 {
		out = append(out, Block{Heading: "What was on it"})
		for _, l := range w.Lost {
			out = append(out, Block{Text: "· " + l})
		}
	}
	out = append(out, notesOf(w, "Notes of the run")...)
	return append(out, Block{Sign: []string{"Technician", "Witness"}})
}

// diskFacts say which disk a work was done to, when, and by whom.
func (s Sheet) diskFacts(w job.Done, d job.Disk) (facts [][2]string) {
	id := d.Identity
	took := time.Duration(w.Result.Seconds * float64(time.Second))
	for _, f := range [][2]string{{"Model", id.Model}, {"Serial", id.Serial}, {"WWN", id.WWN}, {"Attached by", id.Bus},
		{"Size", units.Exact(id.Size)}, {"Begun", s.Dates.Moment(w.Begun)}, {"Ended", s.Dates.Moment(w.Ended)},
		{"Took", units.Duration(took)}, {"By", s.Job.Technician}, {"Case", s.Job.Title()}, {"Entry", w.ID}} {
		if f[1] != "" {
			facts = append(facts, f)
		}
	}
	return facts
}

// notesOf are the notes of a work's run, under a heading; nothing where there are none.
func notesOf(w job.Done, heading string) (out []Block) {
	if n := len(w.Result.Notes) + w.Result.More; n > 0 {
		out = append(out, Block{Heading: heading})
		for _, l := range w.Result.Notes[:min(len(w.Result.Notes), mostRows)] {
			out = append(out, Block{Text: "· " + l})
		}
		if more := n - mostRows; more > 0 {
			out = append(out, Block{Text: fmt.Sprintf("… and %d more; they are all on record.", more)})
		}
	}
	return out
}

// upper begins a sentence.
func upper(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

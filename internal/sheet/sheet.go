// Package sheet makes the papers of a case: what was done, for the customer and for the file. A paper is a list of
// blocks; the pages of a PDF and what the screen shows before printing are made from the same list.
package sheet

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/job"
	"twinshelf/internal/ready"
	"twinshelf/internal/scene"
	"twinshelf/internal/settings"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// Block is a piece of a paper. Exactly one of its kinds is set.
type Block struct {
	Heading string
	Text    string
	// Alarm is a text that must not be overlooked.
	Alarm string
	// Facts are what is known, each with what it is.
	Facts [][2]string
	// Table has a head and rows of as many columns; the widths are shares of the page.
	Table *Table
	// Drawing are disks, with threads from the parts of one to those of the next.
	Drawing []scene.Strip
	// Code is a text that is printed as a square that can be scanned too.
	Code string
	// Sign are lines for signatures.
	Sign []string
	// Page begins a new page.
	Page bool
}

// Table is a table. Numbers are at the right of their columns.
type Table struct {
	Head   []string
	Shares []float64
	Right  []bool
	Rows   [][]string
}

// Sheet is the job sheet of a case.
type Sheet struct {
	Head
	Job *job.Job
	// Only are the pages that are wanted; empty for all.
	Only Pages
}

// Pages are some of the pages of a sheet.
type Pages string

// The pages for the customer, and those for engineers.
const (
	ForCustomer  Pages = "customer"
	ForEngineers Pages = "engineers"
)

// ErrNothingToDraw means that nothing was written in a case yet.
var ErrNothingToDraw = errors.New("nothing was written in this case yet, so there is nothing to draw")

// As gives the sheet as a file of a kind: ".pdf" is all of it, ".svg" its first drawing.
func (s Sheet) As(ext string) ([]byte, error) {
	switch strings.ToLower(ext) {
	case ".pdf":
		return s.PDF()
	case ".svg":
		for _, b := range s.Blocks() {
			if b.Drawing != nil {
				return Print(scene.Disks(s.Job.Title(), Wide, b.Drawing, true), ext, s.Made)
			}
		}
		return nil, ErrNothingToDraw
	}
	return nil, fmt.Errorf("%q is no kind of file that a sheet is made as: choose .pdf, or .svg for the drawing", ext)
}

// Print gives a drawing as a file of a kind, ".svg" or ".pdf".
func Print(s *scene.Scene, ext string, made time.Time) ([]byte, error) {
	switch strings.ToLower(ext) {
	case ".svg":
		return s.SVG(), nil
	case ".pdf":
		return drawingPDF(s, made)
	}
	return nil, fmt.Errorf("%q is no kind of file that a drawing is made as: choose .svg or .pdf", ext)
}

// Wide is how wide a drawing of disks is that isn't on a page, in millimetres.
const Wide = 180

// CheckShop says what is wrong with what a shop says of itself.
func CheckShop(shop settings.Shop) error {
	if shop.Paper != "" && !slices.Contains(Papers, shop.Paper) {
		return fmt.Errorf("paper %q is none of %s", shop.Paper, strings.Join(Papers, ", "))
	}
	if shop.Numbers != "" && !job.IsPattern(shop.Numbers) {
		return fmt.Errorf("%q numbers no cases: it needs an N for each digit of the running number, as in %s",
			shop.Numbers, job.UsualNumbers)
	}
	if shop.Dates != "" && !slices.Contains(DateForms, shop.Dates) {
		return fmt.Errorf("%q is no way to write dates: choose one of %s", shop.Dates, strings.Join(DateForms, ", "))
	}
	if shop.Labels != "" {
		if _, err := GridNamed(shop.Labels); err != nil {
			return err
		}
	}
	if max(math.Abs(shop.LabelsRight), math.Abs(shop.LabelsBelow)) > MostOffset {
		return fmt.Errorf("labels are moved by %d mm at the most", MostOffset)
	}
	return nil
}

// mostRows is how many files and notes of a work are printed; how many more there are is said.
const mostRows = 60

// Blocks are what the sheet says: first what the customer wants to know, then a page for engineers.
func (s Sheet) Blocks() []Block {
	works := s.Job.Works()
	if s.Only == ForEngineers {
		return append([]Block{{Facts: s.about()}}, s.engineers(works)...)
	}
	out := s.customer(works)
	if s.Only == "" && len(works)+len(s.Job.Looks()) > 0 {
		out = append(append(out, Block{Page: true}), s.engineers(works)...)
	}
	return out
}

// about is what the case is about, and when.
func (s Sheet) about() [][2]string {
	facts := append(s.Job.About(), [2]string{"Opened", s.Dates.Moment(s.Job.Opened)})
	if !s.Job.Open() {
		facts = append(facts, [2]string{"Closed", s.Dates.Moment(s.Job.Closed)})
	}
	return facts
}

func (s Sheet) customer(works []job.Done) []Block {
	out := []Block{{Facts: s.about()}}
	for _, p := range s.Job.Problems {
		out = append(out, Block{Alarm: "A part of the record can't be read: " + p.Error()})
	}
	if len(works) == 0 {
		out = append(out, Block{Text: "Nothing has been done yet."})
	} else {
		out = append(out, Block{Heading: "What was done"}, Block{Table: s.doneTable(works)})
	}
	out = append(out, s.result(works)...)
	if notes := s.Job.Notes(); len(notes) > 0 {
		out = append(out, Block{Heading: "Notes"})
		for _, n := range notes {
			out = append(out, Block{Text: s.Dates.Minute(n.At) + "  " + n.Note})
		}
	}
	out = append(out, unreadBlocks(works)...)
	return append(out, Block{Sign: []string{"Technician", "Customer"}})
}

func (s Sheet) engineers(works []job.Done) []Block {
	out := []Block{{Heading: "For engineers"}}
	if len(works)+len(s.Job.Looks()) == 0 {
		out = append(out, Block{Text: "Nothing has been done yet."})
	}
	if looks := s.Job.Looks(); len(looks) > 0 {
		var facts [][2]string
		for _, e := range looks {
			facts = append(facts, [2]string{"Looked at", s.Dates.Moment(e.At) + ": " + diskWords(*e.Look)})
		}
		out = append(out, Block{Facts: facts})
	}
	for _, w := range works {
		out = append(out, s.technical(w)...)
	}
	return out
}

func (s Sheet) doneTable(works []job.Done) *Table {
	t := &Table{Head: []string{"when", "what", "what came of it"}, Shares: []float64{0.2, 0.35, 0.45},
		Right: make([]bool, 3)}
	for _, w := range works {
		t.Rows = append(t.Rows, []string{s.Dates.Minute(w.Begun), w.Title, plainly(w)})
	}
	return t
}

// plainly says what a work came to as a customer understands it.
func plainly(w job.Done) string {
	r := w.Result
	switch {
	case r == nil:
		return "no end is on record"
	case r.State == "cancelled":
		return "cancelled before it was done"
	case r.State != "done":
		return "FAILED: " + r.Error
	}
	switch w.Sort {
	case job.Capture:
		if r.Unread > 0 {
			return fmt.Sprintf("%s are kept; %s of the disk couldn't be read", units.Bytes(r.Used),
				units.Bytes(r.Unread))
		}
		return units.Bytes(r.Used) + " are kept"
	case job.Restore, job.Copy:
		return "written; " + proofWords(r)
	case job.Prove:
		return proofWords(r)
	case job.Erase:
		return erasedWords(w)
	case job.Check:
		return "every sector could be read"
	}
	return "done"
}

// erasedWords say what an erasing did, and no more than that.
func erasedWords(w job.Done) string {
	switch ready.Way(w.Way) {
	case ready.Zeros:
		return "overwritten with zeros everywhere, and read back"
	case ready.Random:
		return "overwritten with random bytes everywhere, and read back"
	case ready.Check:
		return "every sector was written and read back"
	case ready.Discard:
		return "the drive was told that nothing on it is needed; when it wipes that is its own affair"
	}
	return "table and signatures cleared; the contents are still on it"
}

func proofWords(r *job.Result) string {
	switch {
	case len(r.Claims) == 0:
		return "not read back"
	case r.Failed() > 0:
		return fmt.Sprintf("READ BACK, AND NOT ALL OF IT IS RIGHT: %s", r.Verdict())
	}
	return "read back and compared: all of it is right"
}

// result draws what became of the disks in the last work that wrote some and was done, with its parts and its twin. A
// disk that something else was done to since isn't drawn: what it is like now isn't what that work made of it.
func (s Sheet) result(works []job.Done) []Block {
	touched := map[string]bool{}
	for i := len(works) - 1; i >= 0; i-- {
		w := works[i]
		known := func(k int) bool {
			return w.Result != nil && w.Result.State == "done" && !touched[w.After[k].Identity.Key()]
		}
		var out []Block
		for k := range w.After {
			if !known(k) {
				continue
			}
			heading := "Before and after"
			if w.Result.Failed() > 0 {
				heading = "Before, and as it was planned: not all of it is right"
			}
			before, strips := stripsOf(w.Work, k)
			out = append(out, Block{Heading: heading}, Block{Drawing: strips},
				Block{Table: partsTable(before, w.After[k])})
		}
		for _, d := range w.Before {
			touched[d.Identity.Key()] = true
		}
		if len(out) == 0 {
			continue
		}
		if w.Twin != "" {
			out = append(out, Block{Text: fmt.Sprintf("It was made from the twin of %s of %s, on the shelf %s.",
				w.Machine, s.Dates.Again(w.Dated), w.Shelf)}, Block{Code: w.Twin})
		}
		return out
	}
	for i := len(works) - 1; i >= 0; i-- {
		if r := works[i].Result; r != nil && r.Twin != "" {
			return []Block{{Text: fmt.Sprintf("What was captured is the twin %s, on the shelf %s.", r.Twin,
				works[i].Shelf)},
				{Code: r.Twin}}
		}
	}
	return nil
}

// stripsOf are target k of a work before and after, and what was on it where that is overwritten by something else.
func stripsOf(w job.Work, k int) (before job.Disk, strips []scene.Strip) {
	switch {
	case k < len(w.From):
		before = w.From[k]
	case k < len(w.Before):
		before = w.Before[k]
	}
	strips = []scene.Strip{StripOf("Before: ", before), StripOf("After: ", w.After[k])}
	if k < len(w.From) && k < len(w.Before) && len(w.Before[k].Parts) > 0 {
		lost := StripOf("What was on it, and is overwritten: ", w.Before[k])
		for i := range lost.Parts {
			lost.Parts[i].Lost = true
		}
		strips = append(strips, lost)
	}
	return before, strips
}

// Drawn draws the targets of a work before and after.
func Drawn(title string, w job.Work) *scene.Scene {
	var all []*scene.Scene
	for k := range w.After {
		_, strips := stripsOf(w, k)
		all = append(all, scene.Disks("", Wide, strips, true))
	}
	return scene.Stack(title, Wide, all...)
}

// StripOf is a disk to be drawn, with words before its sticker.
func StripOf(head string, d job.Disk) scene.Strip {
	out := scene.Strip{Title: head + Sticker(d), Size: d.Identity.Size, Words: d.Words}
	if d.Health != "" {
		out.Words = strings.TrimPrefix(out.Words+"; drive: "+d.Health, "; ")
	}
	for _, p := range d.Parts {
		q := scene.Part{Number: p.Number, Title: p.Title, Role: table.Role(p.Role), Start: p.Start, Size: p.Size,
			Used: -1}
		if p.Used != nil {
			q.Used = *p.Used
		}
		out.Parts = append(out.Parts, q)
	}
	return out
}

// Sticker names a disk by what is on its sticker.
func Sticker(d job.Disk) string {
	words := []string{d.Identity.Model, units.Bytes(d.Identity.Size)}
	if d.Identity.Serial != "" {
		words = append(words, "serial "+d.Identity.Serial)
	}
	return strings.Join(words, ", ")
}

func partsTable(before, after job.Disk) *Table {
	t := &Table{Head: []string{"part", "file system", "used", "was", "is"}, Shares: []float64{0.38, 0.17, 0.15, 0.15,
		0.15},
		Right: []bool{false, false, true, true, true}}
	for _, p := range after.Parts {
		used, was := "unknown", "–"
		if p.Used != nil {
			used = units.Bytes(*p.Used)
		}
		for _, q := range before.Parts {
			if q.Number == p.Number {
				was = units.Bytes(q.Size)
			}
		}
		holds := p.FileSystem
		if holds == "" {
			holds = "–"
		}
		t.Rows = append(t.Rows, []string{fmt.Sprintf("%d %s", p.Number, p.Title), holds, used, was,
			units.Bytes(p.Size)})
	}
	return t
}

// unreadBlocks name the files in places that couldn't be read.
func unreadBlocks(works []job.Done) []Block {
	var out []Block
	for _, w := range works {
		if w.Result == nil || w.Result.Unread == 0 {
			continue
		}
		out = append(out, Block{Alarm: fmt.Sprintf("%s: %s of the disk couldn't be read. %s", w.Title,
			units.Bytes(w.Result.Unread), hitWords(w.Result))})
		for _, f := range w.Result.Hit[:min(len(w.Result.Hit), mostRows)] {
			out = append(out, Block{Text: "· " + f})
		}
		if more := len(w.Result.Hit) - mostRows; more > 0 {
			out = append(out, Block{Text: fmt.Sprintf("… and %d more files; they are all on record.", more)})
		}
	}
	return out
}

func hitWords(r *job.Result) string {
	if len(r.Hit) == 0 {
		return "No file is known to be in these places."
	}
	return "Files in these places have gaps:"
}

// technical is a work as an engineer wants it.
func (s Sheet) technical(w job.Done) []Block {
	facts := [][2]string{{"Begun", s.Dates.Moment(w.Begun)}}
	add := func(name, says string) {
		if says != "" {
			facts = append(facts, [2]string{name, says})
		}
	}
	add("ID", w.ID)
	add("Shelf", w.Shelf)
	add("Twin", strings.TrimSpace(w.Twin+"  "+s.Dates.Again(w.Dated)))
	for _, d := range w.From {
		add("Reads", diskWords(d))
	}
	for _, d := range w.Before {
		add("Writes", diskWords(d))
	}
	for _, l := range w.Lost {
		add("Lost", l)
	}
	for _, l := range w.Does {
		add("Does", l)
	}
	for _, l := range w.Warned {
		add("Doubtful", l)
	}
	for _, a := range w.Answers {
		add("Asked", a.Asked+": "+a.Answer)
	}
	for _, c := range w.Confirmed {
		add("Confirmed", c)
	}
	if r := w.Result; r != nil {
		took := time.Duration(r.Seconds * float64(time.Second))
		expected := ""
		if w.Expected > 0 {
			expected = ", expected " + units.Duration(time.Duration(w.Expected*float64(time.Second)))
		}
		add("Took", fmt.Sprintf("%s%s; %s moved", units.Duration(took), expected, units.Bytes(r.Moved)))
		for _, x := range paused(r) {
			add("Paused", x)
		}
		for _, n := range r.Notes[:min(len(r.Notes), mostRows)] {
			add("Note", n)
		}
		if more := len(r.Notes) - mostRows + r.More; more > 0 && len(r.Notes) >= mostRows {
			add("Note", fmt.Sprintf("… and %d more", more))
		}
		for _, c := range r.Claims {
			if c.Holds {
				add("Claim", "✓ "+c.About+": "+c.Says)
			} else {
				add("Claim", "✗ DOESN'T HOLD: "+c.About+": "+c.Says)
			}
		}
	}
	return []Block{{Heading: w.Title + ": " + w.State()}, {Facts: facts}}
}

// paused says when a work was paused.
func paused(r *job.Result) []string {
	if r.Pace == nil {
		return nil
	}
	var out []string
	after := func(s float64) string { return units.Duration(time.Duration(s * float64(time.Second))) }
	for _, p := range r.Pace.Pauses {
		words := "after " + after(p.From)
		if p.To > 0 {
			words += ", for " + after(p.To-p.From)
		}
		out = append(out, words)
	}
	return out
}

func diskWords(d job.Disk) string {
	words := Sticker(d)
	if d.Table != "" {
		words += ", " + d.Table
	}
	for _, p := range d.Parts {
		words += fmt.Sprintf("; %d %s", p.Number, strings.TrimSpace(p.Title+" "+p.FileSystem+" "+units.Bytes(p.Size)))
	}
	for _, s := range d.Systems {
		words += ". " + s
	}
	return words
}

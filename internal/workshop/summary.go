package workshop

import (
	"fmt"
	"slices"
	"strings"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/ready"
	"twinshelf/internal/restore"
	"twinshelf/internal/startup"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// Confirm is what a person has to type before a disk is written: the last four
// characters of its serial number, of its WWN when it has none, or else its size.
func Confirm(id disk.Identity) (text, what string) {
	if id.Serial != "" {
		return id.Tail(), "the last four characters of the target's serial number"
	}
	if r := []rune(id.WWN); len(r) > 4 {
		return string(r[len(r)-4:]), "the last four characters of the target's world wide name (WWN)"
	}
	return units.Bytes(id.Size), "the target's size, as shown above"
}

// Alike finds another disk that nothing on the stickers tells from d: both have no serial number, and the same model,
// size and world wide name. nil when there is none.
func Alike(d *bench.Disk, disks []*bench.Disk) *bench.Disk {
	for _, o := range disks {
		a, b := o.Identity, d.Identity
		if o.Path != d.Path && a.Serial == "" && b.Serial == "" && a.Model == b.Model && a.Size == b.Size &&
			a.WWN == b.WWN {
			return o
		}
	}
	return nil
}

// Summary says in words what is about to be done to a disk, before anything is written.
type Summary struct {
	// Head is the whole in one sentence.
	Head string `json:"head"`
	// Mild says that no contents are lost.
	Mild    bool     `json:"mild"`
	From    []string `json:"from,omitempty"`
	To      []string `json:"to"`
	Steps   []string `json:"steps,omitempty"`
	Stays   []string `json:"stays,omitempty"`
	Lost    []string `json:"lost"`
	Notes   []string `json:"notes"`
	Doubts  []string `json:"doubts"`
	Confirm string   `json:"confirm"`
	What    string   `json:"confirm_what"`
	// Look says where the person finds what has to be typed; the sticker without it.
	Look string `json:"-"`
}

// about begins a summary: which disk it is, and what has to be typed.
func about(target *bench.Disk, head string) Summary {
	s := Summary{Head: head, To: []string{disk.Sticker(target.Identity), "at " + target.Path + ", " + target.Words()}}
	s.Confirm, s.What = Confirm(target.Identity)
	return s
}

// SummarizeRestore says what the writing of each target will do.
func SummarizeRestore(pairs []*Pair) []Summary {
	var out []Summary
	for _, p := range pairs {
		s := summarizePair(p)
		if p.Twin != nil {
			s.Doubts = append(s.Doubts, MissingDisks(pairs)...)
		}
		out = append(out, s)
	}
	return out
}

// MissingDisks says which disks of the machine get no target; nil for copies.
func MissingDisks(pairs []*Pair) []string {
	t := pairs[0].Twin
	if t == nil {
		return nil
	}
	var out []string
	for i := range t.Disks {
		if slices.ContainsFunc(pairs, func(p *Pair) bool { return p.Disk == i }) {
			continue
		}
		var parts []string
		for _, r := range t.Disks[i].Parts() {
			parts = append(parts, r.Title())
		}
		out = append(out, fmt.Sprintf("disk %d of the machine (%s) gets no target: without it %s will be missing", i+1,
			disk.Sticker(t.Disks[i].Identity), strings.Join(parts, ", ")))
	}
	return out
}

// Consents are what the customer must have agreed to: volumes that are written without their encryption.
func (p *Pair) Consents() []string {
	r, ok := p.Plan.Order.Source.(*survey.Revealed)
	if !ok {
		return nil
	}
	var out []string
	for _, x := range r.Parts {
		out = append(out,
			fmt.Sprintf("part %d, %s, is written without its encryption: whoever has the disk can read it",
				x.Number, x.Title))
	}
	return out
}

func summarizePair(p *Pair) Summary {
	target := p.Target
	s := about(target, "everything on "+disk.Sticker(target.Identity)+" will be overwritten.")
	s.From = p.words()
	s.Lost = target.Loses()
	s.Mild = len(s.Lost) == 0
	s.Steps = append(p.Plan.Notes(), p.Plan.Repaired...)
	s.Doubts = append(restore.Warnings(p.Describe()), p.Consents()...)
	if p.Bench != nil {
		for _, u := range p.Bench.Uses {
			s.Doubts = append(s.Doubts, "the source is in use ("+u.What+"): what is written to it meanwhile is copied "+
				"in part")
		}
	}
	if f := p.Plan.Fresh; f != nil {
		s.Steps = append(s.Steps, f.Does...)
		s.Doubts = slices.Concat(s.Doubts, f.Asks, f.Stays)
	}
	words := ""
	if st := p.Plan.Startup; st.Meant() {
		if words = st.Words(); len(st.Starts()) > 0 {
			s.Notes = append(s.Notes, words)
		} else {
			s.Doubts = append(s.Doubts, words)
		}
	}
	for _, f := range p.Plan.Startup.Findings {
		if f.Verdict != startup.Good && !strings.HasSuffix(words, f.Says) {
			s.Doubts = append(s.Doubts, f.Says)
		}
	}
	if b := p.Plan.Before(); b != nil {
		s.Steps = append(s.Steps,
			fmt.Sprintf("goes on where an earlier run was cut off on %s, at byte %d (%d %% was written)",
				units.Moment(b.When), b.Upto, b.Percent(p.Plan.Layout.Size)))
	}
	write, data := p.Plan.Bytes()
	s.Notes = append(s.Notes,
		fmt.Sprintf("%s of data are written, and up to %s of zeros where the target isn't known to be zero",
			units.Bytes(data), units.Bytes(write-data)),
		"about "+units.Duration(2*p.Plan.Estimate())+", with reading it back; it can be paused",
		"areas that nobody uses keep what is on the target now; erase it first if that matters",
		"cut off or cancelled, it goes on from the last flush when it is started again")
	if p.Bench != nil && p.Plan.Fresh == nil && p.Plan.Layout.Table.Kind != table.None {
		s.Notes = append(s.Notes, "both disks will have the same identity: don't leave both in one machine")
	}
	return s
}

// SummarizeReady says what laying a disk out, or changing its layout, will do.
func SummarizeReady(p *ready.Plan, anew bool, target *bench.Disk) Summary {
	head := fmt.Sprintf("the layout of %s is changed: %s, %s.", disk.Sticker(target.Identity), stay(len(p.Stays)),
		goAway(len(p.Goes)))
	if anew {
		head = fmt.Sprintf("%s is laid out anew: nothing on it stays.", disk.Sticker(target.Identity))
	}
	s := about(target, head)
	s.Stays, s.Lost, s.Notes = p.Stays, p.Goes, p.Notes
	s.Mild = len(p.Goes) == 0
	for _, step := range p.Steps {
		s.Steps = append(s.Steps, step.Title)
	}
	s.Notes = append(s.Notes, "about "+units.Duration(p.Estimate())+"; it can be paused",
		"a keepsake of what is overwritten is kept: it can be put back as long as the disk hasn't been used")
	return s
}

func stay(n int) string {
	if n == 1 {
		return "1 part stays"
	}
	return fmt.Sprintf("%d parts stay", n)
}

func goAway(n int) string {
	switch n {
	case 0:
		return "nothing is lost"
	case 1:
		return "1 part is lost"
	}
	return fmt.Sprintf("%d parts are lost", n)
}

// SummarizeErase says what erasing will do.
func SummarizeErase(e *ready.Erase, target *bench.Disk) Summary {
	s := about(target, fmt.Sprintf("%s is erased: %s.", disk.Sticker(target.Identity), e.Way.Title()))
	s.Lost = e.Loses
	s.Mild = len(e.Loses) == 0
	s.Notes = []string{e.Way.About(e.Medium), "about " + units.Duration(e.Estimate()) + "; it can be paused",
		e.CancelWords()}
	return s
}

// SummarizeReturn says what putting a keepsake back will do.
func SummarizeReturn(r ready.Return, target *bench.Disk) Summary {
	k := r.Keepsake
	s := about(target, fmt.Sprintf("what was on %s before %s is put back.", disk.Sticker(target.Identity),
		units.Moment(k.Taken)))
	s.From = append([]string{"the keepsake of the " + k.Why + " of " + units.Moment(k.Taken)}, k.Held...)
	s.Lost, s.Stays = returns(r, target)
	s.Mild = len(s.Lost) == 0
	s.Notes = []string{"it is done only when every stretch is still as the plan left it; otherwise nothing is written"}
	if !k.Finished {
		s.Doubts = append(s.Doubts, "that plan was cut short, so it can't be told whether the disk was used since: "+
			"go on only if it wasn't")
	}
	return s
}

// returns tells the parts that go when a keepsake is put back from those that stay as they are. Where that can't be
// told all go.
func returns(r ready.Return, target *bench.Disk) (lost, stays []string) {
	all := target.Loses()
	if target.Device == nil || target.Survey == nil {
		return all, nil
	}
	before, err := r.Before(target.Device)
	if err != nil {
		return all, nil
	}
	parts := target.Survey.Parts()
	for i, line := range all {
		if i < len(parts) && parts[i].Part != nil && r.Spares(before, *parts[i].Part) {
			stays = append(stays, line)
			continue
		}
		lost = append(lost, line)
	}
	return lost, stays
}

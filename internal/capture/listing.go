package capture

import (
	"fmt"
	"strings"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/units"
)

// Listed is a disk of a plan, part by part.
type Listed struct {
	Disk  string       `json:"name"`
	Table string       `json:"table_kind"`
	Size  int64        `json:"size"` // bytes
	Parts []ListedPart `json:"parts"`
	// Whole says what a disk without parts holds, all of which is read; empty for others.
	Whole string `json:"whole,omitempty"`
}

// ListedPart is a part of it, and what becomes of it.
type ListedPart struct {
	Number int    `json:"number"`
	Start  int64  `json:"start"` // bytes
	Title  string `json:"title"`
	Kind   string `json:"file_system,omitempty"`
	Holds  string `json:"contents"`
	Size   int64  `json:"size"` // bytes
	Kept   int64  `json:"used"` // bytes
	// LeftOut is why all of it is left out, Omits what of it is; Whole is why all of it is read. Empty where it isn't
	// so.
	LeftOut string   `json:"left_out,omitempty"`
	Omits   []string `json:"omits,omitempty"`
	Whole   string   `json:"whole,omitempty"`
	// Halted says how its system left it and what can be done, where it wasn't shut down; AsCut that it is captured
	// as if the power had been cut.
	Halted *Halted `json:"halted,omitempty"`
	AsCut  bool    `json:"as_cut,omitempty"`
	// Inner are the devices that a container on it gives, in words.
	Inner []string `json:"inner_words,omitempty"`
}

// List lists what a plan captures and what it leaves out, with the reasons.
func (p *Plan) List() []Listed {
	var out []Listed
	for _, s := range p.Sources {
		sv := s.Survey
		l := Listed{Disk: disk.Sticker(sv.Device.Identity()), Table: string(sv.Table.Kind), Size: sv.Device.Size()}
		for _, a := range sv.Parts() {
			x := ListedPart{Number: a.Number(), Start: a.Span.Start, Kind: a.Content.Info.Kind, Title: a.Title(),
				Holds: a.Holds(), Size: a.Span.Len(),
				Kept: a.Content.Used}
			if s.LeaveOut[a.Number()] {
				x.LeftOut, x.Kept = "you asked for that", 0
				l.Parts = append(l.Parts, x)
				continue
			}
			for _, o := range a.Content.Omit {
				x.Omits = append(x.Omits, fmt.Sprintf("%s (%s): %s", o.What, units.Bytes(o.Bytes), o.Why))
			}
			x.Inner, x.AsCut = a.InnerWords(), a.Content.Cut() != nil
			if r, ok := a.Content.Rest(); ok && !r.Quiet() {
				x.Halted = haltedAs(r)
			}
			if !a.Content.Maps {
				x.Whole = a.Content.Why
			}
			l.Parts = append(l.Parts, x)
		}
		if len(l.Parts) == 0 {
			l.Whole = strings.Join(sv.Unnamed(), "; ")
		}
		out = append(out, l)
	}
	return out
}

// Halted is how a part was left by a system that didn't shut it down, and what follows from the two ways to capture it.
type Halted struct {
	State fsys.State `json:"rest"`
	// Since is when it was put to sleep, where that is known.
	Since    *time.Time `json:"since,omitempty"`
	Words    string     `json:"words"`
	Evidence []string   `json:"signs"`
	// Keeping and Cutting say what follows from keeping the session and from capturing it as if the power had been cut.
	Keeping string `json:"keeping"`
	Cutting string `json:"cutting"`
}

func haltedAs(r fsys.Rest) *Halted {
	h := &Halted{State: r.State, Words: r.Words(), Evidence: r.Evidence, Keeping: r.Keeping(), Cutting: r.Cutting()}
	if !r.Since.IsZero() {
		h.Since = &r.Since
	}
	return h
}

// lines say what follows from the way that is chosen, and from the other one.
func (h *Halted) lines(asCut bool) []string {
	keeping, cutting := "as it is: "+h.Keeping, "as if the power had been cut: "+h.Cutting
	if asCut {
		return []string{"    chosen, " + cutting, "    or " + keeping}
	}
	return []string{"    chosen, " + keeping, "    or " + cutting}
}

// Lines are the disk and its parts in words, a line for each.
func (l Listed) Lines() []string {
	out := []string{fmt.Sprintf("%s, table %s", l.Disk, l.Table)}
	if l.Table == "" {
		out[0] = l.Disk + ", no table"
	}
	if l.Whole != "" {
		out = append(out, "  all of it is read: "+l.Whole)
	}
	for _, p := range l.Parts {
		line := fmt.Sprintf("part %d, %s (%s), %s: %s kept", p.Number, p.Title, p.Holds, units.Bytes(p.Size),
			units.Bytes(p.Kept))
		switch {
		case p.LeftOut != "":
			line = fmt.Sprintf("part %d, %s (%s), %s: left out: %s", p.Number, p.Title, p.Holds, units.Bytes(p.Size),
				p.LeftOut)
		case p.Whole != "":
			line += "; all of it is read: " + p.Whole
		case p.AsCut:
			line += "; as if the power had been cut: " + p.Halted.Words
		}
		if len(p.Omits) > 0 {
			line += "; without " + strings.Join(p.Omits, " and ")
		}
		out = append(out, "  "+line)
		for _, words := range p.Inner {
			out = append(out, "    "+words)
		}
		if p.Halted != nil {
			out = append(out, p.Halted.lines(p.AsCut)...)
		}
	}
	return out
}

// Package startup tells whether a machine can start from a disk, attached or planned, and repairs what it can. It looks
// at both ways: UEFI (UEFI Specification 2.10, 3.5.1.1 "Removable Media Boot Behavior", 13.3 "File System Format") and
// BIOS (the code in the first sector and what that loads), and at what configuration files refer to by identity.
//
// The chain is followed as a machine would: from the firmware to a loader, from that to its menu, to a kernel, to a
// root. What can't be followed is in doubt, and never "should start".
//
// Limits: only the code of the first sectors is run, of other programs it is read what they are and whether they are
// whole. Of Windows it follows the boot manager's store to the loader and its system, and no further. Whether firmware
// trusts a signature isn't checked.
package startup

import (
	"context"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/startup/script"
	"twinshelf/internal/table"
)

// Verdict is how a finding stands.
type Verdict string

const (
	Good  Verdict = "good"
	Doubt Verdict = "doubt"
	Bad   Verdict = "bad"
)

// Ways of starting, and what both need.
const (
	UEFI       = "UEFI"
	BIOS       = "BIOS"
	Mac        = "a Mac's firmware"
	References = "references"
)

// Finding is one thing that matters for starting.
type Finding struct {
	Way      string  `json:"way"` // UEFI, BIOS, Mac or References
	Verdict  Verdict `json:"verdict"`
	Says     string  `json:"says"`
	Evidence string  `json:"evidence,omitempty"`
	// Repair says in words what would put it right; empty when nothing here can.
	Repair string `json:"repair,omitempty"`
	// Patches do so, in bytes of the disk; those of another finding where one file is changed for both.
	Patches []disk.Patch `json:"-"`
	// Aside says that starting doesn't hang on it: another machine's loader, a folder that is mounted later.
	Aside bool `json:"aside,omitempty"`
}

// Report is what was found on a disk.
type Report struct {
	Findings []Finding `json:"findings"`
	// Ways are those for which the disk has something at all, and whether nothing of them was found broken.
	Ways map[string]bool `json:"ways"`
	// Declined says that what could be repaired stays as it is.
	Declined bool `json:"declined,omitempty"`
	// Narrow says that a Windows has drivers for storage that it doesn't load when it starts.
	Narrow bool                    `json:"-"`
	seen   map[script.Place]looked // kernels and RAM disks
}

// Options say what is known beside the disk itself.
type Options struct {
	// Moves are where a plan moved bytes of the disk that this one was made from.
	Moves []disk.Move
	// Gone are the identities of parts that were left out, by identity, with their titles.
	Gone map[string]string
	// Elsewhere are identities of file systems on the other disks of the machine.
	Elsewhere []string
	// OtherHardware has a Windows start with all controllers that it has drivers for.
	OtherHardware bool
	// Before is a report of the same disk before repairs and new identities, which leave kernels and RAM disks as they
	// are: those aren't looked through again.
	Before *Report
	// Alike is a report of a disk that should hold the same: kernels and RAM disks that have the same bytes aren't
	// looked through again.
	Alike *Report
}

// part is a part of the disk with its file system.
type part struct {
	table.Part
	volume fsys.Volume // nil when unknown
	why    string      // it isn't known
	files  fs.FS       // nil when they can't be read
	// inner is the name of the device that a container on the part gives, such as desk/root; empty for the part itself.
	inner string
}

// where names it in words.
func (p *part) where() string {
	if p.inner != "" {
		return fmt.Sprintf("%s in part %d", p.inner, p.Number)
	}
	return fmt.Sprintf("part %d", p.Number)
}

// path says whether a file in /dev means the device: as the device mapper names it, where dashes are doubled, or by its
// group.
func (p *part) path(name string) bool {
	group, volume, ok := strings.Cut(p.inner, "/")
	double := strings.NewReplacer("-", "--")
	return ok && (name == "/dev/mapper/"+double.Replace(group)+"-"+double.Replace(volume) || name == "/dev/"+p.inner)
}

// checker looks at one disk.
type checker struct {
	ctx    context.Context
	d      disk.Device
	o      Options
	t      *table.Table
	parts  []part
	inner  []part // what lies in containers on the parts
	report *Report
	chain  int // loaders that were started by each other
	// followed says that some loader's menu was found: what other menus name doesn't count.
	followed bool
	// stored says that the store of Windows' boot manager was followed.
	stored bool

	biosWay *biosWay
	uefiWay *uefiWay
}

// biosWay follows what a BIOS does with the disk, uefiWay what UEFI does.
type (
	biosWay struct{ *checker }
	uefiWay struct{ *checker }
)

// newChecker reads a disk's table and knows its parts; nil for a table that isn't sound, of which its own findings say
// why.
func newChecker(ctx context.Context, d disk.Device, o Options) (*checker, error) {
	t, err := table.Read(d, d.Size(), d.SectorSize())
	if err != nil {
		return nil, err
	}
	seen := map[script.Place]looked{}
	if o.Before != nil && o.Before.seen != nil {
		seen = maps.Clone(o.Before.seen)
	}
	c := &checker{ctx: ctx, d: d, o: o, t: t, report: &Report{Ways: map[string]bool{}, seen: seen}}
	c.biosWay, c.uefiWay = &biosWay{c}, &uefiWay{c}
	if !t.Sound(d.Size()) {
		return nil, nil
	}
	for _, p := range t.Parts {
		v, err := families.Identify(ctx, disk.Section(d, p.Span.Start, p.Span.Len()), p.Span.Len(), d.SectorSize())
		x := part{Part: p, volume: v}
		if err != nil {
			x.why = err.Error()
		}
		for _, h := range fsys.Homes(v, p.Span.Start) {
			y := &x
			if h.Device != "" {
				c.inner = append(c.inner, part{Part: table.Part{Number: p.Number}, volume: h.Volume, why: h.Why,
					inner: h.Device})
				y = &c.inner[len(c.inner)-1]
			}
			if tree, err := fsys.TreeOf(h.Volume); err == nil {
				y.files = fsys.FS(tree)
			}
		}
		c.parts = append(c.parts, x)
	}
	return c, nil
}

// Check looks at a disk. The error is of reading its table or of a cancelled context.
func Check(ctx context.Context, d disk.Device, o Options) (*Report, error) {
	c, err := newChecker(ctx, d, o)
	if err != nil {
		return nil, err
	}
	if c == nil {
		return &Report{Ways: map[string]bool{}}, nil
	}
	c.uefiWay.uefi()
	c.biosWay.bios()
	c.biosWay.elsewhere()
	c.macs()
	c.references()
	(&winWay{c}).registries()
	return c.report, ctx.Err()
}

func (c *checker) add(f Finding) {
	c.report.Findings = append(c.report.Findings, f)
	if f.Way != References {
		was, known := c.report.Ways[f.Way]
		c.report.Ways[f.Way] = (was || !known) && (f.Verdict != Bad || f.Aside)
	}
}

// counts says whether a finding stands in the way of starting, or may.
func (r *Report) counts(f Finding) bool {
	return f.Verdict != Good && !f.Aside && (f.Repair == "" || r.Declined)
}

// Repairs are the patches of all findings that can be put right, and what they do, in words.
func (r *Report) Repairs() (patches []disk.Patch, does []string) {
	for _, f := range r.Findings {
		patches = append(patches, f.Patches...)
		if f.Repair != "" {
			does = append(does, f.Repair)
		}
	}
	return patches, does
}

// Starts says by which ways the disk should start: nothing that was found speaks against it. Empty when it is so for
// none.
func (r *Report) Starts() []string {
	var out []string
	for _, w := range []string{UEFI, BIOS, Mac} {
		if r.Ways[w] && !slices.ContainsFunc(r.Findings, func(f Finding) bool {
			return r.counts(f) && (f.Way == w || f.Way == References)
		}) {
			out = append(out, w)
		}
	}
	return out
}

// May says by which ways the disk may start as far as can be told: nothing was found broken, and something is in doubt.
func (r *Report) May() []string {
	if slices.ContainsFunc(r.Findings, func(f Finding) bool {
		return r.counts(f) && f.Way == References && f.Verdict == Bad
	}) {
		return nil
	}
	sure := r.Starts()
	var out []string
	for _, w := range []string{UEFI, BIOS, Mac} {
		if r.Ways[w] && !slices.Contains(sure, w) {
			out = append(out, w)
		}
	}
	return out
}

// Meant says whether the disk has anything to start from.
func (r *Report) Meant() bool { return len(r.Ways) > 0 }

// Words is the whole in a sentence.
func (r *Report) Words() string {
	if !r.Meant() {
		return "there is nothing on it to start from"
	}
	ways, may := r.Starts(), r.May()
	switch {
	case len(ways) == 0 && len(may) == 0:
		return "it won't start: " + r.first(Bad)
	case len(ways) == 0:
		return fmt.Sprintf("whether it starts by %s can't be told: %s", strings.Join(may, " and by "), r.first(Doubt))
	case r.first(Bad) != "":
		return fmt.Sprintf("it should start by %s, but %s", strings.Join(ways, " and by "), r.first(Bad))
	}
	return "it should start by " + strings.Join(ways, " and by ")
}

// first is the first finding of a kind that counts, in words.
func (r *Report) first(v Verdict) string {
	for _, f := range r.Findings {
		if f.Verdict == v && r.counts(f) {
			return f.Says
		}
	}
	return ""
}

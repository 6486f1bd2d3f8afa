package answer

import (
	"maps"
	"slices"
	"time"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/disk/health"
	"twinshelf/internal/fit"
	"twinshelf/internal/fsys"
	"twinshelf/internal/inside"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/startup"
	"twinshelf/internal/table"
)

// Span is a stretch of bytes.
type Span struct {
	Start int64 `json:"start"`
	Size  int64 `json:"size"`
}

func spansOf(s span.Set) []Span {
	out := []Span{}
	for sp := range s.All() {
		out = append(out, Span{sp.Start, sp.Len()})
	}
	return out
}

// Part is a part of a disk, or an area between parts, wherever an answer has one.
type Part struct {
	// Disk is that of a machine with several, from 1.
	Disk int `json:"disk,omitempty"`
	// Number is that in the table; 0 between parts.
	Number int   `json:"number"`
	Start  int64 `json:"start"`
	Size   int64 `json:"size"`
	// Role is what it is for, Type the number of that in the table, GUID its identity there and Name what it is called.
	Role   string `json:"role,omitempty"`
	Type   string `json:"type,omitempty"`
	GUID   string `json:"guid,omitempty"`
	Name   string `json:"name,omitempty"`
	Active bool   `json:"active,omitempty"`
	// Title is how people would name it.
	Title string `json:"title,omitempty"`
	// FileSystem is the kind, Label and ID those of the file system.
	FileSystem string `json:"file_system,omitempty"`
	Label      string `json:"label,omitempty"`
	ID         string `json:"id,omitempty"`
	// Used are the bytes in use, as far as somebody looked.
	Used *int64 `json:"used,omitempty"`
	// Whole says why all of it is read, Unclean why it wasn't at rest, Problem why it can't be looked into.
	Whole   string `json:"whole,omitempty"`
	Unclean string `json:"unclean,omitempty"`
	Problem string `json:"problem,omitempty"`
	// Rest is how its system left it, where that is told; AsCut says that it was captured as if the power had been cut.
	Rest  fsys.State `json:"rest,omitempty"`
	AsCut bool       `json:"as_cut,omitempty"`
	// Inner are the devices that a container on it gives.
	Inner []Inner `json:"inner,omitempty"`
}

// Inner is a device that a container gives, such as a logical volume.
type Inner struct {
	Name string `json:"name"`
	Size int64  `json:"size"`
	// FileSystem is the kind of what is on it, Label and ID those of the file system.
	FileSystem string `json:"file_system,omitempty"`
	Label      string `json:"label,omitempty"`
	ID         string `json:"id,omitempty"`
	Used       int64  `json:"used"`
	// Whole says why all of it is read, Unclean why it wasn't at rest.
	Whole   string `json:"whole,omitempty"`
	Unclean string `json:"unclean,omitempty"`
}

func innerOf(inner []fsys.Inner) []Inner {
	var out []Inner
	for _, x := range inner {
		c := x.Content
		out = append(out, Inner{x.Name, x.Size, c.Info.Kind, c.Info.Label, c.Info.ID, c.Used, c.Why, c.Info.Unclean})
	}
	return out
}

// PartOf is a part as a table has it.
func PartOf(p table.Part) Part {
	return Part{Number: p.Number, Start: p.Span.Start, Size: p.Span.Len(), Role: string(table.RoleOf(p.Type)),
		Type: p.Type, GUID: p.GUID, Name: p.Name, Active: p.Active}
}

// TwinPart is a part of a twin.
type TwinPart struct {
	Part
	Captured bool `json:"captured"`
	// Accounted says that its maps were compared with its records.
	Accounted bool     `json:"accounted"`
	Omitted   []string `json:"omitted"`
	// Added are the bytes that it brought to the shelf, Trusted those that weren't read again since records prove them.
	Added   int64 `json:"added"`
	Trusted int64 `json:"trusted"`
}

func partOfRegion(r shelf.Region) TwinPart {
	p := Part{Number: r.Part, Start: r.Span.Start, Size: r.Span.Len(), Role: r.Role, Type: r.Type, Name: r.Name,
		Title: r.Title(), FileSystem: r.Kind, Label: r.Label, ID: r.ID, Used: &r.Used, Whole: r.Whole,
		Unclean: r.Unclean, Rest: r.Rest, AsCut: r.AsCut}
	return TwinPart{p, r.Captured, r.Accounted, r.Omitted, r.Added, r.Trusted}
}

// Table is the table of a disk, without its parts.
type Table struct {
	Kind     table.Kind      `json:"kind"`
	ID       string          `json:"id,omitempty"`
	Sector   int             `json:"sector"`
	Findings []table.Finding `json:"findings"`
}

func tableOf(t *table.Table) any {
	if t == nil {
		return nil
	}
	return Table{t.Kind, t.ID, t.Sector, t.Findings}
}

// Twin is one dated capture of one machine.
type Twin struct {
	ID      string     `json:"id"`
	Machine string     `json:"machine"`
	Taken   time.Time  `json:"taken"`
	Tool    string     `json:"tool"`
	Note    string     `json:"note,omitempty"`
	Used    int64      `json:"used"`
	Added   int64      `json:"added"`
	Seconds float64    `json:"seconds"`
	Quiet   bool       `json:"quiet"`
	Missing int64      `json:"unreadable_bytes"`
	Disks   []TwinDisk `json:"disks"`
	// Rescue says that it comes from failing drives.
	Rescue *shelf.Rescue `json:"rescue,omitempty"`
	// Packing is how closely what was new was packed.
	Packing *shelf.Packing `json:"packing,omitempty"`
}

// TwinDisk is one disk of a twin. Missing are the spans that couldn't be read.
type TwinDisk struct {
	Identity disk.Identity `json:"identity"`
	Table    *table.Table  `json:"table"`
	Used     int64         `json:"used"`
	Missing  span.Set      `json:"unreadable"`
	// Parts are its parts and the areas between them, in the order of the disk.
	Parts []shelf.Region `json:"parts"`
}

// TwinOf is a twin without the names of its blocks.
func TwinOf(t *shelf.Twin) Twin {
	out := Twin{ID: t.ID, Machine: t.Machine, Taken: t.Taken, Tool: t.Tool, Note: t.Note, Used: t.Used, Added: t.Added,
		Seconds: t.Seconds, Quiet: t.Quiet(), Missing: t.Missing(),
		Rescue: t.Rescue, Packing: t.Packing}
	for _, d := range t.Disks {
		out.Disks = append(out.Disks, TwinDisk{d.Identity, d.Table, d.Used, d.Missing, d.Regions})
	}
	return out
}

// Disk is a disk on the bench.
type Disk struct {
	*bench.Disk
	// Words say what it is in a sentence.
	Words     string   `json:"words"`
	MountedAt []string `json:"mounted_at"`
	// Table and the rest are there once somebody has looked at the disk.
	Table *table.Table `json:"table,omitempty"`
	Used  *int64       `json:"used,omitempty"`
	Parts []Part       `json:"parts"`
	// Health is what the drive says of itself.
	Health *Health `json:"health,omitempty"`
}

// Health is what a drive says of itself, and what that means.
type Health struct {
	*health.Report
	Level string `json:"level"`
	Words string `json:"health_words"`
}

// DiskHealth is a disk with what its drive says of itself.
type DiskHealth struct {
	Path     string        `json:"path"`
	Identity disk.Identity `json:"identity"`
	Problem  string        `json:"problem,omitempty"`
	Health   *Health       `json:"health,omitempty"`
}

// HealthOf is the report of a drive; nil where it wasn't asked.
func HealthOf(r *health.Report) *Health {
	if r == nil {
		return nil
	}
	return &Health{r, r.Verdict().Level.String(), r.Words()}
}

// DiskOf is a disk on the bench.
func DiskOf(d *bench.Disk) Disk {
	out := Disk{Disk: d, Words: d.Words(), MountedAt: d.Points(), Health: HealthOf(d.Health)}
	if d.Survey == nil {
		return out
	}
	used := d.Survey.Used()
	out.Table, out.Used = d.Survey.Table, &used
	for _, a := range d.Survey.Parts() {
		c := a.Content
		p := PartOf(*a.Part)
		p.Role, p.Title, p.FileSystem, p.Label, p.ID = string(a.Role), a.Title(), c.Info.Kind, c.Info.Label, c.Info.ID
		p.Used, p.Whole, p.Unclean, p.Inner = &c.Used, c.Why, c.Info.Unclean, innerOf(a.Inner())
		if rest, ok := c.Rest(); ok {
			p.Rest = rest.State
		}
		out.Parts = append(out.Parts, p)
	}
	return out
}

// DatedTwin is a twin with what is known of it since.
type DatedTwin struct {
	Twin
	// Kept says that it is kept for ever, KeptNote why.
	Kept     bool   `json:"kept"`
	KeptNote string `json:"kept_note,omitempty"`
	// Proof is the latest proof of it on the shelf, Proofs are all.
	Proof  *shelf.Proof   `json:"proof,omitempty"`
	Proofs []*shelf.Proof `json:"proofs"`
	// ProofsUnread says of each proof that can't be read why.
	ProofsUnread []string `json:"proofs_unread,omitempty"`
}

// Proof is the evidence that a twin is readable or that a target holds what it should.
type Proof struct {
	Twin   string        `json:"twin"`
	When   time.Time     `json:"when"`
	Proves string        `json:"proves"` // "the shelf", or the target in words
	Tool   string        `json:"tool"`
	Read   int64         `json:"read"`
	Holds  bool          `json:"holds"`
	Claims []shelf.Claim `json:"claims"`
}

func proofOf(p *shelf.Proof) Proof {
	of := p.Of
	if of == "" {
		of = shelf.OnShelf
	}
	return Proof{p.Twin, p.When, of, p.Tool, p.Read, p.Holds(), p.Claims}
}

// KnownShelf is a shelf that was open on this machine.
type KnownShelf struct {
	ID        string    `json:"id"`
	Name      string    `json:"name"`
	Path      string    `json:"path"`
	Seen      time.Time `json:"seen"`
	Sealed    bool      `json:"sealed"`
	TwinCount int       `json:"twin_count"`
	Drive     string    `json:"drive,omitempty"`
	Here      bool      `json:"here"`
	Open      bool      `json:"open"`
}

// PartInside is a part that can be looked into.
func PartInside(p *inside.Part) Part {
	return Part{Disk: p.Disk + 1, Number: p.Number, Start: p.Span.Start, Size: p.Span.Len(), Title: p.Title,
		FileSystem: p.Kind, ID: p.ID, Unclean: p.Unclean}
}

// FittedPart is a part and what becomes of it on a target.
type FittedPart struct {
	Part
	// To is its place on the target; absent when it is left out.
	To *Span `json:"target,omitempty"`
	// Volume and Becomes are the sizes of its file system before and after.
	Volume  int64 `json:"volume,omitempty"`
	Becomes int64 `json:"volume_becomes,omitempty"`
	// CannotGrow says why it keeps its size.
	CannotGrow string `json:"cannot_grow,omitempty"`
}

// FittedParts are the parts of a plan.
func FittedParts(l *fit.Layout) []FittedPart {
	var out []FittedPart
	for _, x := range l.Parts {
		f := FittedPart{Part: PartOf(x.Part), Volume: x.Volume, Becomes: x.Becomes, CannotGrow: x.Fixed}
		f.FileSystem, f.ID, f.Start, f.Size = x.Kind, x.ID, x.From.Start, x.From.Len()
		if !x.To.Empty() {
			f.To = &Span{x.To.Start, x.To.Len()}
		}
		out = append(out, f)
	}
	return out
}

// Startup says whether a disk should start.
type Startup struct {
	Findings []startup.Finding `json:"findings"`
	Ways     []Way             `json:"ways"`
}

// Way is a way of starting for which a disk has something at all, and whether nothing of it was found broken.
type Way struct {
	Way   string `json:"way"`
	Whole bool   `json:"not_broken"`
}

func startupOf(r *startup.Report) Startup {
	out := Startup{Findings: r.Findings}
	for _, w := range slices.Sorted(maps.Keys(r.Ways)) {
		out.Ways = append(out.Ways, Way{w, r.Ways[w]})
	}
	return out
}

// Error is what a command that fails says: {"error": {…}}.
type Error struct {
	Error Problem `json:"error"`
}

// Problem is why a command failed, and its exit status.
type Problem struct {
	Message string `json:"message"`
	Kind    string `json:"kind"`
	Status  int    `json:"status"`
}

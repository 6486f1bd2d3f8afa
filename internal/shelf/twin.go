package shelf

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/health"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// Twin is one dated capture of one machine: all chosen disks as they were.
type Twin struct {
	ID      string     `json:"id"`
	Machine string     `json:"machine"`
	Taken   time.Time  `json:"taken"` // local, with its zone
	Tool    string     `json:"tool"`
	Note    string     `json:"note,omitempty"`
	Disks   []TwinDisk `json:"disks"`
	Used    int64      `json:"used"`  // bytes read
	Added   int64      `json:"added"` // bytes it brought to the shelf
	// Seconds is how long the capture took.
	Seconds float64 `json:"seconds"`
	// Packing is how closely what was new was packed; nil in twins of earlier versions.
	Packing *Packing `json:"packing,omitempty"`
	// Rescue says that it comes from failing drives; nil for others.
	Rescue *Rescue `json:"rescue,omitempty"`
	// MapsSum is the hash of the nodes' names as they lie after the description, MapsTag what
	// authenticates them in a sealed shelf.
	MapsSum string `json:"maps_sum,omitempty"`
	MapsTag string `json:"maps_tag,omitempty"`
}

// TwinDisk is one disk of a twin.
type TwinDisk struct {
	Identity disk.Identity `json:"identity"`
	Table    *table.Table  `json:"table"`
	Regions  []Region      `json:"regions"` // ascending, covering the disk
	Used     int64         `json:"used"`    // bytes read
	// Missing are the spans of the disk that could not be read, in bytes
	// from its start. They read as zeros.
	Missing span.Set `json:"missing"`
	// Health is what the drive said of itself before it was read; nil where nobody asked it.
	Health *health.Report `json:"health,omitempty"`
}

// Region is a part of a disk or the area between parts. Its blocks begin at its start.
type Region struct {
	Part    int       `json:"part"` // number in the table; 0 between parts
	Span    span.Span `json:"span"` // bytes on the disk
	Type    string    `json:"type,omitempty"`
	Name    string    `json:"name,omitempty"`
	Role    string    `json:"role,omitempty"`
	Kind    string    `json:"kind,omitempty"` // file system
	Label   string    `json:"label,omitempty"`
	ID      string    `json:"id,omitempty"`
	Unclean string    `json:"unclean,omitempty"` // why it wasn't quiet
	Whole   string    `json:"whole,omitempty"`   // why all of it was read
	// Rest is how its system left it (fsys.State), where that is told; AsCut says that it was captured as if the power
	// had been cut, although its system slept or was cut off.
	Rest     fsys.State `json:"rest,omitempty"`
	AsCut    bool       `json:"as_cut,omitempty"`
	Captured bool       `json:"captured"`
	// Accounted says that the maps by which it was read were compared with everything that its records name.
	Accounted bool     `json:"accounted,omitempty"`
	Omitted   []string `json:"omitted,omitempty"` // left out, in words
	Used      int64    `json:"used"`              // bytes read
	Added     int64    `json:"added"`             // bytes its blocks brought to the shelf
	// Trusted are the bytes that weren't read again, because the file system's own records prove that they are
	// what they were in the twin before.
	Trusted int64 `json:"trusted,omitempty"`
	// Fresh are the plain bytes of blocks that were new to the shelf, and Dense those of them that
	// couldn't be packed.
	Fresh int64 `json:"fresh,omitempty"`
	Dense int64 `json:"dense,omitempty"`
	// Nodes are the names of the block map's nodes, one for every NodeBlocks
	// blocks; "" for a node without any block that matters. A twin that was listed comes without
	// them, see Shelf.Whole; NodeCount is how many there are.
	Nodes     []string `json:"-"`
	NodeCount int      `json:"nodes,omitempty"`
}

// Quiet says whether every captured part was at rest.
func (t *Twin) Quiet() bool {
	return !slices.ContainsFunc(t.Disks, func(d TwinDisk) bool {
		return slices.ContainsFunc(d.Regions, func(r Region) bool { return r.Captured && r.Unclean != "" })
	})
}

// Missing is the number of bytes that could not be read.
func (t *Twin) Missing() int64 {
	n := int64(0)
	for _, d := range t.Disks {
		n += d.Missing.Total()
	}
	return n
}

// Parts are the regions that are parts.
func (d *TwinDisk) Parts() []Region {
	return slices.DeleteFunc(slices.Clone(d.Regions), func(r Region) bool { return r.Part == 0 })
}

// Known says whether it was recognised what the region held.
func (r Region) Known() bool { return r.Kind != "" }

// Unrest says in words that the region wasn't quiet, and how it was captured then; empty for one that was.
func (r Region) Unrest() string {
	switch {
	case r.Unclean == "":
		return ""
	case r.AsCut:
		return "as after a power cut: " + r.Unclean
	}
	return "not quiet: " + r.Unclean
}

// Title names a part for people: its label, or what it is.
func (r Region) Title() string {
	switch {
	case r.Part == 0:
		return "between the parts"
	case r.Label != "":
		return r.Label
	case r.Name != "":
		return r.Name
	case r.Known():
		return r.Kind
	}
	return table.TypeName(r.Type)
}

// Shrinks says why a part hardly shrinks; empty when it does, or when little of it was new.
func (r Region) Shrinks() string {
	const worth = 16 * units.MiB
	if r.Fresh < worth || r.Added < r.Fresh*9/10 {
		return ""
	}
	return fmt.Sprintf("hardly shrinks: already compressed or encrypted, %s of the data",
		units.Percent(r.Dense, r.Fresh))
}

// NewTwinID makes the ID of a twin taken at t: it sorts by date.
func NewTwinID(t time.Time) string {
	return t.UTC().Format("20060102T150405Z") + "-" + store.NewID()[:6]
}

// Clone is a copy deep enough that the copy's nodes can be renamed, and a rescue can go on with it.
func (t *Twin) Clone() *Twin {
	n := *t
	n.Disks = slices.Clone(t.Disks)
	for i := range n.Disks {
		n.Disks[i].Regions = slices.Clone(t.Disks[i].Regions)
		for j := range n.Disks[i].Regions {
			n.Disks[i].Regions[j].Nodes = slices.Clone(t.Disks[i].Regions[j].Nodes)
		}
	}
	if t.Rescue != nil {
		r := *t.Rescue
		r.Sittings, r.Filled = slices.Clone(r.Sittings), slices.Clone(r.Filled)
		n.Rescue = &r
	}
	return &n
}

// IdentitiesBeside are the identities of the parts and file systems on the other disks than number i, from 0.
func (t *Twin) IdentitiesBeside(i int) []string {
	var out []string
	for j := range t.Disks {
		if j == i {
			continue
		}
		for _, r := range t.Disks[j].Parts() {
			if r.ID != "" {
				out = append(out, r.ID)
			}
		}
		if t.Disks[j].Table == nil {
			continue
		}
		for _, p := range t.Disks[j].Table.Parts {
			if id := t.Disks[j].Table.PartUUID(p); id != "" {
				out = append(out, id)
			}
		}
	}
	return out
}

// Packing is how many bytes of a twin that were new to the shelf were packed with which effort, before they were.
type Packing struct {
	Swift  int64 `json:"swift"`
	Usual  int64 `json:"as_usual"`
	Firm   int64 `json:"firm"`
	Closer int64 `json:"closer"`
	Close  int64 `json:"close"`
}

// Words say which efforts had a share worth telling; empty where nothing was packed, or nobody noted how.
func (p *Packing) Words() string {
	if p == nil {
		return ""
	}
	total := p.Swift + p.Usual + p.Firm + p.Closer + p.Close
	var out []string
	for _, part := range []struct {
		name  string
		bytes int64
	}{{"swiftly", p.Swift}, {"the usual way", p.Usual}, {"firmly", p.Firm}, {"more closely", p.Closer},
		{"closely", p.Close}} {
		const leastShare = 20 // one in so many
		if part.bytes > 0 && part.bytes >= total/leastShare {
			out = append(out, units.Percent(part.bytes, total)+" "+part.name)
		}
	}
	return strings.Join(out, ", ")
}

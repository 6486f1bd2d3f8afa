package sheet

import (
	"fmt"
	"time"

	"twinshelf/internal/units"
)

// ShelfList is what is on a shelf, by machine and date, for the file.
type ShelfList struct {
	Head
	Shelf    string // its name
	ID       string
	Facts    [][2]string
	Machines []ListMachine
	// Problems are what of the shelf can't be read: the list lacks that.
	Problems []error
}

// ListMachine is a machine of a shelf list; its dates are the newest first.
type ListMachine struct {
	Machine string
	Disks   []string // as of the newest date
	Rule    string   // how long its dates stay
	Dates   []ListDate
}

// ListDate is a twin of a shelf list. Sizes are in bytes.
type ListDate struct {
	Taken       time.Time
	Used, Added int64
	State       string // in words
	ID          string
}

// Blocks are what the list says.
func (l ShelfList) Blocks() []Block {
	n := 0
	for _, m := range l.Machines {
		n += len(m.Dates)
	}
	facts := append([][2]string{{"Shelf", l.Shelf}, {"ID", l.ID}}, l.Facts...)
	facts = append(facts, [2]string{"Holds", fmt.Sprintf("%s of %s", units.Plural(n, "twin"),
		units.Plural(len(l.Machines), "machine"))})
	out := []Block{{Facts: facts}}
	for _, p := range l.Problems {
		out = append(out, Block{Alarm: "This list isn't whole: " + p.Error()})
	}
	if n == 0 && len(l.Problems) == 0 {
		out = append(out, Block{Text: "Nothing is on this shelf yet."})
	}
	for _, m := range l.Machines {
		t := &Table{Head: []string{"taken", "used", "brought", "state", "ID"},
			Shares: []float64{0.25, 0.1, 0.1, 0.27, 0.28}, Right: []bool{false, true, true, false, false}}
		for _, d := range m.Dates {
			t.Rows = append(t.Rows, []string{l.Dates.Taken(d.Taken), units.Bytes(d.Used), units.Bytes(d.Added), d.State,
				d.ID})
		}
		out = append(out, Block{Heading: m.Machine})
		for _, d := range m.Disks {
			out = append(out, Block{Text: d})
		}
		out = append(out, Block{Text: "Kept: " + m.Rule}, Block{Table: t})
	}
	return out
}

// PDF gives the list as a document.
func (l ShelfList) PDF() ([]byte, error) {
	return l.pdf("Shelf list", "Shelf list "+l.Shelf, l.ID, l.Blocks())
}

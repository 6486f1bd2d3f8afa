package demo

import (
	"archive/tar"
	"context"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"github.com/klauspost/compress/zstd"

	"twinshelf/internal/capture"
	"twinshelf/internal/disk"
	"twinshelf/internal/run"
	"twinshelf/internal/settings"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/store/backend"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
)

//go:embed data/*.tar.zst
var data embed.FS

// Bench is a demo bench on disk.
type Bench struct {
	Dir   string // everything lies in here
	Disks string // folder of the stand-in disks
	Paper string // file with the recovery key of the Booking office, as its system saves it
	Shelf string // folder of the shelf
	State string // folder for what is remembered
}

// Paths says where the things of a demo bench in dir lie.
func Paths(dir string) Bench {
	return Bench{dir, filepath.Join(dir, "disks"), filepath.Join(dir, "Booking office recovery key.txt"),
		filepath.Join(dir, "oak"), filepath.Join(dir, "state")}
}

// Build makes the demo bench in dir, which must be empty or missing: the disks
// of all machines in their latest state, the workshop's disks, and a shelf with all twins.
func Build(ctx context.Context, dir, tool string) (Bench, error) {
	b, s, err := start(ctx, dir)
	if err != nil {
		return b, err
	}
	defer s.Close()
	for _, m := range machines {
		if err := b.history(ctx, s, m, tool); err != nil {
			return b, err
		}
	}
	for _, d := range others {
		if err := b.bring(ctx, d, 0); err != nil {
			return b, err
		}
	}
	if err := b.routines(ctx, s); err != nil {
		return b, err
	}
	st, err := settings.Load(b.State)
	if err != nil {
		return b, err
	}
	oak := others[1]
	return b, st.Toggle(disk.Identity{Model: oak.label.Model, Serial: oak.label.Serial, Bus: oak.label.Bus,
		Size: oak.size})
}

// history takes all twins of a machine, and leaves its disks as they are now.
func (b Bench) history(ctx context.Context, s *shelf.Shelf, m machine, tool string) error {
	for date := range len(m.dates) + 1 {
		for _, d := range m.disks {
			if err := b.bring(ctx, d, date); err != nil {
				return err
			}
			if m.weighs && date < len(m.dates) {
				if err := b.weigh(ctx, d, date); err != nil {
					return err
				}
			}
		}
		if date == len(m.dates) {
			return nil
		}
		when, err := time.Parse(time.RFC3339, m.dates[date])
		if err != nil {
			return err
		}
		if _, err := b.capture(ctx, s, m, when, tool); err != nil {
			return err
		}
	}
	return nil
}

// start makes the folders and an empty shelf.
func start(ctx context.Context, dir string) (Bench, *shelf.Shelf, error) {
	b := Paths(dir)
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return b, nil, fmt.Errorf("%s is not empty: name a new folder for the demo", dir)
	}
	if err := os.MkdirAll(b.Disks, 0o700); err != nil {
		return b, nil, fmt.Errorf("the folder for the demo can't be made: %w", err)
	}
	if err := os.MkdirAll(b.Shelf, 0o700); err != nil {
		return b, nil, err
	}
	if err := os.WriteFile(b.Paper, []byte(bookingPaper()), 0o600); err != nil {
		return b, nil, err
	}
	s, err := shelf.CreateAt(ctx, backend.InFolderHastily(b.Shelf), store.New{Name: "Oak"})
	return b, s, err
}

// bookingPaper is what the customer brings along with the Booking office.
func bookingPaper() string {
	return "Booking office, drive recovery key\n\nRecovery key: " + BookingKey +
		"\n\nKeep this away from the machine. (Signe Arvo, 3 November 2026)\n"
}

// bring makes a stand-in disk, or brings an existing one from the state before to this one.
func (b Bench) bring(ctx context.Context, d stand, state int) error {
	path := filepath.Join(b.Disks, d.file)
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	if state == 0 {
		if err := f.Truncate(d.size); err != nil {
			return fmt.Errorf("a stand-in disk of %d bytes can't be made in %s: %w; use a folder on a file system "+
				"with sparse files", d.size, b.Disks, err)
		}
		if err := writeLabel(path, labelOf(d)); err != nil {
			return err
		}
		if err := writeTable(f, d); err != nil {
			return err
		}
	}
	for _, p := range d.parts {
		name := p.data
		switch {
		case name == "" || p.states == 0 && state > 0 || p.states > 0 && state >= p.states:
			continue
		case p.states > 0:
			name += "." + strconv.Itoa(state)
		}
		if err := unpack(name, f, p.Span.Start); err != nil {
			return fmt.Errorf("demo data %s: %w", name, err)
		}
	}
	if state == 0 && d.unreadable {
		return hurt(ctx, f, path, d)
	}
	return nil
}

// labelOf is the label of a stand-in, with what it says of itself.
func labelOf(d stand) disk.Label {
	l := d.label
	l.Health = health(d.file)
	return l
}

func writeLabel(path string, l disk.Label) error {
	label, err := json.MarshalIndent(l, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(disk.LabelPath(path), append(label, '\n'), 0o600)
}

func writeTable(f *os.File, d stand) error {
	if d.kind == table.None {
		return nil
	}
	l := table.Layout{Kind: d.kind, Sector: 512, ID: d.id}
	for _, p := range d.parts {
		l.Parts = append(l.Parts, p.Part)
	}
	patches, err := table.Build(l, d.size)
	if err != nil {
		return err
	}
	for _, p := range patches {
		if _, err := f.WriteAt(p.Data, p.Off); err != nil {
			return err
		}
	}
	return nil
}

// unpack writes the stretches of a packed file system at byte base of the disk.
func unpack(name string, f *os.File, base int64) error {
	packed, err := data.Open("data/" + name + ".tar.zst")
	if err != nil {
		return err
	}
	defer packed.Close()
	z, err := zstd.NewReader(packed)
	if err != nil {
		return err
	}
	defer z.Close()
	t := tar.NewReader(z)
	buf := make([]byte, 1<<20)
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		off, err := strconv.ParseInt(h.Name, 16, 64)
		if err != nil {
			return err
		}
		if _, err := io.CopyBuffer(io.NewOffsetWriter(f, base+off), struct{ io.Reader }{t}, buf); err != nil {
			return err
		}
	}
}

// capture takes a twin of a machine's stand-in disks.
func (b Bench) capture(ctx context.Context, s *shelf.Shelf, m machine, when time.Time,
	tool string) (*shelf.Twin, error) {
	p := capture.Plan{Shelf: s, Machine: m.name, Tool: tool, Now: when, Packing: capture.PackUsual}
	for _, d := range m.disks {
		path := filepath.Join(b.Disks, d.file)
		dev, err := disk.Open(path, disk.Identity{Model: d.label.Model, Serial: d.label.Serial, Bus: d.label.Bus})
		if err != nil {
			return nil, err
		}
		defer dev.Close()
		sv, err := survey.Of(ctx, dev, nil)
		if err != nil {
			return nil, err
		}
		p.Sources = append(p.Sources, capture.Source{Survey: sv})
	}
	var t *shelf.Twin
	err := run.Start(ctx, "capture", capture.Phases, nil, func(rc *run.Context) (err error) {
		t, err = p.Run(rc)
		return err
	}).Wait()
	return t, err
}

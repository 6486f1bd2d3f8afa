package shelf_test

import (
	"encoding/binary"
	"fmt"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
	"twinshelf/internal/store/backend"
	"twinshelf/internal/store/backend/backendtest"
	"twinshelf/internal/store/near"
	"twinshelf/internal/table"
)

// A fleet as it is simulated (docs/fleet.md): machines from one image, whose own part and daily changes are small.
// Blocks are a twentieth as many as they would be, and as good as empty; packs end after as many of them.
const (
	scale       = 20
	imageBlocks = 60_000 / scale // 60 GB that all have
	ownBlocks   = 600 / scale    // 0.6 GB
	dailyBlocks = 300 / scale    // 0.3 GB
	entryBytes  = 150            // of such a block in a pack, about
	packBlocks  = 430 / scale    // in a pack of 256 MiB, packed to 60 %
	sampled     = 5              // machines whose captures are counted
)

// fleetBlock is block n of a machine on a day.
func fleetBlock(machine, day, n int) []byte {
	b := make([]byte, shelftest.Block)
	binary.LittleEndian.PutUint64(b, uint64(machine))
	binary.LittleEndian.PutUint64(b[8:], uint64(day))
	binary.LittleEndian.PutUint64(b[16:], uint64(n))
	return b
}

// fleetCapture is what a capture asks of the shelf: what it has of the machine and of the others, then what is new.
func fleetCapture(b testing.TB, s *shelf.Shelf, machine, day int, looks bool) {
	b.Helper()
	name := fmt.Sprintf("till %05d", machine)
	s.LimitPacks(packBlocks * entryBytes)
	if looks {
		if _, problems := shelf.TwinsOf(b.Context(), s, name); len(problems) > 0 {
			b.Fatal(problems)
		}
		shelf.NewestTwins(b.Context(), s)
		if _, err := s.TwinIDs(b.Context()); err != nil {
			b.Fatal(err)
		}
	}
	c, err := s.Begin(b.Context(), name)
	if err != nil {
		b.Fatal(err)
	}
	var refs []shelf.BlockRef
	put := func(p []byte) store.Name {
		n, _, err := c.Put(b.Context(), p)
		if err != nil {
			b.Fatal(err)
		}
		return n
	}
	image := imageBlocks
	if !looks || day > 0 {
		image = 1 // they are there: nothing is asked for them
	}
	for i := range image {
		refs = append(refs, shelf.BlockRef{Kind: disk.Data, Name: put(fleetBlock(-1, 0, i))})
	}
	own := ownBlocks
	if day > 0 {
		own = dailyBlocks
	}
	for i := range own {
		refs = append(refs, shelf.BlockRef{Kind: disk.Data, Name: put(fleetBlock(machine, day, i))})
	}
	size := int64(len(refs)) * shelftest.Block
	reg := shelf.Region{Span: span.Span{End: size}, Captured: true}
	for i := 0; i < len(refs); i += shelf.NodeBlocks {
		reg.Nodes = append(reg.Nodes, put(shelf.EncodeNode(refs[i:min(len(refs), i+shelf.NodeBlocks)])).String())
	}
	taken := time.Date(2026, 11, 1+day, 3, 0, machine, 0, time.UTC)
	t := &shelf.Twin{ID: shelf.NewTwinID(taken), Machine: name, Taken: taken, Disks: []shelf.TwinDisk{{
		Identity: disk.Identity{Model: "Kestrel K2", Serial: fmt.Sprint("KK2-", machine), Size: size, Sector: 512},
		Table:    &table.Table{Sector: 512}, Regions: []shelf.Region{reg}}}}
	if err := c.Commit(b.Context(), t); err != nil {
		b.Fatal(err)
	}
}

// BenchmarkFleet counts what captures of fleets cost in object storage.
func BenchmarkFleet(b *testing.B) {
	for _, machines := range []int{10, 1000, 3000, 10_000} {
		b.Run(fmt.Sprint(machines), func(b *testing.B) {
			for b.Loop() {
				daily, c := fleet(b, machines)
				index, files := c.Size("index")
				_, packs := c.Size("packs")
				b.ReportMetric(float64(daily.Puts)/sampled, "puts")
				b.ReportMetric(float64(daily.Lists)/sampled, "of-them-lists")
				b.ReportMetric(float64(daily.Gets)/sampled, "gets")
				b.ReportMetric(float64(daily.Down)/sampled/1e6, "MB-down")
				b.ReportMetric(float64(index)*scale/1e6, "MB-index")
				b.ReportMetric(float64(files), "index-files")
				b.ReportMetric(float64(packs)/float64(machines), "packs-a-machine")
			}
		})
	}
}

// TestFleet: a capture in a small fleet asks for as much as docs/fleet.md says.
func TestFleet(t *testing.T) {
	daily, _ := fleet(t, 10)
	if daily.Puts > 20*sampled || daily.Gets > 50*sampled {
		t.Errorf("%d captures took %d puts and %d gets", sampled, daily.Puts, daily.Gets)
	}
}

// fleet has a fleet capture on two days, and gives what those of some machines asked for on the second.
func fleet(b testing.TB, machines int) (daily backendtest.Asked, c *backendtest.Counter) {
	c = backendtest.NewCounter()
	open := func(over backend.Backend) *shelf.Shelf {
		s, err := shelf.OpenAt(b.Context(), over, func() ([]byte, error) { return []byte("low tide at seven"), nil })
		if err != nil {
			b.Fatal(err)
		}
		return s
	}
	s, err := shelf.CreateAt(b.Context(), near.Over(c, b.TempDir(), 1<<40), store.New{Name: "Elm",
		BlockSize: shelftest.Block, Passphrase: []byte("low tide at seven"), Cost: shelftest.Cheap})
	if err != nil {
		b.Fatal(err)
	}
	fleetCapture(b, s, 0, 0, true) // the image
	s.Close()
	s = open(c)
	for m := 1; m < machines; m++ {
		fleetCapture(b, s, m, 0, false)
	}
	s.Close()
	caches := make([]string, sampled)
	for i := range caches { // they looked at everything yesterday
		caches[i] = b.TempDir()
		s := open(near.Over(c, caches[i], 1<<40))
		shelf.NewestTwins(b.Context(), s)
		s.Knows(b.Context(), s.NameOf(fleetBlock(0, 0, 0)))
		for k := range 10 {
			s.Knows(b.Context(), s.NameOf(fleetBlock(k, 0, 0)))
		}
		s.Close()
	}
	s = open(c)
	for m := sampled; m < machines; m++ {
		fleetCapture(b, s, m, 1, false)
	}
	s.Close()
	for i := range caches {
		before := c.Now()
		s := open(near.Over(c, caches[i], 1<<40))
		fleetCapture(b, s, i, 1, true)
		s.Close()
		asked := c.Now().Less(before)
		daily = backendtest.Asked{Puts: daily.Puts + asked.Puts, Gets: daily.Gets + asked.Gets,
			Lists: daily.Lists + asked.Lists, Deletes: daily.Deletes + asked.Deletes, Up: daily.Up + asked.Up,
			Down: daily.Down + asked.Down}
	}
	return daily, c
}

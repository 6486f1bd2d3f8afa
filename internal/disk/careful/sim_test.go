package careful

import (
	"context"
	"errors"
	"fmt"
	"image/color"
	"iter"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"testing"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	_ "gonum.org/v1/plot/vg/vgsvg"

	"twinshelf/internal/span"
)

// A made-up drive of 1 TB on which a plan is tried. Its errors come in clusters, as field studies of latent sector
// errors found: most clusters are short, some long, a few spread over a scratch.
const (
	simSize    = int64(1_000_000_000_000) / 4096 * 4096
	simUsed    = 0.42
	simRate    = 150e6 // bytes a second
	simSeek    = 9 * time.Millisecond
	simBad     = time.Second // a read that fails
	simDies    = 0.30        // of the reads that getting everything good takes
	simSectors = 512
)

type simDrive struct {
	bad      span.Set
	precious span.Set
	most     int // reads; after them it gives nothing any more

	reads, fails int
	took         time.Duration
	at           int64 // where the head is
	got, dear    int64 // bytes of what is used, and of what is precious
	trace        []simPoint
	wanted       span.Set
}

// simPoint is how far it was after so many reads.
type simPoint struct {
	reads     int
	took      time.Duration
	got, dear int64
}

var errHeads = errors.New("its heads are dead")

func (d *simDrive) Fetch(_ context.Context, sp span.Span) (int64, error) {
	if d.most > 0 && d.reads >= d.most {
		return 0, errHeads
	}
	d.reads++
	if sp.Start != d.at {
		d.took += simSeek
	}
	d.at = sp.End
	if d.reads%1000 == 0 {
		d.trace = append(d.trace, simPoint{d.reads, d.took, d.got, d.dear})
	}
	if d.bad.Overlaps(sp) {
		d.fails++
		d.took += simBad
		return 0, &Failed{sp.Start, errors.New("bad")}
	}
	d.took += time.Duration(float64(sp.Len()) / simRate * float64(time.Second))
	d.got += d.wanted.Clip(sp).Total()
	d.dear += d.precious.Clip(sp).Total()
	return sp.Len(), nil
}

// simulated makes a drive: what is used, what of it is precious, what is bad.
func simulated(seed uint64) (used, precious, bad span.Set) {
	r := rand.New(rand.NewPCG(seed, 41))
	var extents []span.Span
	for at := int64(0); at < simSize; {
		n := int64(math.Exp(r.NormFloat64()*1.2+18.5)) / 4096 * 4096 // about 100 MB, widely spread
		extents = append(extents, span.At(at, max(4096, n)).Intersect(span.Span{End: simSize}))
		at += n + int64(float64(n)/simUsed*(1-simUsed))/4096*4096
	}
	used = span.Of(extents...)
	for range 40 { // tables, maps and records, in pieces
		e := extents[r.IntN(len(extents))]
		precious.Add(span.At(e.Start, min(e.Len(), 4096*(1+r.Int64N(12_000)))))
	}
	cluster := func(at int64, sectors int) {
		for range sectors {
			bad.Add(span.At(at/simSectors*simSectors, simSectors))
			at += simSectors * (1 + int64(math.Pow(r.Float64(), -0.7))) // near, with a long tail
			if at >= simSize-simSectors {
				return
			}
		}
	}
	for range 40 {
		cluster(r.Int64N(simSize), 1+int(math.Min(2000, math.Pow(r.Float64(), -1.1))))
	}
	scratch := r.Int64N(simSize - 1<<30)
	for range 600 {
		cluster(scratch+r.Int64N(1<<30), 1+r.IntN(8))
	}
	return used, precious, bad
}

// spared is the plan of this package: the precious first, in all passes over both.
func (d *simDrive) spared() {
	r := &Reading{States: NewStates(simSize, simSectors), Source: d, Physical: 4096}
	layers := []func() iter.Seq[span.Span]{only(d.precious), only(d.wanted)}
	if r.Hasty = true; r.Stride(context.Background(), layers[0]()) != nil || r.Narrow(context.Background(),
		layers[0]) != nil {
		return
	}
	r.Hasty = false
	for _, pass := range []func(l func() iter.Seq[span.Span]) error{
		func(l func() iter.Seq[span.Span]) error { return r.Stride(context.Background(), l()) },
		func(l func() iter.Seq[span.Span]) error { return r.Narrow(context.Background(), l) },
		func(l func() iter.Seq[span.Span]) error { return r.Single(context.Background(), l, 1) },
	} {
		for _, l := range layers {
			if pass(l) != nil {
				return
			}
		}
	}
}

// plainly reads in disk order, and what fails again at the end in small steps.
func (d *simDrive) plainly() {
	var later []span.Span
	for sp := range d.wanted.All() {
		for at := sp.Start; at < sp.End; at += large {
			piece := span.At(at, large).Intersect(sp)
			switch _, err := d.Fetch(context.Background(), piece); {
			case errors.Is(err, errHeads):
				return
			case err != nil:
				later = append(later, piece)
			}
		}
	}
	for _, sp := range later {
		for at := sp.Start; at < sp.End; at += 4096 {
			if _, err := d.Fetch(context.Background(), span.At(at, 4096).Intersect(sp)); errors.Is(err, errHeads) {
				return
			}
		}
	}
}

// knowing is what somebody would get who knew beforehand what is bad.
func (d *simDrive) knowing() {
	for _, layer := range []span.Set{d.precious, d.wanted.Subtract(d.precious)} {
		for sp := range layer.Subtract(d.bad).All() {
			for at := sp.Start; at < sp.End; at += large {
				if _, err := d.Fetch(context.Background(), span.At(at, large).Intersect(sp)); err != nil {
					return
				}
			}
		}
	}
}

var simPlans = []struct {
	name string
	read func(*simDrive)
}{{"this plan", (*simDrive).spared}, {"in disk order", (*simDrive).plainly},
	{"who knows what is bad", (*simDrive).knowing}}

// TestAgainstWhoKnows: before the heads die, the plan gets nearly what somebody would who knew what is bad, all that is
// precious among it; and in the end all that can be got.
func TestAgainstWhoKnows(t *testing.T) {
	for seed := range uint64(2) {
		used, precious, bad := simulated(seed)
		good := used.Subtract(bad).Total()
		most := int(float64(good/large) * simDies)
		var got, dear [3]int64
		var took time.Duration
		var all [3][]simPoint
		for i, p := range simPlans {
			d := &simDrive{bad: bad, precious: precious, wanted: used, most: most}
			p.read(d)
			got[i], dear[i], took = d.got, d.dear, d.took
			if seed == 0 {
				d = &simDrive{bad: bad, precious: precious, wanted: used}
				p.read(d)
				all[i] = append(d.trace, simPoint{d.reads, d.took, d.got, d.dear})
				if i == 0 && float64(d.got) < 0.99999*float64(good) {
					t.Errorf("seed %d: at last %d of %d good bytes are got", seed, d.got, good)
				}
			}
		}
		t.Logf("seed %d: when the heads die: %.2f %% of what who knows gets (in disk order %.2f %%), %.2f %% of "+
			"the precious "+
			"(%.2f %%)", seed, share(got[0], got[2]), share(got[1], got[2]), share(dear[0], dear[2]), share(dear[1],
			dear[2]))
		if len(all[0]) > 0 {
			t.Logf("seed %d: in the time that who knows takes until then: %.2f %%", seed,
				share(at(all[0], took), got[2]))
		}
		if share(got[0], got[2]) < 99 || share(dear[0], dear[2]) < 99 {
			t.Errorf("seed %d: when the heads die %.2f %% of what who knows gets is got, %.2f %% of the precious", seed,
				share(got[0], got[2]), share(dear[0], dear[2]))
		}
		if seed == 0 && os.Getenv("TWINSHELF_UPDATE") != "" {
			drawSim(t, all, good, precious.Subtract(bad).Total(), most)
		}
	}
}

var simInks = []color.Color{color.RGBA{0x1F, 0x5A, 0x8A, 0xFF}, color.RGBA{0xA8, 0x4B, 0x00, 0xFF},
	color.RGBA{0x55, 0x55, 0x55, 0xFF}}

// at is how much was got after a time.
func at(trace []simPoint, t time.Duration) int64 {
	i, _ := slices.BinarySearchFunc(trace, t, func(p simPoint, t time.Duration) int { return int(p.took - t) })
	return trace[min(i, len(trace)-1)].got
}

func share(a, b int64) float64 { return float64(a) / float64(max(1, b)) * 100 }

// drawSim draws how much is got by time and by reads, for the docs.
func drawSim(t *testing.T, all [3][]simPoint, good, dear int64, most int) {
	t.Helper()
	for name, x := range map[string]func(simPoint) float64{
		"reads": func(p simPoint) float64 { return float64(p.reads) },
		"time":  func(p simPoint) float64 { return p.took.Hours() },
	} {
		p := plot.New()
		p.X.Label.Text = map[string]string{"reads": "reads", "time": "hours"}[name]
		p.Y.Label.Text = "got, in percent of what can be got"
		p.Legend.Left, p.Legend.XOffs, p.Legend.YOffs = true, 6.3*vg.Centimeter, vg.Centimeter
		p.Y.Min, p.Y.Max = 0, 101
		p.Add(plotter.NewGrid())
		for i, plan := range simPlans {
			lines := map[string]func(simPoint) float64{"all that is " +
				"used": func(s simPoint) float64 { return share(s.got, good) },
				"the precious": func(s simPoint) float64 { return share(s.dear, dear) }}
			for _, what := range []string{"all that is used", "the precious"} {
				pts := plotter.XYs{{}}
				for _, s := range all[i] {
					pts = append(pts, plotter.XY{X: x(s), Y: lines[what](s)})
				}
				l, err := plotter.NewLine(pts)
				if err != nil {
					t.Fatal(err)
				}
				l.Color = simInks[i]
				l.Width = vg.Points(1.6)
				if what == "the precious" {
					l.Dashes = []vg.Length{vg.Points(3), vg.Points(2)}
				}
				p.Add(l)
				p.Legend.Add(plan.name+": "+what, l)
			}
		}
		if name == "reads" {
			dies, err := plotter.NewLine(plotter.XYs{{X: float64(most)}, {X: float64(most), Y: 101}})
			if err != nil {
				t.Fatal(err)
			}
			dies.Dashes = []vg.Length{vg.Points(1), vg.Points(2)}
			p.Add(dies)
			p.Legend.Add("here the heads die", dies)
		}
		if err := p.Save(18*vg.Centimeter, 11*vg.Centimeter, "../../../docs/rescue-"+name+".svg"); err != nil {
			t.Fatal(err)
		}
	}
}

// TestTenMillionBadSectors: the states of a drive with as many stay small, in memory and packed.
func TestTenMillionBadSectors(t *testing.T) {
	const n = 10_000_000
	s := NewStates(16<<40, 512)
	r := rand.New(rand.NewPCG(1, 1))
	at := int64(0)
	for range n {
		at += 512 * (2 + r.Int64N(100))
		s.MarkFailed(span.At(at, 512))
	}
	s.MarkGot(span.Span{Start: at + 512, End: 16 << 40})
	packed := 0
	var pieces [][]byte
	for from := 0; from < s.Chunks(); {
		b, next := s.Pack(from, 2<<20)
		packed += len(b)
		from = next
		pieces = append(pieces, b)
	}
	const most = 90 << 20
	if packed > most {
		t.Errorf("they pack to %d bytes, more than %d", packed, most)
	}
	again := NewStates(16<<40, 512)
	from := 0
	for _, b := range pieces {
		next, err := again.Unpack(from, b)
		if err != nil {
			t.Fatal(err)
		}
		from = next
	}
	bad := 0
	for run := range again.Runs(span.Span{End: 16 << 40}) {
		if run.State == Tried {
			bad += int(run.Len() / 512)
		}
	}
	if bad != n {
		t.Errorf("%d bad sectors come back, want %d", bad, n)
	}
	held := 0
	for _, b := range s.packed {
		held += cap(b)
	}
	if held > most {
		t.Errorf("they hold %d bytes", held)
	}
	t.Log(fmt.Sprintf("%d bytes packed, %d held", packed, held), slices.Max(s.got))
}

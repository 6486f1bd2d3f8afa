package main

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"
)

const machine = "Harbour kiosk"

// ways are how closely a capture can pack.
var ways = []string{"follow", "swift", "usual", "close"}

// group is what is measured together, once in each round.
type group struct {
	name string
	work func(context.Context, *book) error
}

func (b *bench) groups() []group {
	slow := func(rate int64) func(context.Context, *book) error {
		return func(ctx context.Context, k *book) error { return b.fromSlow(ctx, k, rate) }
	}
	return []group{
		{"First capture from a disk that is never waited for", b.fromFast},
		{"First capture from a disk of 150 MB/s", slow(150e6)},
		{"First capture from a disk of 400 MB/s", slow(400e6)},
		{"Later captures", b.later},
		{"Restore with its full proof, and proof", b.back},
		{"Taking files out, with reading back", b.takeOut},
	}
}

// measure does every group as often as is asked for.
func (b *bench) measure(ctx context.Context) (*book, error) {
	k := &book{}
	for round := range b.rounds {
		for _, g := range b.groups() {
			if !strings.HasPrefix(g.name, b.only) {
				continue
			}
			k.group = g.name
			begun := time.Now()
			if err := g.work(ctx, k); err != nil {
				return nil, fmt.Errorf("%s: %w", g.name, err)
			}
			fmt.Fprintf(os.Stderr, "round %d of %d: %s (%.0f s)\n", round+1, b.rounds, g.name,
				time.Since(begun).Seconds())
		}
	}
	return k, nil
}

// fromFast captures in every way, beside the general-purpose compressor.
func (b *bench) fromFast(ctx context.Context, k *book) error {
	if err := label(b.image, sourceModel, sourceSerial, 0); err != nil {
		return err
	}
	packed := filepath.Join(b.dir, "used.zst")
	b.held = true
	defer func() { b.held = false }()
	base, err := b.run(ctx, []string{"zstd", "-q", "-1", "-T2", "-f", b.stretch, "-o", packed},
		[]string{"sync", packed})
	if err != nil {
		return err
	}
	st, err := os.Stat(packed)
	if err != nil {
		return err
	}
	for _, way := range ways {
		c, room, err := b.firstCapture(ctx, way)
		if err != nil {
			return err
		}
		time, busy, more := 0.0, 0.0, 0.0
		if way == "follow" {
			time, busy, more = 0.6, 0.9, 1.3
		}
		k.add(way+": time", "zstd -1 -T2", c.clock/base.clock, c.clock, time)
		k.add(way+": processor time", "zstd -1 -T2", c.busy/base.busy, c.busy, busy)
		k.add(way+": room", "zstd -1", float64(room)/float64(st.Size()), 0, more)
		k.memory(way+": memory", c)
	}
	return os.Remove(packed)
}

// fromSlow captures from a disk that gives so many bytes a second, beside only reading what is used on it.
func (b *bench) fromSlow(ctx context.Context, k *book, rate int64) error {
	if err := label(b.image, sourceModel, sourceSerial, rate); err != nil {
		return err
	}
	base, err := b.timed(ctx, func() error { _, err := b.read(ctx, io.Discard); return err })
	if err != nil {
		return err
	}
	took, rooms := map[string]cost{}, map[string]int64{}
	for _, way := range ways {
		if took[way], rooms[way], err = b.firstCapture(ctx, way); err != nil {
			return err
		}
	}
	for _, way := range ways {
		time, less := 0.0, 0.0
		if way == "follow" && rate < 200e6 {
			time, less = 1.05, 0.92
		}
		k.add(way+": time", "only reading", took[way].clock/base.clock, took[way].clock, time)
		if way != "usual" {
			k.add(way+": room", "the usual packing", float64(rooms[way])/float64(rooms["usual"]), 0, less)
		}
	}
	return nil
}

// firstCapture captures into a new shelf, which is removed, and says how much room it took.
func (b *bench) firstCapture(ctx context.Context, way string) (c cost, room int64, err error) {
	shelf, err := b.newShelf(ctx)
	if err != nil {
		return cost{}, 0, err
	}
	if c, err = b.capture(ctx, shelf, "--pack", way); err != nil {
		return cost{}, 0, err
	}
	if room, err = stored(shelf); err != nil {
		return cost{}, 0, err
	}
	return c, room, os.RemoveAll(shelf)
}

func (b *bench) newShelf(ctx context.Context) (dir string, err error) {
	if dir, err = os.MkdirTemp(b.dir, "shelf"); err != nil {
		return "", err
	}
	_, err = b.run(ctx, []string{b.program, "--quiet", "shelf", "new", dir})
	return dir, err
}

func (b *bench) capture(ctx context.Context, shelf string, args ...string) (cost, error) {
	return b.twinshelf(ctx, shelf, append([]string{"capture", "--machine", machine, b.image}, args...)...)
}

// later captures again: with nothing changed, with one part in a hundred of the files written anew, and with everything
// read whatever the records say.
func (b *bench) later(ctx context.Context, k *book) error {
	if err := label(b.image, sourceModel, sourceSerial, 0); err != nil {
		return err
	}
	shelf, err := b.newShelf(ctx)
	if err != nil {
		return err
	}
	first, err := b.capture(ctx, shelf)
	if err != nil {
		return err
	}
	for _, x := range []struct {
		name   string
		change bool
		args   []string
	}{{"nothing changed", false, nil}, {"1 % of the files changed", true, nil},
		{"all of it read again", false, []string{"--read-all"}}} {
		if x.change {
			if !b.root {
				continue
			}
			if err := b.change(ctx); err != nil {
				return err
			}
		}
		c, err := b.capture(ctx, shelf, x.args...)
		if err != nil {
			return err
		}
		k.add(x.name+": time", "the first capture", c.clock/first.clock, c.clock, 0)
	}
	return os.RemoveAll(shelf)
}

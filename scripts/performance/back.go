package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"twinshelf/internal/disk"
)

// back restores with the full proof: onto one target, onto three at once, and onto one of a known speed; and reads a
// twin back. Beside it the general-purpose program unpacks the same bytes.
func (b *bench) back(ctx context.Context, k *book) error {
	if err := label(b.image, sourceModel, sourceSerial, 0); err != nil {
		return err
	}
	packed, plain := filepath.Join(b.dir, "used.zst"), filepath.Join(b.dir, "plain")
	if _, err := b.run(ctx, []string{"zstd", "-q", "-1", "-T2", "-f", b.stretch, "-o", packed}); err != nil {
		return err
	}
	shelf, err := b.newShelf(ctx)
	if err != nil {
		return err
	}
	if _, err := b.capture(ctx, shelf); err != nil {
		return err
	}
	unpacked, err := b.run(ctx, []string{"zstd", "-q", "-d", "-f", packed, "-o", plain}, []string{"sync", plain})
	if err != nil {
		return err
	}
	again, err := b.run(ctx, []string{"cat", plain})
	if err != nil {
		return err
	}
	tested, err := b.run(ctx, []string{"zstd", "-q", "-t", packed})
	if err != nil {
		return err
	}
	one, err := b.restore(ctx, shelf, 1, 0)
	if err != nil {
		return err
	}
	three, err := b.restore(ctx, shelf, 3, 0)
	if err != nil {
		return err
	}
	slow, err := b.restore(ctx, shelf, 1, 150e6)
	if err != nil {
		return err
	}
	proof, err := b.twinshelf(ctx, shelf, "prove", machine)
	if err != nil {
		return err
	}
	k.add("restore and proof: time", "zstd -d and sync", one.clock/unpacked.clock, one.clock, 1)
	k.add("the same beside the same work: time", "zstd -d, sync, reading back",
		one.clock/(unpacked.clock+again.clock), one.clock, 0)
	k.add("restore and proof: processor time", "zstd -d and sync", one.busy/unpacked.busy, one.busy, 0)
	k.memory("restore and proof: memory", one)
	k.add("onto three targets: time", "one target", three.clock/one.clock, three.clock, 0)
	k.memory("onto three targets: memory", three)
	k.add("onto a target of 150 MB/s: time", "writing and reading it",
		slow.clock/(2*float64(b.length)/150e6), slow.clock, 0)
	k.add("proof of a twin: time", "zstd -t", proof.clock/tested.clock, proof.clock, 0)
	return errors.Join(os.RemoveAll(shelf), os.Remove(packed), os.Remove(plain))
}

// restore restores onto so many new targets at once.
func (b *bench) restore(ctx context.Context, shelf string, targets int, rate int64) (c cost, err error) {
	args := []string{"restore", machine}
	var made, typed []string
	for i := range targets {
		path, serial := filepath.Join(b.dir, fmt.Sprintf("target-%d.img", i)), fmt.Sprintf("HH1-%04d", 7731+i)
		if err := errors.Join(create(path, 4*b.used/4096*4096), label(path, "Heron H1", serial, rate)); err != nil {
			return cost{}, err
		}
		made, typed = append(made, path), append(typed, "--confirm", serial[len(serial)-4:])
	}
	if c, err = b.twinshelf(ctx, shelf, append(append(args, made...), typed...)...); err != nil {
		return cost{}, err
	}
	for _, path := range made {
		err = errors.Join(err, os.Remove(path), os.Remove(disk.LabelPath(path)))
	}
	return c, err
}

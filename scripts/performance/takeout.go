package main

import (
	"context"
	"errors"
	"os"
	"path/filepath"
)

// takeOut takes files out of the disk and out of a twin of it, beside cp -a from the mounted disk, each with a sync;
// the program reads back what it wrote.
func (b *bench) takeOut(ctx context.Context, k *book) error {
	if !b.root {
		return nil
	}
	if err := label(b.image, sourceModel, sourceSerial, 0); err != nil {
		return err
	}
	shelf, err := b.newShelf(ctx)
	if err != nil {
		return err
	}
	if _, err := b.capture(ctx, shelf); err != nil {
		return err
	}
	out := filepath.Join(b.dir, "out")
	into := func(take func() (cost, error)) (c cost, err error) {
		if err := os.Mkdir(out, 0o755); err != nil {
			return cost{}, err
		}
		c, err = take()
		return c, errors.Join(err, os.RemoveAll(out))
	}
	for _, what := range []struct{ name, path string }{{"small files", "usr/share"}, {"programs", "usr/bin"}} {
		var copied cost
		if err := b.mounted(ctx, "loop,ro,noatime", func(point string) (err error) {
			copied, err = into(func() (cost, error) {
				return b.run(ctx, []string{"cp", "-a", filepath.Join(point, what.path), out},
					[]string{"sync", "-f", out})
			})
			return err
		}); err != nil {
			return err
		}
		for _, from := range []struct{ name, ref string }{{"the disk", b.image}, {"a twin", machine}} {
			c, err := into(func() (cost, error) {
				return b.run(ctx, []string{b.program, "--quiet", "--shelf", shelf, "take", from.ref, what.path,
					"--to", out}, []string{"sync", "-f", out})
			})
			if err != nil {
				return err
			}
			aim := 0.0
			if from.ref == b.image && what.path == "usr/share" {
				aim = 1
			}
			k.add(what.name+" from "+from.name+": time", "cp -a and sync", c.clock/copied.clock, c.clock, aim)
		}
	}
	return os.RemoveAll(shelf)
}

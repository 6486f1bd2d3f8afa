// Command demo-data packs the file systems that make.sh builds into
// internal/demo/data: for each image a tar of its non-zero stretches, named by
// offset in hex, compressed with zstd. With -base only what differs is kept. With -loader it
// makes a loader for a start-up part; with -lock it makes of an image of a Windows system one that sleeps and is
// locked.
package main

import (
	"archive/tar"
	"bytes"
	"errors"
	"flag"
	"fmt"
	"os"

	"github.com/klauspost/compress/zstd"

	"twinshelf/internal/demo"
	"twinshelf/internal/disk"
)

const step = 4096

func main() {
	base := flag.String("base", "", "image to compare with")
	loader := flag.Uint64("loader", 0, "write a stand-in loader made from this number to the file named")
	key := flag.String("lock", "", "put the system in an image to sleep and lock it with this recovery key")
	flag.Parse()
	if *key != "" {
		if err := lock(flag.Arg(0), flag.Arg(1), *key); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	if *loader > 0 {
		if err := os.WriteFile(flag.Arg(0), demo.Loader(*loader, 90_000), 0o644); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	if err := pack(flag.Arg(0), *base, flag.Arg(1)); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func pack(image, base, out string) error {
	d, err := disk.Open(image, disk.Identity{})
	if err != nil {
		return err
	}
	p := packer{d: d, old: make([]byte, step)}
	if base != "" {
		if p.base, err = disk.Open(base, disk.Identity{}); err != nil {
			return err
		}
	}
	f, err := os.Create(out)
	if err != nil {
		return err
	}
	z, err := zstd.NewWriter(f, zstd.WithEncoderLevel(zstd.SpeedBestCompression))
	if err != nil {
		return err
	}
	p.out = tar.NewWriter(z)
	if err := p.all(); err != nil {
		return err
	}
	return errors.Join(p.out.Close(), z.Close(), f.Close())
}

// packer writes what of an image differs from another one, or from zeros, in stretches named by where they begin.
type packer struct {
	d, base *disk.File
	out     *tar.Writer
	run     []byte // the stretch that is being collected
	at      int64  // where it begins
	old     []byte
}

// most is how long a stretch becomes, in bytes.
const most = 4 << 20

func (p *packer) all() error {
	cur := make([]byte, step)
	for off := int64(0); off < p.d.Size(); {
		next := p.nextData(off)
		if next >= off+step { // a hole in both ends the stretch
			if err := p.flush(); err != nil {
				return err
			}
			off = next / step * step
			continue
		}
		n := min(step, p.d.Size()-off)
		if err := disk.ReadFull(p.d, cur[:n], off); err != nil {
			return err
		}
		if err := p.add(cur[:n], off); err != nil {
			return err
		}
		off += n
	}
	return p.flush()
}

// nextData is where the next data of either image begins.
func (p *packer) nextData(off int64) int64 {
	at := p.d.Size()
	for _, d := range []*disk.File{p.d, p.base} {
		if d == nil {
			continue
		}
		if next, err := d.NextData(off); err == nil {
			at = min(at, next.Start)
		}
	}
	return at
}

// add takes a piece into the stretch, or ends it when nothing of the piece differs.
func (p *packer) add(cur []byte, off int64) error {
	clear(p.old)
	if p.base != nil {
		if err := disk.ReadFull(p.base, p.old[:len(cur)], off); err != nil {
			return err
		}
	}
	if bytes.Equal(cur, p.old[:len(cur)]) {
		return p.flush()
	}
	if len(p.run) == 0 {
		p.at = off
	}
	if p.run = append(p.run, cur...); len(p.run) < most {
		return nil
	}
	return p.flush()
}

func (p *packer) flush() error {
	if len(p.run) == 0 {
		return nil
	}
	h := &tar.Header{Name: fmt.Sprintf("%012x", p.at), Size: int64(len(p.run)), Mode: 0o600}
	if err := p.out.WriteHeader(h); err != nil {
		return err
	}
	_, err := p.out.Write(p.run)
	p.run = p.run[:0]
	return err
}

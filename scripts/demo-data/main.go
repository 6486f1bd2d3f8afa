// Command demo-data packs the file systems that make.sh builds into
// internal/demo/data: for each image a tar of its non-zero stretches, named by
// offset in hex, compressed with zstd. With -base only what differs is kept. With -loader it
// makes a loader for a start-up part.
package main

import (
	"archive/tar"
	"bytes"
	"flag"
	"fmt"
	"io"
	"os"

	"github.com/klauspost/compress/zstd"

	"twinshelf/internal/demo"
	"twinshelf/internal/disk"
)

const step = 4096

func main() {
	base := flag.String("base", "", "image to compare with")
	loader := flag.Uint64("loader", 0, "write a stand-in loader made from this number to the file named")
	flag.Parse()
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
	var b *disk.File
	if base != "" {
		if b, err = disk.Open(base, disk.Identity{}); err != nil {
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
	t := tar.NewWriter(z)
	var run []byte
	var at int64
	flush := func() error {
		if len(run) == 0 {
			return nil
		}
		if err := t.WriteHeader(&tar.Header{Name: fmt.Sprintf("%012x", at), Size: int64(len(run)),
			Mode: 0o600}); err != nil {
			return err
		}
		_, err := t.Write(run)
		run = run[:0]
		return err
	}
	cur, old, zero := make([]byte, step), make([]byte, step), make([]byte, step)
	for off := int64(0); off < d.Size(); {
		next, err := d.NextData(off)
		if err == io.EOF {
			next.Start = d.Size()
		}
		if b != nil {
			if n2, err := b.NextData(off); err == nil {
				next.Start = min(next.Start, n2.Start)
			}
		}
		if next.Start >= off+step { // a hole in both ends the stretch
			if err := flush(); err != nil {
				return err
			}
			off = next.Start / step * step
		}
		if off >= d.Size() {
			break
		}
		n := min(step, d.Size()-off)
		if err := disk.ReadFull(d, cur[:n], off); err != nil {
			return err
		}
		clear(old)
		if b != nil {
			if err := disk.ReadFull(b, old[:n], off); err != nil {
				return err
			}
		}
		want := zero
		if b != nil {
			want = old
		}
		switch {
		case bytes.Equal(cur[:n], want[:n]):
			if err := flush(); err != nil {
				return err
			}
		default:
			if len(run) == 0 {
				at = off
			}
			run = append(run, cur[:n]...)
			if len(run) >= 4<<20 {
				if err := flush(); err != nil {
					return err
				}
			}
		}
		off += n
	}
	if err := flush(); err != nil {
		return err
	}
	if err := t.Close(); err != nil {
		return err
	}
	if err := z.Close(); err != nil {
		return err
	}
	return f.Close()
}

package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
)

// mounted does something with the disk's files through the kernel; only root can.
func (b *bench) mounted(ctx context.Context, options string, work func(point string) error) (err error) {
	point, err := os.MkdirTemp(b.dir, "mounted")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.Remove(point)) }()
	if out, err := exec.CommandContext(ctx, "mount", "-o", options, b.image, point).CombinedOutput(); err != nil {
		return fmt.Errorf("mount: %w: %s", err, out)
	}
	defer func() {
		out, failed := exec.Command("umount", point).CombinedOutput()
		if failed != nil {
			err = errors.Join(err, fmt.Errorf("umount: %w: %s", failed, out))
		}
	}()
	return work(point)
}

// change writes files anew that make up one part in a hundred of what is used, one after another as an update or a
// day's work does.
func (b *bench) change(ctx context.Context) error {
	passed, wrote := int64(0), int64(0)
	r := rand.NewChaCha8([32]byte{byte(os.Getpid())})
	return b.mounted(ctx, "loop", func(point string) error {
		return filepath.WalkDir(point, func(p string, e fs.DirEntry, err error) error {
			if err != nil || !e.Type().IsRegular() {
				return err
			}
			st, err := e.Info()
			if err != nil {
				return err
			}
			if passed += st.Size(); passed < b.length/2 || wrote >= b.length/100 || st.Size() > b.length/200 {
				return nil
			}
			wrote += st.Size()
			fresh := make([]byte, st.Size())
			_, _ = r.Read(fresh) // never fails
			f, err := os.OpenFile(p, os.O_WRONLY, 0)
			if err != nil {
				return err
			}
			_, err = f.Write(fresh)
			return errors.Join(err, f.Close())
		})
	})
}

// Package durable writes small files so that they outlive a power cut, and locks that end with their process.
package durable

import (
	"errors"
	"io"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// Append adds lines to a file, which is made when it isn't there, under a lock; it returns once they will outlive a
// power cut. A line that was cut off by a crash before is ended first, so that it takes nothing with it.
func Append(path string, lines []byte) (err error) {
	_, missing := os.Stat(path)
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX); err != nil {
		return err
	}
	end, err := f.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	if end > 0 {
		last := make([]byte, 1)
		if _, err := f.ReadAt(last, end-1); err != nil {
			return err
		}
		if last[0] != '\n' {
			lines = append([]byte{'\n'}, lines...)
		}
	}
	if _, err := f.Write(lines); err != nil {
		return err
	}
	if err := f.Sync(); err != nil || missing == nil {
		return err
	}
	return SyncFolder(filepath.Dir(path))
}

// Replace writes a file anew and returns once it will outlive a power cut; until then the old one is there.
func Replace(path string, b []byte) error {
	err := swap(path, b, (*os.File).Sync)
	if err == nil {
		err = SyncFolder(filepath.Dir(path))
	}
	return err
}

// Swap writes a file anew: whoever reads it has all of the old one or of the new one. A power cut may lose both.
func Swap(path string, b []byte) error {
	return swap(path, b, func(*os.File) error { return nil })
}

func swap(path string, b []byte, settle func(*os.File) error) error {
	f, err := os.OpenFile(path+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(b)
	if err = errors.Join(err, settle(f), f.Close()); err == nil {
		err = os.Rename(path+".new", path)
	}
	return err
}

// SyncFolder returns once the names in a folder will outlive a power cut.
func SyncFolder(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// Share locks a file, which is made when it isn't there, together with others that share it, until it is closed or the
// process ends. It waits for one who has it alone (Lock).
func Share(path string) (io.Closer, error) { return lock(path, unix.LOCK_SH) }

// Lock locks a file, which is made when it isn't there, until it is closed or the process ends, however it does. With
// wait it waits for others; without it gives unix.EWOULDBLOCK while one has it.
func Lock(path string, wait bool) (io.Closer, error) {
	how := unix.LOCK_EX
	if !wait {
		how |= unix.LOCK_NB
	}
	return lock(path, how)
}

func lock(path string, how int) (io.Closer, error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(f.Fd()), how); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

package shelf

import (
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"

	"golang.org/x/sys/unix"
)

// A shelf keeps some room aside in a file of its own, so that a full drive can be relieved: what thinning, discarding and giving back
// space write is small, and when there is no room for it the file goes. docs/shelf-format.md, "Reserve".

const (
	reserveFile  = "reserve"
	leastReserve = 512 << 10 // bytes; beside it the index has to fit once more
	mostReserve  = 64 << 20
	spareRoom    = 8 // a reserve is only made where so many times its size are free
)

// withRoom runs what writes something small; where the drive is full the reserve makes room, once.
func (s *Shelf) withRoom(write func() error) error {
	err := write()
	if full(err) && s.b.Remove(reserveFile) == nil && s.b.SyncDir(".") == nil {
		err = write()
	}
	return err
}

func full(err error) bool { return errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT) }

// keepReserve makes the reserve where it is missing or much too small, and there is room for it. It is a comfort: where it can't be
// made everything else goes on.
func (s *Shelf) keepReserve() {
	want := int64(leastReserve)
	names, err := s.b.List("index")
	if err != nil {
		return
	}
	for _, n := range names {
		if size, _, err := s.b.Stat("index/" + n); err == nil {
			want += size * 5 / 4
		}
	}
	if size, _, err := s.b.Stat(reserveFile); err == nil && size >= min(want, mostReserve)/2 {
		return
	}
	if free, err := s.b.Free(); err != nil || free < spareRoom*want {
		return
	}
	b := make([]byte, min(want, mostReserve))
	_, _ = rand.Read(b) // what no file system packs or leaves out
	_ = s.tryFile(reserveFile, s.ring.document(kindNote, b))
}

// checkReserve looks whether the reserve is as it was written: nothing is lost by a damaged one, but the drive has changed it.
func (s *Shelf) checkReserve(rep *Report, mend bool) {
	err := s.readReserve()
	if err == nil || errors.Is(err, fs.ErrNotExist) {
		return
	}
	if mend && s.b.Remove(reserveFile) == nil {
		s.keepReserve()
		rep.Mended = append(rep.Mended, reserveFile)
		return
	}
	rep.Hurt = append(rep.Hurt, fmt.Sprintf("%v; nothing is lost by it, and \"twinshelf shelf check --mend\" makes it anew", err))
}

func (s *Shelf) readReserve() error {
	b, err := s.b.ReadFile(reserveFile, mostReserve+headerLen)
	if err == nil {
		_, err = s.ring.payload(reserveFile, b, kindNote)
	}
	return err
}

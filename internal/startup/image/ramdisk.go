package image

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"strconv"
)

const (
	cpioHead     = 110 // bytes: a mark and 13 numbers of eight hex digits (initramfs buffer format)
	cpioSizeAt   = 6 + 6*8
	cpioNameAt   = 6 + 11*8
	maxName      = 4096
	maxArchives  = 64
	maxRAMDisk   = 8 << 30 // bytes unpacked
	lastCPIOFile = "TRAILER!!!"
)

// RAMDisk reads the first file system in memory to its end: archives one after another, the last ones packed. It says
// how it was established that it is whole, or nothing where it is of a kind that can't be checked. The error wraps
// ErrDamaged, or is of reading.
func RAMDisk(r io.Reader) (checked string, err error) {
	in := bufio.NewReaderSize(io.LimitReader(r, maxRAMDisk), 1<<16)
	for n := range maxArchives {
		if err := skipZeros(in); errors.Is(err, io.EOF) {
			if n == 0 {
				return "", damaged("it is empty, or all zeros")
			}
			return "read to its end", nil
		} else if err != nil {
			return "", err
		}
		head, _ := in.Peek(imageHead)
		if bytes.HasPrefix(head, []byte("07070")) {
			if err := archive(in); err != nil {
				return "", err
			}
			continue
		}
		return packed(in, head, n)
	}
	return "", damaged("more than %d archives in it", maxArchives)
}

// packed reads what is packed after n archives; nothing is looked for after it.
func packed(in io.Reader, head []byte, n int) (string, error) {
	if n == 0 && isImage(head) {
		return "", nil
	}
	u, err := unpacker(in)
	if errors.Is(err, errLZO) {
		return "", nil
	}
	if errors.Is(err, errKind) {
		return "", damaged("it doesn't begin like one")
	}
	if err != nil {
		return "", damaged("it can't be unpacked: %v", err)
	}
	inner := bufio.NewReaderSize(io.LimitReader(u, maxRAMDisk), 1<<16)
	if first, _ := inner.Peek(imageHead); isImage(first) {
		return "", nil
	}
	for range maxArchives {
		if err := archive(inner); err != nil {
			return "", damaged("it can't be unpacked: %v", err)
		}
		if err := skipZeros(inner); err != nil { // up to the packing's own checksum
			if errors.Is(err, io.EOF) || errors.Is(err, errTail) {
				return "read to its end", nil
			}
			return "", damaged("it can't be unpacked: %v", err)
		}
	}
	return "", damaged("more than %d archives in it", maxArchives)
}

// imageHead is how much of a file says whether it is a file system's image.
const imageHead = 2048

// isImage knows file systems that older kernels took as a whole: ext, cramfs, squashfs, romfs, minix.
func isImage(b []byte) bool {
	has := func(at int, mark string) bool { return at+len(mark) <= len(b) && string(b[at:at+len(mark)]) == mark }
	return has(0x438, "\x53\xef") || has(0, "\x45\x3d\xcd\x28") || has(0, "hsqs") || has(0, "-rom1fs-") ||
		has(0x410, "\x7f\x13") || has(0x410, "\x8f\x13")
}

func skipZeros(r *bufio.Reader) error {
	for {
		c, err := r.ReadByte()
		if err != nil {
			return err
		}
		if c != 0 {
			return r.UnreadByte()
		}
	}
}

// archive reads one archive up to its last entry.
func archive(r io.Reader) error {
	var head [cpioHead]byte
	for {
		if _, err := io.ReadFull(r, head[:]); err != nil {
			return damaged("an archive ends in the middle: %v", err)
		}
		size, err1 := strconv.ParseUint(string(head[cpioSizeAt:][:8]), 16, 32)
		name, err2 := strconv.ParseUint(string(head[cpioNameAt:][:8]), 16, 32)
		if mark := string(head[:6]); mark != "070701" && mark != "070702" || err1 != nil || err2 != nil || name == 0 ||
			name > maxName {
			return damaged("an entry of an archive isn't one any more")
		}
		title := make([]byte, (cpioHead+name+3)/4*4-cpioHead)
		if _, err := io.ReadFull(r, title); err != nil {
			return damaged("an archive ends in the middle: %v", err)
		}
		if string(title[:name-1]) == lastCPIOFile {
			return nil
		}
		if _, err := io.CopyN(io.Discard, r, int64((size+3)/4*4)); err != nil {
			return damaged("an archive ends in the middle: %v", err)
		}
	}
}

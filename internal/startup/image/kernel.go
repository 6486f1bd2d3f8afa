package image

import (
	"bytes"
	"compress/bzip2"
	"compress/gzip"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/ulikunitz/xz"
	"github.com/ulikunitz/xz/lzma"
)

// Places in a kernel's head (Linux boot protocol for x86, "The Real-Mode Kernel Header").
const (
	setupAt   = 0x1F1 // sectors of its first part, less one
	sizeAt    = 0x1F4 // of the rest, in 16 bytes
	kernelAt  = 0x202 // "HdrS"
	versionAt = 0x206
	payloadAt = 0x248 // where its packed part begins, and how long it is, from version 2.08 on
	payloads  = 0x208
	leastHead = 0x250
	armAt     = 56 // "ARMd" (Linux arm64 booting)

	maxKernel = 1 << 30 // bytes unpacked
)

// Kernel checks a Linux kernel. It says how that was established, or nothing where it can't be.
func Kernel(b []byte) (checked string, err error) {
	has := func(at int, mark string) bool { return at+len(mark) <= len(b) && string(b[at:at+len(mark)]) == mark }
	switch {
	case has(kernelAt, "HdrS") && len(b) >= leastHead:
		return x86(b)
	case has(0, "MZ"), has(armAt, "ARMd"):
		p, err := Parse(b)
		if err != nil {
			return "", err
		}
		return p.Checked, nil
	case has(0, "\x7fELF"):
		return "", nil
	}
	if r, err := unpacker(bytes.NewReader(b)); err == nil {
		_, err := io.Copy(io.Discard, io.LimitReader(r, maxKernel))
		if err != nil {
			return "", damaged("it can't be unpacked: %v", err)
		}
		return "its packing's checksum", nil
	}
	return "", damaged("it isn't a kernel any more: none of the marks that kernels bear is at its start")
}

// x86 checks a kernel for PCs: by its signature, by its own checksum, or by unpacking it.
func x86(b []byte) (string, error) {
	le := binary.LittleEndian
	setup := int64(b[setupAt])
	if setup == 0 {
		setup = 4
	}
	body := (setup + 1) * sector
	total := body + int64(le.Uint32(b[sizeAt:]))*16
	if total > int64(len(b)) {
		return "", damaged("it is cut short: %d of %d bytes are there", len(b), total)
	}
	if string(b[:2]) == "MZ" {
		p, err := Parse(b)
		if errors.Is(err, ErrDamaged) {
			return "", err
		}
		if err == nil && p.Checked != "" {
			return p.Checked, nil
		}
	}
	// The last four bytes are the complement of the checksum of all before them; the newest kernels have none.
	if ^crc32.ChecksumIEEE(b[:total-4]) == le.Uint32(b[total-4:]) {
		return "its own checksum", nil
	}
	if le.Uint16(b[versionAt:]) < payloads {
		return "", nil
	}
	from, n := body+int64(le.Uint32(b[payloadAt:])), int64(le.Uint32(b[payloadAt+4:]))
	if from+n > total {
		return "", damaged("its packed part lies beyond its end")
	}
	r, err := unpacker(bytes.NewReader(b[from:][:n]))
	if errors.Is(err, errLZO) {
		return "", nil
	}
	if err != nil {
		return "", damaged("its packed part isn't of a known kind")
	}
	head := make([]byte, 4)
	if _, err := io.ReadFull(r, head); err != nil {
		return "", damaged("it can't be unpacked: %v", err)
	}
	if _, err := io.Copy(io.Discard, io.LimitReader(r, maxKernel)); err != nil && !errors.Is(err, errTail) {
		return "", damaged("it can't be unpacked: %v", err)
	}
	if string(head) != "\x7fELF" {
		return "", damaged("what it packs isn't a kernel")
	}
	return "its packing's checksum", nil
}

// errKind means that bytes aren't packed in a known way, errTail that something else lies after what was packed.
var (
	errKind = errors.New("it isn't packed in a known way")
	errLZO  = errors.New("it is packed by LZO, which isn't read here")
	errTail = errors.New("something else follows it")
)

// unpacker reads what is packed in one of the ways that kernels know.
func unpacker(r io.Reader) (io.Reader, error) {
	head := make([]byte, 6)
	n, err := io.ReadFull(r, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
		return nil, errKind
	}
	all := io.MultiReader(bytes.NewReader(head[:n]), r)
	is := func(mark string) bool { return bytes.HasPrefix(head[:n], []byte(mark)) }
	switch {
	case is("\x1f\x8b"):
		return gzipped(all)
	case is("\x28\xb5\x2f\xfd"):
		d, err := zstd.NewReader(all, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(maxWindow))
		if err != nil {
			return nil, err
		}
		return tolerant{d.IOReadCloser(), zstd.ErrMagicMismatch}, nil
	case is("\xfd7zXZ\x00"):
		return xz.NewReader(all)
	case is("\x5d\x00\x00"):
		return lzma.NewReader(all)
	case is("\x02\x21\x4c\x18"), is("\x04\x22\x4d\x18"):
		return lz4.NewReader(all), nil
	case is("\x89LZO"):
		return nil, errLZO
	case is("BZh"):
		return tolerant{bzip2.NewReader(all), bzip2.StructuralError("bad magic value in continuation file")}, nil
	}
	return nil, errKind
}

const maxWindow = 128 << 20 // bytes that a packed stream may look back

func gzipped(r io.Reader) (io.Reader, error) {
	z, err := gzip.NewReader(r)
	if err != nil {
		return nil, err
	}
	z.Multistream(false)
	return z, nil
}

// tolerant turns the error that a reader gives at what follows its stream into errTail.
type tolerant struct {
	io.Reader
	tail error
}

func (t tolerant) Read(b []byte) (int, error) {
	n, err := t.Reader.Read(b)
	if errors.Is(err, t.tail) {
		err = errTail
	}
	return n, err
}

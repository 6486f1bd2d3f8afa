// Command filler works inside emulated machines: it fills a file system through the kernel's own driver, and lists what
// the kernel sees in it, so that tests can hold our own readers against that.
//
//	filler fill FOLDER N    puts about N files there, of every kind, and takes some away again
//	filler list FOLDER      says as JSON, a line each, what is there
//	filler snap FOLDER NAME takes a snapshot of the APFS volume that is mounted there
package main

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Seen is a file or folder as the kernel has it.
type Seen struct {
	Path   string
	Mode   uint32 // as stat(2) has it
	UID    uint32
	GID    uint32
	Links  uint64
	Size   int64
	Second int64             // when it was changed
	Device uint64            `json:",omitempty"`
	Sum    uint32            `json:",omitempty"` // CRC-32C of a file: others take long in an emulator
	Target string            `json:",omitempty"`
	Attrs  map[string][]byte `json:",omitempty"`
}

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(args []string) error {
	switch {
	case len(args) == 3 && args[0] == "fill":
		n, err := strconv.Atoi(args[2])
		if err != nil {
			return err
		}
		return fill(args[1], n)
	case len(args) == 3 && args[0] == "snap":
		return snap(args[1], args[2])
	case len(args) == 2 && args[0] == "list":
		return list(os.Stdout, args[1])
	}
	return errors.New("filler fill FOLDER N | filler list FOLDER | filler snap FOLDER NAME")
}

// snap asks the driver for APFS for a snapshot: _IOW('@', 0x85, char[256]).
func snap(dir, name string) error {
	const take, room = 1<<30 | 256<<16 | '@'<<8 | 0x85, 256
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	var b [room]byte
	copy(b[:room-1], name)
	if _, _, e := unix.Syscall(unix.SYS_IOCTL, f.Fd(), take, uintptr(unsafe.Pointer(&b))); e != 0 {
		return fmt.Errorf("no snapshot: %w", e)
	}
	return nil
}

// names are those that are hard to keep: composed and decomposed, other scripts, case, long ones.
var names = []string{"Überfahrt", "Überfahrt zwei", "ΑΒΓ Ω", "παραλία", "пристань №5",
	"港の時刻表", "부두 시간표", "a:b",
	"⛴ Fähre", "crème brûlée", "Ångström", "ﬁx", strings.Repeat("long name ", 25), "ÇİĞ", "مرفأ", "ｆｕｌｌ", "ß", "ẞ",
	"I", "ı", "K", "q̣̇", "q̣̇ two", "with  spaces ", ".hidden", "trailing.", "tab\tin"}

// fill puts files of every kind into a folder.
func fill(dir string, n int) error {
	r := rand.New(rand.NewPCG(4, 9))
	var made []string
	at := dir
	for i := range n {
		switch {
		case i%97 == 0: // deeper
			at = filepath.Join(at, fmt.Sprintf("deck %d", i))
		case i%41 == 0: // and up again
			at = filepath.Join(dir, fmt.Sprintf("pier %d", r.IntN(40)))
		}
		if err := os.MkdirAll(at, 0o755); err != nil {
			return err
		}
		name := filepath.Join(at, fmt.Sprintf("crossing %d of the harbour line.log", i))
		if err := os.WriteFile(name, contents(i, size(r)), 0o640); err != nil {
			return err
		}
		made = append(made, name)
	}
	for _, step := range []func(string, []string, *rand.Rand) error{special, broken, changed} {
		if err := step(dir, made, r); err != nil {
			return err
		}
	}
	unix.Sync()
	return nil
}

// size is that of a file: mostly small.
func size(r *rand.Rand) int {
	if r.IntN(50) == 0 {
		return r.IntN(300_000)
	}
	return r.IntN(6000)
}

// contents are bytes that pack well and differ.
func contents(i, n int) []byte {
	line := fmt.Sprintf("crossing %d, wind from west, 12 cars\n", i)
	return []byte(strings.Repeat(line, n/len(line)+1))[:n]
}

// special puts what isn't a plain file there, and names that are hard.
func special(dir string, made []string, r *rand.Rand) error {
	odd := filepath.Join(dir, fmt.Sprint("odd names ", len(made)))
	if err := os.Mkdir(odd, 0o711); err != nil {
		return err
	}
	for i, n := range names {
		if err := os.WriteFile(filepath.Join(odd, n), contents(i, 100+i), 0o600); err != nil && !errors.Is(err,
			syscall.ENAMETOOLONG) {
			return fmt.Errorf("%q: %w", n, err)
		}
	}
	for i := range 60 {
		to := made[r.IntN(len(made))]
		if err := os.Link(to, filepath.Join(odd, fmt.Sprint("link ", i))); err != nil {
			return err
		}
		if err := os.Symlink(to, filepath.Join(odd, fmt.Sprint("symbolic ", i))); err != nil {
			return err
		}
		for _, a := range []string{"user.berth", "user.captain's note"}[:1+i%2] {
			if err := unix.Setxattr(to, a, contents(i, 20+i*7), 0); err != nil && !errors.Is(err, unix.ENOTSUP) {
				return err
			}
		}
		if err := errors.Join(os.Chmod(to, 0o4755), os.Lchown(to, 1000+i, 50)); err != nil {
			return err
		}
	}
	for name, mode := range map[string]uint32{"pipe": unix.S_IFIFO | 0o600, "tty": unix.S_IFCHR | 0o620,
		"disk": unix.S_IFBLK | 0o660, "socket": unix.S_IFSOCK | 0o700} {
		if err := unix.Mknod(filepath.Join(odd, name), mode, int(unix.Mkdev(8, 17))); err != nil {
			return err
		}
	}
	return os.WriteFile(filepath.Join(odd, "empty"), nil, 0o644)
}

// broken writes files that grow by turns, so that each lies in many pieces, and one with holes.
func broken(dir string, made []string, _ *rand.Rand) error {
	const files, rounds, piece = 4, 120, 9000
	var open []*os.File
	for i := range files {
		f, err := os.Create(filepath.Join(dir, fmt.Sprint("grown ", len(made), " ", i)))
		if err != nil {
			return err
		}
		defer f.Close()
		open = append(open, f)
	}
	for i := range rounds {
		for k, f := range open {
			if _, err := f.Write(contents(i*files+k, piece)); err != nil {
				return err
			}
			if err := f.Sync(); err != nil {
				return err
			}
		}
	}
	f, err := os.Create(filepath.Join(dir, fmt.Sprint("with a hole ", len(made))))
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = f.WriteAt([]byte("the end"), 200_000)
	return err
}

// changed takes files away, renames and shortens others.
func changed(dir string, made []string, r *rand.Rand) error {
	for i, name := range made {
		var err error
		switch {
		case i%7 == 3:
			err = os.Remove(name)
		case i%11 == 5:
			err = os.Rename(name, filepath.Join(dir, fmt.Sprintf("renamed %d of %d", i, len(made))))
		case i%13 == 6:
			err = os.Truncate(name, int64(r.IntN(500)))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// list says what the kernel sees.
func list(w io.Writer, dir string) error {
	out := bufio.NewWriter(w)
	e := json.NewEncoder(out)
	err := filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		s, err := seen(path)
		if err != nil {
			return err
		}
		if s.Path, err = filepath.Rel(dir, path); err != nil {
			return err
		}
		return e.Encode(s)
	})
	fmt.Fprintln(out)
	return errors.Join(err, out.Flush())
}

func seen(path string) (s Seen, err error) {
	var st unix.Stat_t
	if err := unix.Lstat(path, &st); err != nil {
		return s, err
	}
	s = Seen{Mode: st.Mode, UID: st.Uid, GID: st.Gid, Links: st.Nlink, Size: st.Size, Second: st.Mtim.Sec}
	switch st.Mode & unix.S_IFMT {
	case unix.S_IFREG:
		f, err := os.Open(path)
		if err != nil {
			return s, err
		}
		defer f.Close()
		h := crc32.New(crc32.MakeTable(crc32.Castagnoli))
		if _, err := io.Copy(h, f); err != nil {
			return s, err
		}
		s.Sum = h.Sum32()
	case unix.S_IFLNK:
		if s.Target, err = os.Readlink(path); err != nil {
			return s, err
		}
	case unix.S_IFCHR, unix.S_IFBLK:
		s.Device = st.Rdev
	}
	s.Attrs, err = attributes(path)
	return s, err
}

const mostAttributes = 8 << 10

func attributes(path string) (map[string][]byte, error) {
	b := make([]byte, mostAttributes)
	n, err := unix.Llistxattr(path, b)
	if errors.Is(err, unix.ENOTSUP) || errors.Is(err, unix.ENODATA) || n <= 0 && err == nil {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	all := strings.Split(strings.TrimRight(string(b[:n]), "\x00"), "\x00")
	slices.Sort(all)
	out := map[string][]byte{}
	for _, name := range all {
		n, err := unix.Lgetxattr(path, name, b)
		if errors.Is(err, unix.ENODATA) {
			continue // some drivers list what isn't there
		} else if err != nil {
			return nil, err
		}
		out[name] = slices.Clone(b[:n])
	}
	return out, nil
}

package first

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"golang.org/x/sys/unix"

	"twinshelf/internal/stick/base"
	"twinshelf/internal/stick/drivers"
)

// always are modules that are loaded whatever the hardware says: what comes later and can't ask for itself. The others
// are loaded once the screen is open: only mounts ask for them, and those of the stick get theirs by its file systems.
var (
	always = []string{"sd_mod", "usb_storage", "uas", "usbhid", "hid_generic"}
	later  = []string{"sr_mod", "nls_cp437", "nls_iso8859_1", "vfat", "exfat", "ext4", "fuse", "loop"}
)

// sums are modules that others ask the kernel for while they are being loaded.
var sums = []string{"crct10dif_generic", "crc64_rocksoft_generic", "crc32c_generic"}

// loader loads modules.
type loader struct {
	dir    string
	tables *drivers.Tables
	// sums are those of the files by the base; nil where they aren't compared.
	sums map[string]base.Piece

	// calm says that nothing urgent is left: from then on everything is loaded that hardware asks for.
	calm atomic.Bool

	mu     sync.Mutex
	loaded map[string]bool   // by file
	failed map[string]string // by file: why
}

func newLoader(dir string) (*loader, error) {
	t, err := drivers.Read(os.DirFS(dir))
	if err != nil {
		return nil, err
	}
	return &loader{dir: dir, tables: t, loaded: map[string]bool{}, failed: map[string]string{}}, nil
}

// load loads modules with all that they need. That there is no hardware for one is no failure.
func (l *loader) load(names ...string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	var problems []error
	for _, n := range names {
		files, err := l.tables.Order(n)
		if err != nil {
			problems = append(problems, err)
			continue
		}
		for _, f := range files {
			if err := l.insert(f); err != nil {
				l.failed[f] = err.Error()
				problems = append(problems, err)
				break
			}
		}
	}
	return errors.Join(problems...)
}

func (l *loader) insert(file string) error {
	if l.loaded[file] {
		return nil
	}
	if err := l.compare(file); err != nil {
		return err
	}
	f, err := os.Open(filepath.Join(l.dir, file))
	if err != nil {
		return err
	}
	defer f.Close()
	flags := 0
	if !strings.HasSuffix(file, ".ko") {
		flags = unix.MODULE_INIT_COMPRESSED_FILE
	}
	err = unix.FinitModule(int(f.Fd()), "", flags)
	if err == nil || errors.Is(err, unix.EEXIST) || errors.Is(err, unix.ENODEV) {
		l.loaded[file] = true
		return nil
	}
	return fmt.Errorf("module %s can't be loaded: %w", drivers.Name(file), err)
}

// compareWith has modules compared with what a base has of them; nil has none compared.
func (l *loader) compareWith(list *base.Manifest) {
	if list == nil {
		return
	}
	l.sums = map[string]base.Piece{}
	for _, p := range list.Pieces {
		l.sums[p.Name] = p
	}
}

// compare compares a module with what the base has of it, before it becomes part of the kernel.
func (l *loader) compare(file string) error {
	if l.sums == nil {
		return nil
	}
	path := filepath.Join(l.dir, file)
	p, known := l.sums[strings.TrimPrefix(path, "/")]
	if !known {
		return fmt.Errorf("module %s isn't loaded: the base doesn't have it", drivers.Name(file))
	}
	if err := checkedOne(path, p); err != nil {
		return fmt.Errorf("module %s isn't loaded: %w", drivers.Name(file), err)
	}
	return nil
}

// faster are the ciphers and sums that processors have instructions for. The kernel tests each for seconds, and needs
// none before a file system asks for it.
const faster = "kernel/arch/x86/crypto/"

// prompt are the beginnings of aliases of what is needed before the screen opens; of PCI what stands in the alias: mass
// storage, displays, USB and SD hosts, and bridges to more of it.
var (
	prompt    = []string{"usb:", "hid:", "scsi:", "virtio:", "vmbus:", "mmc:", "serio:ty06"}
	promptPCI = []string{"bc01", "bc03", usbHost, "bc08sc05", "bc06sc04"}
)

// disc is the alias of a drive for CDs: it takes long to be looked at, and has no system.
const disc = "scsi:t-0x05"

// urgent says whether a piece of hardware can't wait until the screen is open.
func urgent(alias string) bool {
	if strings.HasPrefix(alias, "pci:") {
		return slices.ContainsFunc(promptPCI, func(class string) bool { return strings.Contains(alias, class) })
	}
	return alias != disc && slices.ContainsFunc(prompt, func(p string) bool { return strings.HasPrefix(alias, p) })
}

// ask loads what a piece of hardware asks for, or leaves that until the screen is open.
func (l *loader) ask(alias string) {
	if !l.calm.Load() && !urgent(alias) {
		return
	}
	names := l.tables.For(alias)
	if strings.HasPrefix(alias, "cpu:") {
		names = slices.DeleteFunc(names, func(n string) bool { return strings.HasPrefix(l.tables.File(n), faster) })
	}
	_ = l.load(names...) // what failed is kept
}

// begin loads what the hardware that is there asks for, and what can't ask. What turns up by that is told by events.
func (l *loader) begin() {
	_ = l.load(sums...)   // otherwise a process is started for each
	_ = l.load(always...) // a kernel has some of them built in
	l.found("/sys/devices", 1)
}

// usbHost is what stands in the alias of a USB host controller on PCI: base class 0Ch, subclass 03h.
const usbHost = "bc0Csc03"

// found loads what all hardware asks for that the kernel has found so far, until nothing new turns up or it was looked
// for so often.
func (l *loader) found(devices string, rounds int) {
	seen := map[string]bool{}
	for range rounds {
		var fresh []string
		_ = filepath.WalkDir(devices, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.Name() != "modalias" {
				return nil
			}
			b, err := os.ReadFile(path)
			if a := string(bytes.TrimSpace(b)); err == nil && a != "" && !seen[a] {
				seen[a] = true
				fresh = append(fresh, a)
			}
			return nil
		})
		if len(fresh) == 0 {
			return
		}
		slices.SortStableFunc(fresh, func(a, b string) int { // the stick is waited for longest
			return cmp.Compare(strings.Index(b, usbHost), strings.Index(a, usbHost))
		})
		for _, a := range fresh {
			l.ask(a)
		}
	}
}

// everything loads what hardware asks for that could wait, and from now on whatever any asks for.
func (l *loader) everything() {
	l.calm.Store(true)
	l.found("/sys/devices", mostRounds)
}

// mostRounds bounds how often hardware is looked for that earlier modules brought to light.
const mostRounds = 16

// problems are the modules that couldn't be loaded, and why.
func (l *loader) problems() []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	var out []string
	for _, why := range l.failed {
		out = append(out, why)
	}
	slices.Sort(out)
	return out
}

// Modprobe does what the kernel asks for by itself (kernel.modprobe): it loads modules by what they are for.
func Modprobe(args []string) error {
	dir, err := modulesDir()
	if err != nil {
		return err
	}
	l, err := newLoader(dir)
	if err != nil {
		return err
	}
	list, _ := manifest("/") // that there is none was said at the start
	l.compareWith(list)
	for _, a := range args {
		if !strings.HasPrefix(a, "-") {
			err = errors.Join(err, l.load(l.tables.For(a)...))
		}
	}
	return err
}

// modulesDir is the folder of the running kernel's modules.
func modulesDir() (string, error) {
	var u unix.Utsname
	if err := unix.Uname(&u); err != nil {
		return "", err
	}
	return "/lib/modules/" + unix.ByteSliceToString(u.Release[:]), nil
}

//go:build linux

// Package first is Twin Shelf as the first process of a machine that was started from outside: it mounts what it needs,
// loads the drivers that the hardware asks for, opens the full screen on the consoles, reaps processes, and switches
// the machine off. It never leaves a black screen: what fails is said there, with what to do.
package first

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"github.com/zeebo/blake3"
	"golang.org/x/sys/unix"

	"twinshelf/internal/mounts"
	"twinshelf/internal/stick/base"
	"twinshelf/internal/stick/ramdisk"
	"twinshelf/internal/units"
)

// Is says whether the process that was called so is the first one of a machine that was started from outside.
func Is(args []string) bool { return os.Getpid() == 1 && args[0] == "/"+ramdisk.Program }

// Asked says whether the kernel of such a machine called for modules.
func Asked(args []string) bool { return args[0] == "/"+ramdisk.Modprobe }

// least is how little memory a machine may have, in bytes.
const least = 900 * units.MiB // of 1 GiB the firmware and the kernel take some

// mount is a file system that is there from the beginning.
type mount struct{ kind, at, options string }

var beginnings = []mount{{"devtmpfs", "/dev", ""}, {"proc", "/proc", ""}, {"sysfs", "/sys", ""},
	{"tmpfs", "/run", "mode=0755"}, {"tmpfs", "/tmp", "mode=1777"}, {"devpts", "/dev/pts", "mode=0620,ptmxmode=0666"}}

// efivars are the firmware's variables; they are there where its driver is.
var efivars = mount{"efivarfs", "/sys/firmware/efi/efivars", ""}

// machine is the started machine.
type machine struct {
	children children
	loader   *loader
	mu       sync.Mutex // guards said and open
	// said is what went wrong so far.
	said []string
	open bool // the full screen is, on some console
	bare bool // the display has the kernel's own font

	stick stick
}

// Run is the first process. It doesn't return before the machine is told to end.
func Run(ctx context.Context) error {
	m := &machine{children: children{own: map[int]bool{}}}
	for _, x := range beginnings {
		m.note(mountOne(x))
	}
	if f, err := os.OpenFile("/dev/console", os.O_RDWR|unix.O_NOCTTY, 0); err == nil {
		os.Stdin, os.Stdout, os.Stderr = f, f, f
	}
	defer deaf()()
	begun := uptime()
	m.tell("Twin Shelf is starting.")
	m.note(enoughMemory())
	list, err := manifest("/")
	m.note(err)
	ctx, end := context.WithCancel(ctx)
	var work sync.WaitGroup
	if m.note(m.openLoader(list)); m.loader != nil {
		m.stick.load, m.stick.rest = m.loader.load, m.loader.everything
		work.Go(func() { _ = listen(ctx, m.loader.ask) }) // hardware turns up from the first module on
		m.loader.begin()
	}
	if _, err := os.Stat(efivars.at); err == nil { // the machine was started by UEFI firmware
		m.stick.ready([]string{"efivarfs"})
		m.note(mountOne(efivars))
	}
	shown := screenOf("/sys")
	if err := dress(ramdisk.Display); err != nil {
		m.bare = true
		m.note(err)
	}
	m.note(m.stick.find(ctx, "/sys/class/block"))
	work.Go(func() { m.children.reap(ctx) })
	// Modules are compared when they are loaded. All that nobody needs at once is done beside the work.
	work.Go(func() {
		m.settle(shown)
		if list != nil {
			m.note(checked(ctx, "/", list))
		}
	})
	m.tell(fmt.Sprintf("The kernel took %.1f s, Twin Shelf %.1f s.", begun, uptime()-begun))
	hush()
	what := m.consoles(ctx)
	end()
	work.Wait()
	m.unmount()
	return unix.Reboot(what)
}

// tell says something on all consoles.
func (m *machine) tell(text string) {
	line, _ := os.ReadFile("/proc/cmdline")
	for _, c := range consolesOf(string(line)) {
		if tty, err := c.open(); err == nil {
			fmt.Fprint(tty, text+"\r\n")
			tty.Close()
		}
	}
}

// emergencies is the level of the kernel's messages that still come onto the consoles.
const emergencies = 1

// hush keeps the kernel's messages from being written over the full screen: what a drive that is pulled out comes to is
// said there anyway.
func hush() {
	const consoleLevel = 8 // SYSLOG_ACTION_CONSOLE_LEVEL, syslog(2)
	_, _, _ = unix.Syscall(unix.SYS_SYSLOG, consoleLevel, 0, emergencies)
}

// uptime is how long the kernel has been running, in seconds (proc(5)).
func uptime() (seconds float64) {
	b, _ := os.ReadFile("/proc/uptime")
	_, _ = fmt.Sscan(string(b), &seconds)
	return seconds
}

// note keeps what went wrong, and says it: the full screen where it is open already finds it in a file.
func (m *machine) note(err error) {
	if err == nil || errors.Is(err, context.Canceled) {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.said = append(m.said, err.Error())
	if m.open {
		_ = mounts.WriteSmall(ramdisk.News, []byte(err.Error()))
		return
	}
	fmt.Println("!", err)
}

// notices are what went wrong so far.
func (m *machine) notices() []string {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.open = true
	return slices.Clone(m.said)
}

func mountOne(x mount) error {
	if err := os.MkdirAll(x.at, 0o755); err != nil {
		return fmt.Errorf("%s can't be made: %w", x.at, err)
	}
	err := unix.Mount(x.kind, x.at, x.kind, 0, x.options)
	if err != nil && !errors.Is(err, unix.EBUSY) {
		return fmt.Errorf("%s can't be mounted at %s: %w", x.kind, x.at, err)
	}
	return nil
}

// manifest reads what the base was made with that was unpacked below a folder.
func manifest(root string) (*base.Manifest, error) {
	raw, err := os.ReadFile(filepath.Join(root, ramdisk.Manifest))
	if err != nil {
		return nil, fmt.Errorf("what was started can't be checked: %w", err)
	}
	var m base.Manifest
	if err := json.Unmarshal(raw, &m); err != nil {
		return nil, fmt.Errorf("what was started can't be checked: %w", err)
	}
	return &m, nil
}

// checked compares what was unpacked at the start, below a folder, with the sums of the base that it came from.
func checked(ctx context.Context, root string, m *base.Manifest) error {
	for _, p := range m.Pieces {
		if !ramdisk.Kept(p.Name) {
			continue
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := checkedOne(filepath.Join(root, p.Name), p); err != nil {
			return fmt.Errorf("what was started isn't what the stick was made with: %w; don't work with it, make the "+
				"stick anew", err)
		}
	}
	return nil
}

func checkedOne(path string, p base.Piece) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	h := blake3.New()
	if _, err := io.Copy(h, f); err != nil {
		return err
	}
	if hex.EncodeToString(h.Sum(nil)) != p.Sum {
		return fmt.Errorf("/%s differs", p.Name)
	}
	return nil
}

// enoughMemory says that the machine has too little memory.
func enoughMemory() error {
	var info unix.Sysinfo_t
	if err := unix.Sysinfo(&info); err != nil {
		return nil //nolint:nilerr // nobody knows then
	}
	if n := int64(info.Totalram) * int64(info.Unit); n < least {
		return fmt.Errorf("the machine has %s of memory, and 1 GiB is needed: work may fail for want of it",
			units.Bytes(n))
	}
	return nil
}

// openLoader finds the modules that the base has.
func (m *machine) openLoader(list *base.Manifest) error {
	dir, err := modulesDir()
	if err != nil {
		return err
	}
	l, err := newLoader(dir)
	if err != nil {
		return fmt.Errorf("no drivers can be loaded: %w; make the stick anew", err)
	}
	l.compareWith(list)
	m.loader = l
	return nil
}

// settle loads what nothing waits for, and what hardware asks for that no event told of; it says which disk controllers
// have no driver then. Where another driver has taken the display since it was dressed it gets its font again.
func (m *machine) settle(shown string) {
	if m.loader == nil {
		return
	}
	m.loader.everything()
	if screenOf("/sys") != shown && !m.bare {
		m.note(dress(ramdisk.Display))
	}
	_ = m.loader.load(later...)
	lost := undriven("/sys")
	if len(lost) > 0 { // otherwise a module that failed matters to nobody
		lost = append(lost, m.loader.problems()...)
	}
	for _, p := range lost {
		m.note(errors.New(p))
	}
}

package first

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/zeebo/blake3"
	"golang.org/x/sys/unix"

	"twinshelf/internal/stick/base"
	"twinshelf/internal/stick/ramdisk"
)

func TestEvents(t *testing.T) {
	event := func(fields ...string) []byte { return []byte(strings.Join(fields, "\x00") + "\x00") }
	for want, e := range map[string][]byte{
		"usb:v1": event("add@/devices/x", "ACTION=add", "MODALIAS=usb:v1", "SEQNUM=7"),
		"pci:v2": event("add@/devices/y", "MODALIAS=pci:v2", "ACTION=add"),
	} {
		if got := added(e); got != want {
			t.Errorf("%q says %q", e, got)
		}
	}
	for _, e := range [][]byte{nil, event("remove@/x", "ACTION=remove", "MODALIAS=usb:v1"), event("ACTION=add")} {
		if got := added(e); got != "" {
			t.Errorf("%q says %q", e, got)
		}
	}
}

func TestConsoles(t *testing.T) {
	for line, want := range map[string]string{
		"quiet": "/dev/tty1", "console=ttyS0,115200 console=tty0": "/dev/tty1 /dev/ttyS0",
		"console=ttyS1 console=ttyS../x console=ttyUSB0": "/dev/tty1 /dev/ttyS1",
	} {
		var got []string
		for _, c := range consolesOf(line) {
			got = append(got, c.path)
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%q has consoles %v", line, got)
		}
	}
	if Is([]string{"/" + ramdisk.Program}) || !Asked([]string{"/" + ramdisk.Modprobe}) || Asked([]string{"twinshelf"}) {
		t.Error("a process is taken for another one")
	}
}

// TestChecked: what differs from the base that it was made of is named, and what isn't unpacked isn't looked for.
func TestChecked(t *testing.T) {
	root := t.TempDir()
	sum := blake3.Sum256([]byte("module"))
	m := base.Manifest{Pieces: []base.Piece{{Name: "lib/modules/6.1/a.ko", Sum: hex.EncodeToString(sum[:])},
		{Name: base.Shim, Sum: "00"}}}
	if _, err := manifest(root); err == nil || !strings.Contains(err.Error(), "can't be checked") {
		t.Errorf("without a list: %v", err)
	}
	b, err := json.Marshal(m)
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(root, "lib/modules/6.1/a.ko")
	for _, err := range []error{os.WriteFile(filepath.Join(root, ramdisk.Manifest), b, 0o600),
		os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, []byte("module"), 0o600)} {
		if err != nil {
			t.Fatal(err)
		}
	}
	list, err := manifest(root)
	if err != nil {
		t.Fatal(err)
	}
	l := &loader{dir: filepath.Join(root, "lib/modules/6.1")}
	l.compareWith(list)
	for name, p := range l.sums { // as if the root were the machine's
		l.sums[strings.TrimPrefix(filepath.Join(root, name), "/")] = p
	}
	if err := errors.Join(checked(t.Context(), root, list), l.compare("a.ko")); err != nil {
		t.Error(err)
	}
	if err := l.compare("b.ko"); err == nil || !strings.Contains(err.Error(), "the base doesn't have it") {
		t.Errorf("a module of somebody else's: %v", err)
	}
	if err := os.WriteFile(path, []byte("mod?le"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := checked(t.Context(), root, list); err == nil || !strings.Contains(err.Error(), "a.ko differs") {
		t.Errorf("a changed module: %v", err)
	}
	if err := l.compare("a.ko"); err == nil || !strings.Contains(err.Error(), "isn't loaded") {
		t.Errorf("a changed module is loaded: %v", err)
	}
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	if err := checked(ended, root, list); !errors.Is(err, context.Canceled) {
		t.Errorf("ended: %v", err)
	}
}

// TestReaping: processes that nobody waits for are reaped, and those that somebody waits for are left to them.
func TestReaping(t *testing.T) {
	if err := unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0); err != nil {
		t.Skip(err)
	}
	defer unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 0, 0, 0, 0)
	c := &children{own: map[int]bool{}}
	ctx, end := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { defer close(done); c.reap(ctx) }()
	pids := filepath.Join(t.TempDir(), "pids")
	if err := c.run(exec.Command("sh", "-c", "(sleep 0.1 & echo $! >"+pids+") & wait; exit 0")); err != nil {
		t.Error(err)
	}
	err := c.run(exec.Command("sh", "-c", "exit 7"))
	if e, ok := err.(*exec.ExitError); !ok || e.ExitCode() != 7 {
		t.Errorf("a process that is waited for ended with %v", err)
	}
	b, err := os.ReadFile(pids)
	if err != nil {
		t.Fatal(err)
	}
	gone := func() bool {
		_, err := os.Stat("/proc/" + strings.TrimSpace(string(b)))
		return err != nil
	}
	for until := time.Now().Add(time.Minute); !gone() && time.Now().Before(until); {
		time.Sleep(20 * time.Millisecond)
	}
	if !gone() {
		t.Error("an orphan is left")
	}
	end()
	<-done
}

// TestUndriven: disk controllers without a driver are named by their PCI IDs; what has one, or is something else,
// isn't.
func TestUndriven(t *testing.T) {
	sys := t.TempDir()
	device := func(at, class string, driven bool) {
		dir := filepath.Join(sys, "bus/pci/devices", at)
		if err := os.MkdirAll(dir, 0o755); err != nil {
			t.Fatal(err)
		}
		for name, text := range map[string]string{"class": class, "vendor": "0x8086", "device": "0x282a"} {
			if err := os.WriteFile(filepath.Join(dir, name), []byte(text+"\n"), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		if driven {
			if err := os.Symlink(sys, filepath.Join(dir, "driver")); err != nil {
				t.Fatal(err)
			}
		}
	}
	device("0000:00:17.0", "0x010400", false)
	device("0000:00:1f.2", "0x010601", true)
	device("0000:00:02.0", "0x030000", false)
	got := undriven(sys)
	if len(got) != 1 || !strings.Contains(got[0], "0000:00:17.0 (PCI ID 8086:282a)") {
		t.Errorf("%q", got)
	}
	if got := undriven(filepath.Join(sys, "nowhere")); len(got) != 0 {
		t.Errorf("where nothing is: %q", got)
	}
}

func TestMounts(t *testing.T) {
	got := mountedFrom(strings.NewReader("proc /proc proc rw 0 0\n/dev/sda3 /run/twinshelf/oak exfat rw 0 0\n" +
		"/dev/nvme0n1p2 /run/twinshelf/old\\040ferry ext4 ro 0 0\nbroken\n"))
	if strings.Join(got, "|") != "/run/twinshelf/old ferry|/run/twinshelf/oak" {
		t.Errorf("%q", got)
	}
}

// TestChildrenEndInGoodOrder: a program that is told to end gets the time to, and only it decides how.
func TestChildrenEndInGoodOrder(t *testing.T) {
	tty, err := os.OpenFile("/dev/null", os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer tty.Close()
	c := &children{own: map[int]bool{}}
	ctx, end := context.WithCancel(t.Context())
	done := filepath.Join(t.TempDir(), "done")
	cmd := onConsole(ctx, tty, "sh", []string{"-c", "trap 'echo whole >" + done + "; exit 0' TERM; echo x >" + done +
		".up; while :; do sleep 0.05; done"}, os.Environ())
	cmd.SysProcAttr = nil // there is no terminal here
	ended := make(chan error, 1)
	go func() { ended <- c.run(cmd) }()
	for until := time.Now().Add(time.Minute); time.Now().Before(until); time.Sleep(10 * time.Millisecond) {
		if _, err := os.Stat(done + ".up"); err == nil {
			break
		}
	}
	end()
	<-ended
	if b, err := os.ReadFile(done); err != nil || string(b) != "whole\n" {
		t.Errorf("it ended with %q, %v", b, err)
	}
}

// TestUrgent: what the stick, the screen and the keyboard need isn't left for later, and what takes long and can wait
// is.
func TestUrgent(t *testing.T) {
	for alias, want := range map[string]bool{
		"pci:v00008086d00007010sv00001AF4sd00001100bc01sc01i80": true,  // disks
		"pci:v0000144Dd0000A808sv0000144Dsd0000A801bc01sc08i02": true,  // NVMe
		"pci:v00001B36d0000000Dsv00001AF4sd00001100bc0Csc03i30": true,  // USB
		"pci:v00001234d00001111sv00001AF4sd00001100bc03sc00i00": true,  // a display
		"pci:v00001217d00008620sv00001028sd00000832bc08sc05i01": true,  // SD cards
		"pci:v00008086d000015D8sv00001028sd00000832bc02sc00i00": false, // a network
		"pci:v00008086d00007113sv00001AF4sd00001100bc06sc80i00": false, // a bridge to nothing that is needed
		"usb:v0781p5581d0100dc00dsc00dp00ic08isc06ip50in00":     true,
		"hid:b0003g0001v0000046Dp0000C31C":                      true,
		"scsi:t-0x00":                                           true, "scsi:t-0x05": false,
		"serio:ty06pr00id00ex00": true, "serio:ty01pr00id00ex00": false, "acpi:PNP0700:": false,
		"dmi:bvnSeaBIOS:": false,
		"cpu:type:x86,ven0002fam000Fmod006B:feature:,0000": false,
	} {
		if got := urgent(alias); got != want {
			t.Errorf("%s: %v", alias, got)
		}
	}
}

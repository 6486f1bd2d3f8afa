package drive

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/ready"
	"twinshelf/internal/stick/base"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// newest is the newest kernel of those that are installed here by a package.
func newest(t *testing.T, pattern, pkg string) string {
	t.Helper()
	kernels, _ := filepath.Glob("/boot/vmlinuz-" + pattern)
	if len(kernels) == 0 {
		testkit.Lacks(t, pkg)
	}
	return strings.TrimPrefix(kernels[len(kernels)-1], "/boot/vmlinuz-")
}

// stick makes a stick of the packages that are installed here, with the program and a kernel, as an image.
func stick(t *testing.T, kernel string, size int64, data Data) string {
	t.Helper()
	program := filepath.Join(t.TempDir(), "twinshelf")
	c := exec.Command("go", "build", "-o", program, "twinshelf/cmd/twinshelf")
	c.Env = append(c.Environ(), "CGO_ENABLED=0")
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	b, err := os.ReadFile(program)
	if err != nil {
		t.Fatal(err)
	}
	var made bytes.Buffer
	if _, err := base.Collect(t.Context(), &made, base.Installed("/"), kernel, time.Now()); err != nil {
		t.Fatal(err)
	}
	s, err := Read(t.Context(), &made, b)
	if err != nil {
		t.Fatal(err)
	}
	img := testkit.Image(t, "stick.img", size)
	dev, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer dev.Close()
	d := ready.Anew(surveyed(t, dev), 0, table.GPT)
	if err := s.Lay(d, data); err != nil {
		t.Fatal(err)
	}
	p, err := d.Plan(t.Context(), dev, disk.Target{})
	if err != nil {
		t.Fatal(err)
	}
	for _, step := range p.Steps {
		testkit.Write(t, img, step.Patches)
	}
	return img
}

// escapes are what a terminal does beside showing letters.
var escapes = regexp.MustCompile(`\x1b(\[[0-9;?<>=]*[a-zA-Z$]|\][^\x07\x1b]*(\x07|\x1b\\)|[()=>][0-9A-B]?)`)

// TestStarts: the stick, as a USB drive, starts machines with a BIOS, and with UEFI and Secure Boot enforced; Twin
// Shelf is the first process, and shows the machine's disk on the serial line; it is left there, and the
// machine switched off.
func TestStarts(t *testing.T) {
	testkit.Need(t, "qemu-system-x86_64")
	img := stick(t, newest(t, "*-cloud-amd64", "linux-image-cloud-amd64"), 600*units.MiB, Data{})
	customer := testkit.Image(t, "customer.img", 64*units.MiB)
	testkit.WriteTable(t, customer, table.Layout{Kind: table.MBR, Sector: 512, ID: "00c0ffee"}, 64*units.MiB)
	const firmware, vars = "/usr/share/OVMF/OVMF_CODE_4M.secboot.fd", "/usr/share/OVMF/OVMF_VARS_4M.ms.fd"
	b, err := os.ReadFile(vars)
	if err != nil {
		testkit.Lacks(t, "ovmf")
	}
	mine := filepath.Join(t.TempDir(), "vars.fd")
	if err := os.WriteFile(mine, b, 0o600); err != nil {
		t.Fatal(err)
	}
	for name, args := range map[string][]string{
		"BIOS": {"-machine", "pc"},
		"UEFI with Secure Boot": {"-machine", "q35,smm=on", "-global", "driver=cfi.pflash01,property=secure,value=on",
			"-drive", "if=pflash,format=raw,readonly=on,file=" + firmware, "-drive", "if=pflash,format=raw,file=" +
				mine},
	} {
		t.Run(name, func(t *testing.T) {
			for range 4 { // the emulator may fail
				m := start(t, append(args, "-drive", "if=none,id=u,format=raw,snapshot=on,file="+img, "-device",
					"qemu-xhci", "-device", "usb-storage,drive=u,bootindex=0", "-drive",
					"if=none,id=n,format=raw,snapshot=on,file="+customer, "-device",
					"nvme,drive=n,serial=CUSTOMER-7731")...)
				m.await("THIS MACHINE")
				m.types("1")
				m.await("QEMU NVMe Ctrl", "…7731|»7731")
				m.types("q")
				m.await("leave the full screen")
				m.types("\x1b[F\r") // to the last choice
				m.await("Twin Shelf was left")
				m.types("off\r")
				if m.ends(); !m.failed {
					return
				}
			}
			t.Fatal("the emulator failed each time")
		})
	}
}

// emulatorsOwn is what a kernel says where the emulator was too slow for the machine's timer: nobody's fault but its.
const emulatorsOwn = "IO-APIC + timer doesn't work"

// within is how long a machine gets to say what is waited for: a loaded one takes ten times as long as a quiet one.
const within = 10 * time.Minute

// machine is an emulated one, driven over its serial line.
type machine struct {
	t    *testing.T
	line serial
	keys io.WriteCloser
	off  chan error
	stop context.CancelFunc
	// seen is how much of what it said was looked at: what is waited for is said after that.
	seen int
	// failed says that the emulator did, and not what runs in it.
	failed bool
}

// processors are those of an emulated machine. With a single one, what wakes a Go program's threads while another waits
// for a drive takes most of its time, which on real machines nobody notices.
const processors = "2"

func start(t *testing.T, args ...string) *machine {
	t.Helper()
	qemu, err := testkit.Path("qemu-system-x86_64")
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithTimeout(t.Context(), 3*within)
	c := exec.CommandContext(ctx, qemu, append([]string{"-m", "1024", "-display", "none", "-serial", "stdio",
		"-no-reboot", "-net", "none", "-accel", "tcg", "-cpu", "max", "-smp", processors}, args...)...)
	m := &machine{t: t, off: make(chan error, 1), stop: stop}
	c.Stdout, c.Stderr = &m.line, &m.line
	if m.keys, err = c.StdinPipe(); err == nil {
		err = c.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	go func() { m.off <- c.Wait() }()
	t.Cleanup(stop)
	return m
}

// await waits until the machine has said all that is wanted since the last keys were typed.
func (m *machine) await(wants ...string) {
	m.t.Helper()
	if said := m.within(within, wants...); !m.failed && !all(said, wants) {
		m.stop()
		m.t.Fatalf("%q was waited for in %v; the machine said:\n%s", wants, within, m.line.said())
	}
}

// within waits for that so long, and gives what was said since the last keys.
func (m *machine) within(long time.Duration, wants ...string) (said string) {
	m.t.Helper()
	began := time.Now()
	for ; time.Since(began) < long && !m.failed; time.Sleep(200 * time.Millisecond) {
		whole := m.line.said()
		if said = whole[min(m.seen, len(whole)):]; all(said, wants) {
			m.t.Logf("%v until %q", time.Since(began).Round(time.Second), wants)
			return said
		}
		if strings.Contains(whole, emulatorsOwn) {
			m.failed = true
			m.stop()
			<-m.off
		}
	}
	return said
}

// patience is how long a key gets to show something: what is refused as before leaves the screen as it was.
const patience = time.Minute

// insists types keys until what is wanted is said; each time they may be refused, as long as the disks are looked at.
func (m *machine) insists(keys, want, refusal string) {
	m.t.Helper()
	for until := time.Now().Add(within); time.Now().Before(until); {
		m.types(keys)
		m.within(patience, want+"|"+refusal)
		// A refusal may have been said before the keys came.
		if said := m.within(3*time.Second, want); m.failed || all(said, []string{want}) {
			return
		}
	}
	if !m.failed {
		m.t.Fatalf("%q doesn't come to %q:\n%s", keys, want, m.line.said())
	}
}

// types types keys, and looks from now on at what is said after them.
func (m *machine) types(keys string) {
	if !m.failed {
		m.seen = len(m.line.said())
		fmt.Fprint(m.keys, keys)
	}
}

// ends waits until the machine has switched itself off.
func (m *machine) ends() {
	m.t.Helper()
	if m.failed {
		return
	}
	select {
	case err := <-m.off:
		if err != nil {
			m.t.Errorf("the machine didn't switch itself off (%v):\n%s", err, m.line.said())
		}
	case <-time.After(within):
		m.t.Errorf("the machine goes on:\n%s", m.line.said())
	}
}

func all(said string, wants []string) bool {
	for _, w := range wants {
		if !regexp.MustCompile(w).MatchString(said) {
			return false
		}
	}
	return true
}

// serial is what a machine says on its serial line.
type serial struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *serial) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

// said is that without what a terminal does beside showing letters, and with one space for many.
func (s *serial) said() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return strings.Join(strings.Fields(escapes.ReplaceAllString(s.b.String(), " ")), " ")
}

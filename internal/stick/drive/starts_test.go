package drive

import (
	"bytes"
	"context"
	"fmt"
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

// stick makes a stick of the packages that are installed here, with the program, as an image.
func stick(t *testing.T) string {
	t.Helper()
	kernels, _ := filepath.Glob("/boot/vmlinuz-*-cloud-amd64")
	if len(kernels) == 0 {
		testkit.Lacks(t, "linux-image-cloud-amd64")
	}
	dir := t.TempDir()
	program := filepath.Join(dir, "twinshelf")
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
	if _, err := base.Collect(t.Context(), &made, base.Installed("/"), strings.TrimPrefix(kernels[0], "/boot/vmlinuz-"),
		time.Now()); err != nil {
		t.Fatal(err)
	}
	s, err := Read(t.Context(), &made, b)
	if err != nil {
		t.Fatal(err)
	}
	img := testkit.Image(t, "stick.img", 600*units.MiB)
	dev, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer dev.Close()
	d := ready.Anew(surveyed(t, dev), 0, table.GPT)
	if err := s.Lay(d, Data{}); err != nil {
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
	img := stick(t)
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
			said := screenOf(t, append(args, "-drive", "if=none,id=u,format=raw,snapshot=on,file="+img, "-device",
				"qemu-xhci", "-device", "usb-storage,drive=u,bootindex=0", "-drive",
				"if=none,id=n,format=raw,snapshot=on,file="+customer, "-device", "nvme,drive=n,serial=CUSTOMER-7731"),
				"QEMU NVMe Ctrl", "…7731|»7731")
			if !strings.Contains(said, "1 Bench") {
				t.Errorf("the full screen isn't there:\n%s", said)
			}
		})
	}
}

// emulatorsOwn is what a kernel says where the emulator was too slow for the machine's timer: nobody's fault but its.
const emulatorsOwn = "IO-APIC + timer doesn't work"

// screenOf starts a machine, again where the emulator failed, waits until its serial line has said all that is wanted,
// and gives what it said.
func screenOf(t *testing.T, args []string, wants ...string) string {
	t.Helper()
	said := ""
	for range 4 {
		var ok bool
		if said, ok = screenOnce(t, args, wants...); ok {
			return said
		}
	}
	t.Fatalf("the emulator failed each time:\n%s", said)
	return ""
}

func screenOnce(t *testing.T, args []string, wants ...string) (said string, ok bool) {
	t.Helper()
	const within = 10 * time.Minute // a loaded machine takes ten times as long as a quiet one
	ctx, cancel := context.WithTimeout(t.Context(), within)
	defer cancel()
	qemu, err := testkit.Path("qemu-system-x86_64")
	if err != nil {
		t.Fatal(err)
	}
	c := exec.CommandContext(ctx, qemu, append([]string{"-m", "1024", "-display", "none", "-serial", "stdio",
		"-no-reboot", "-net", "none", "-accel", "tcg", "-cpu", "max"}, args...)...)
	line := &serial{}
	c.Stdout, c.Stderr = line, line
	keys, err := c.StdinPipe()
	if err == nil {
		err = c.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	off := make(chan error, 1)
	go func() { off <- c.Wait() }()
	await := func(wants ...string) bool {
		for ctx.Err() == nil {
			said = line.said()
			if all(said, wants) {
				return true
			}
			if strings.Contains(said, emulatorsOwn) {
				cancel()
				<-off
				return false
			}
			time.Sleep(time.Second)
		}
		<-off
		t.Fatalf("%v was waited for in %v; the machine said:\n%s", wants, within, said)
		return false
	}
	if !await(wants...) {
		return said, false
	}
	said = line.said()
	fmt.Fprint(keys, "q")
	if !await("Twin Shelf was left") {
		return said, false
	}
	fmt.Fprint(keys, "off\r")
	if err := <-off; err != nil {
		t.Errorf("the machine didn't switch itself off (%v):\n%s", err, line.said())
	}
	return said, true
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

// said is that without what a terminal does beside showing letters.
func (s *serial) said() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return escapes.ReplaceAllString(s.b.String(), " ")
}

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
	"runtime/debug"
	"strings"
	"sync"
	"testing"
	"time"
	"unicode"
	"unicode/utf8"

	"twinshelf/internal/disk"
	"twinshelf/internal/ready"
	"twinshelf/internal/stick/base"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
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
	defer debug.FreeOSMemory() // the emulator needs it
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
// for a drive takes most of its time, which on real machines nobody notices. They take turns in one thread: where each
// has its own, and other tests need the cores as well, each waits for what the other holds while it isn't running.
const (
	processors  = "2"
	accelerator = "tcg,thread=single"
)

func start(t *testing.T, args ...string) *machine {
	t.Helper()
	qemu, err := testkit.Path("qemu-system-x86_64")
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithTimeout(t.Context(), 3*within)
	c := exec.CommandContext(ctx, qemu, append([]string{"-m", "1024", "-display", "none", "-serial", "stdio",
		"-no-reboot", "-net", "none", "-accel", accelerator, "-cpu", "max", "-smp", processors}, args...)...)
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

// serial is what a machine says on its serial line, without what a terminal does beside showing letters, and with one
// space for many.
type serial struct {
	mu    sync.Mutex
	b     []byte // isn't in clean yet
	clean strings.Builder
	space bool // clean ends with one
}

// longestEscape is how long what a terminal does is at the most, in bytes: so much may come in two pieces.
const longestEscape = 64

func (s *serial) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.b = append(s.b, p...)
	return len(p), nil
}

func (s *serial) said() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	n := len(s.b)
	if i := bytes.LastIndexByte(s.b, 0x1b); i >= 0 && n-i < longestEscape {
		if at := escapes.FindIndex(s.b[i:]); at == nil || at[0] > 0 {
			n = i
		}
	}
	for i := 1; i < utf8.UTFMax && i <= n; i++ {
		if utf8.RuneStart(s.b[n-i]) && !utf8.FullRune(s.b[n-i:n]) {
			n -= i
			break
		}
	}
	for _, r := range string(escapes.ReplaceAll(s.b[:n], []byte(" "))) {
		if blank := unicode.IsSpace(r); !blank {
			s.clean.WriteRune(r)
			s.space = false
		} else if !s.space {
			s.clean.WriteByte(' ')
			s.space = true
		}
	}
	s.b = append(s.b[:0], s.b[n:]...)
	return s.clean.String()
}

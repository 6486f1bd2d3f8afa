package tui

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/demotest"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/stick/base"
	"twinshelf/internal/stick/ramdisk"
	"twinshelf/internal/store"
	"twinshelf/internal/workshop"
)

// hosted is the screen on a machine that was started from a stick made at a time: UEFI firmware with an entry for the
// old system, as files below a root.
func hosted(t *testing.T, made time.Time) (tea.Model, string) {
	t.Helper()
	t.Setenv(ramdisk.Console, ramdisk.Display)
	t.Setenv(ramdisk.Keyboard, "de")
	root := t.TempDir()
	manifest, err := json.Marshal(base.Manifest{Made: made})
	if err != nil {
		t.Fatal(err)
	}
	const vendor = "-8be4df61-93ca-11d2-aa0d-00e098032b8c"
	vars := "sys/firmware/efi/efivars/"
	for name, b := range map[string][]byte{
		ramdisk.Manifest:                         manifest,
		"sys/class/dmi/id/sys_vendor":            []byte("Ternworks\n"),
		"sys/class/dmi/id/product_name":          []byte("W2\n"),
		"sys/class/power_supply/BAT0/type":       []byte("Battery\n"),
		"sys/class/power_supply/BAT0/capacity":   []byte("41\n"),
		"sys/firmware/efi/fw_platform_size":      []byte("64\n"),
		vars + "SecureBoot" + vendor:             {6, 0, 0, 0, 1},
		vars + "BootOrder" + vendor:              {7, 0, 0, 0, 3, 0},
		vars + "OsIndicationsSupported" + vendor: {7, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0},
		vars + "Boot0003" + vendor: append([]byte{7, 0, 0, 0, 1, 0, 0, 0, 4, 0},
			"o\x00l\x00d\x00\x00\x00\x7f\xff\x04\x00"...),
		"proc/bus/input/devices": []byte("H: Handlers=sysrq kbd event1 leds \nB: KEY=4 " +
			"3803078f800d001 feffffdfffefffff fffffffffffffffe\n"),
	} {
		path := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, b, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	b := demotest.Bench(t)
	w, err := workshop.New(b.State, []string{b.Disks}, false)
	if err != nil {
		t.Fatal(err)
	}
	w.Bench.Started, w.Bench.Host.Root = true, root
	m := newModel(t.Context(), w)
	m.patience = time.Millisecond
	return does(feed(m, tea.WindowSizeMsg{Width: 80, Height: 24}), m.Init()), root
}

func says(t *testing.T, m tea.Model, words ...string) {
	t.Helper()
	all := strings.Join(strings.Fields(text(m)), " ")
	for _, w := range words {
		if !strings.Contains(all, w) {
			t.Errorf("nothing is said of %q:\n%s", w, text(m))
		}
	}
}

// TestWelcome: a machine that was started from a stick begins with what it is, its clock, and what to put right.
func TestWelcome(t *testing.T) {
	m, root := hosted(t, time.Now().Add(48*time.Hour))
	says(t, m, "THIS MACHINE", "Ternworks W2", "Started by UEFI, Secure Boot on", "! Power: on battery, 41 % full",
		"‼ It can't be right: the stick was made on", "None yet: attach a drive with a shelf")
	says(t, feed(m, tea.WindowSizeMsg{Width: 80, Height: 40}), "KEYBOARD German", "This stick has no data part in "+
		"reach")
	for _, size := range [][2]int{{80, 24}, {120, 36}, {240, 67}, {100, 30}} {
		feed(m, tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		lines := strings.Split(text(m), "\n")
		if len(lines) > size[1] {
			t.Errorf("%v: %d lines", size, len(lines))
		}
		for _, l := range lines {
			if ansi.StringWidth(l) > size[0] {
				t.Errorf("%v: %q is too wide", size, l)
			}
		}
	}
	mm := m.(*model)
	mm.welcomePage.found = []workshop.FoundShelf{{ID: "1", Name: "Oak", Drive: "Plover P5", Twins: 12, Mine: 3,
		Newest: time.Now()}, {ID: "2", Name: "Ash", Drive: "Dunlin D", Sealed: true}}
	says(t, key(m, "down"), "Oak", "12 twins, 3 of disks that are attached here", "sealed: its passphrase is asked for",
		"Enter work with Ash")
	says(t, key(m, "t"), "keyboard: German")
	says(t, key(m, "esc", "y"), "Which keyboard does this machine have", "▶ German", "Portuguese (Brazil)")
	says(t, key(m, "esc", "1", "0"), "THIS MACHINE")
	mm.welcomePage.stick.Records = true
	if got := savedIn(mm, "sheet.pdf"); got != filepath.Join(ramdisk.Records, "sheet.pdf") {
		t.Errorf("papers go to %s", got)
	}
	// Nothing is captured by a clock that can't be right.
	_, err := mm.w.PlanCapture(t.Context(), "Kiosk", nil, nil, nil)
	if err != nil && strings.Contains(err.Error(), "clock") {
		t.Errorf("without a shelf: %v", err)
	}
	if err := mm.w.SetClock("2001-01-01 00:00"); err == nil || !strings.Contains(err.Error(), "which is later") {
		t.Errorf("a clock before the stick: %v", err)
	}
	if err := os.RemoveAll(filepath.Join(root, "sys/firmware")); err != nil {
		t.Fatal(err)
	}
	mm.welcomePage.opened()
	says(t, key(m, "e"), "started by a BIOS, which keeps no start entries")
}

// TestEnding: leaving asks what the machine should do.
func TestEnding(t *testing.T) {
	m, _ := hosted(t, time.Now().Add(-time.Hour))
	says(t, key(m, "q"), "switch the machine off", "restart it into the firmware's set-up", "leave the full screen")
	if key(m, "esc"); m.(*model).menus.menu != nil {
		t.Error("the question stays")
	}
	m.(*model).w.Bench.Host.Root = t.TempDir()
	says(t, key(m, "q", "down", "down", "enter"), "can't be chosen", "not by itself; this firmware doesn't open "+
		"its set-up", "often F2")
}

// TestStartEntries: the entries are shown in their order; one for a disk comes first, and is taken back without a
// trace.
func TestStartEntries(t *testing.T) {
	m, root := hosted(t, time.Now().Add(-time.Hour))
	order := filepath.Join(root, "sys/firmware/efi/efivars/BootOrder-8be4df61-93ca-11d2-aa0d-00e098032b8c")
	was, err := os.ReadFile(order)
	if err != nil {
		t.Fatal(err)
	}
	m = feed(m, tea.WindowSizeMsg{Width: 120, Height: 36})
	m = key(m, "e")
	says(t, m, "What the firmware starts, in this order", "1 old", "Should the firmware start one of these", `\EFI\`)
	now, err := os.ReadFile(order)
	if err != nil || !bytes.Equal(now, was) {
		t.Fatalf("looking at them changed them: % x", now)
	}
	m = key(m, "enter")
	if now, err = os.ReadFile(order); err != nil || len(now) != len(was)+2 || !bytes.Equal(now[6:], was[4:]) {
		t.Fatalf("the order is % x, %v:\n%s", now, err, text(m))
	}
	says(t, m, "is the first that the firmware starts")
	m = key(m, "e", "G", "enter")
	if now, err = os.ReadFile(order); err != nil || !bytes.Equal(now, was) {
		t.Errorf("taken back the order is % x, %v:\n%s", now, err, text(m))
	}
}

// TestShelfTakenAway: a shelf whose drive is gone is closed and said to be, unless another one is open by then.
func TestShelfTakenAway(t *testing.T) {
	m, _ := hosted(t, time.Now())
	mm := m.(*model)
	open := func() *shelf.Shelf {
		s, err := shelf.Create(t.Context(), filepath.Join(t.TempDir(), "oak"), store.New{Name: "Oak"})
		if err != nil {
			t.Fatal(err)
		}
		mm.w.Use(t.Context(), s)
		return s
	}
	before, now := open(), open()
	mm.welcomePage.found = []workshop.FoundShelf{{ID: "1", Name: "Oak", Folder: "/a"}, {ID: "2", Folder: "/b"}}
	m = feed(m, letGone{lost: before, folders: map[string]bool{"/a": true}})
	if mm.w.Shelf != now || len(mm.welcomePage.found) != 1 || mm.welcomePage.found[0].ID != "2" {
		t.Errorf("another shelf was taken away: %v", mm.welcomePage.found)
	}
	m = feed(m, letGone{lost: now})
	if mm.w.Shelf != nil || len(mm.w.Bench.OpenShelves()) > 0 {
		t.Error("the shelf stays open")
	}
	says(t, m, "The drive with the shelf Oak was taken away: the shelf is closed.")
}

// TestWhatIsWrongComesFirst: what the stick's own check found stands before everything else on the page.
func TestWhatIsWrongComesFirst(t *testing.T) {
	m, _ := hosted(t, time.Now())
	m.(*model).welcomePage.problems = []string{"What was started isn't what the stick was made with."}
	all := text(m)
	at, machine := strings.Index(all, "‼ What was started isn't"), strings.Index(all, "THIS MACHINE")
	if at < 0 || at > machine {
		t.Errorf("it stands at %d, and the machine at %d:\n%s", at, machine, all)
	}
}

// TestNoOtherShelfDuringWork: while work goes on the shelf that it works with stays the open one.
func TestNoOtherShelfDuringWork(t *testing.T) {
	m, _ := hosted(t, time.Now())
	mm := m.(*model)
	mm.welcomePage.found = []workshop.FoundShelf{{ID: "1", Name: "Oak", Folder: "/a"}}
	hold := make(chan struct{})
	defer close(hold)
	mm.runPage.start(work{run: run.Start(t.Context(), "Capture of Weighbridge", []string{"read"}, nil,
		func(*run.Context) error { <-hold; return nil })})
	m = key(m, "0")
	says(t, key(m, "enter"), "A run is under way already")
	says(t, key(m, "o"), "A run is under way already")
}

package workshop

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"twinshelf/internal/demotest"
	"twinshelf/internal/routine"
	"twinshelf/internal/testkit"
)

// TestService: the files are such that systemd takes them, also with odd names of folders; they are written and
// switched on, and taken away without a trace; what was edited by hand is left; without systemd nothing is written.
func TestService(t *testing.T) {
	testkit.Need(t, "systemd-analyze")
	dir := t.TempDir()
	tools := filepath.Join(dir, "tools")
	at := routine.Places{Units: filepath.Join(dir, "units"), Rules: filepath.Join(dir, "rules")}
	for _, d := range []string{tools, filepath.Join(dir, "a $tate, 100 % \"odd\"")} {
		if err := os.Mkdir(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	s := &Service{Units: routine.Units(at, "/bin/true", filepath.Join(dir, "a $tate, 100 % \"odd\""), 252),
		System: true}
	var none *NoSystemd
	if err := s.Install(t.Context()); !errors.As(err, &none) || s.Installed() {
		t.Errorf("without systemd: %v", err)
	}
	if _, err := os.Stat(at.Units); err == nil {
		t.Error("without systemd files are written")
	}
	s.Booted = true
	calls := filepath.Join(dir, "calls")
	systemctl(t, tools, "echo \"$@\" >> "+calls)
	if err := s.Install(t.Context()); err != nil || !s.Installed() {
		t.Fatalf("%v, installed: %v", err, s.Installed())
	}
	var units []string
	for _, u := range s.Units {
		if st, err := os.Stat(u.Path); err != nil || st.Mode().Perm() != 0o644 {
			t.Errorf("%s: %v", u.Path, err)
		}
		if !strings.HasSuffix(u.Path, ".rules") {
			units = append(units, u.Path)
		}
	}
	if said := testkit.Do(t, "systemd-analyze", append([]string{"verify"},
		units...)...); strings.TrimSpace(said) != "" {
		t.Errorf("systemd says: %s", said)
	}
	text, err := os.ReadFile(s.Units[0].Path)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(s.Units[0].Path, append(text, "Nice=19\n"...), 0o644); err != nil {
		t.Fatal(err)
	}
	var edited *Edited
	for what, do := range map[string]error{"installed": s.Install(t.Context()), "removed": s.Remove(t.Context())} {
		if !errors.As(do, &edited) || !slices.Equal(edited.Paths, []string{s.Units[0].Path}) {
			t.Errorf("edited by hand and %s: %v", what, do)
		}
	}
	if err := os.WriteFile(s.Units[0].Path, text, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := s.Remove(t.Context()); err != nil {
		t.Fatal(err)
	}
	for _, u := range s.Units {
		if _, err := os.Stat(u.Path); !errors.Is(err, os.ErrNotExist) {
			t.Errorf("%s is still there", u.Path)
		}
	}
	said, err := os.ReadFile(calls)
	want := "daemon-reload\nenable --now twinshelf-routines.timer\ndisable --now " +
		"twinshelf-routines.timer\ndaemon-reload\n"
	if err != nil || string(said) != want {
		t.Errorf("%s, %v", said, err)
	}
	systemctl(t, tools, "echo no bus >&2; exit 1")
	if err := s.Install(t.Context()); !errors.As(err, &none) || none.Says != "no bus" {
		t.Errorf("where systemd refuses: %v", err)
	}
}

// systemctl puts a stand-in for systemd's own tool before it.
func systemctl(t *testing.T, dir, does string) {
	t.Helper()
	if err := os.WriteFile(filepath.Join(dir, "systemctl"), []byte("#!/bin/sh\n"+does+"\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
}

// userManager starts a real systemd for a person, and has systemctl talk to it. The machine needn't be run by systemd:
// it sees a folder of its own that says so.
func userManager(t *testing.T) {
	t.Helper()
	testkit.Root(t)
	const manager = "/lib/systemd/systemd"
	if _, err := os.Stat(manager); err != nil {
		testkit.Lacks(t, "systemd")
	}
	dir := t.TempDir()
	t.Setenv("XDG_RUNTIME_DIR", dir)
	t.Setenv("XDG_CONFIG_HOME", filepath.Join(dir, "config"))
	t.Setenv("HOME", dir)
	t.Setenv("DBUS_SESSION_BUS_ADDRESS", "")
	log, err := os.Create(filepath.Join(dir, "log"))
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	cmd := exec.Command("unshare", "--mount", "sh", "-c", "mount -t tmpfs tmpfs /run && mkdir -p /run/systemd/system "+
		"&& exec "+manager+" --user")
	cmd.Env = append(os.Environ(), "SYSTEMD_LOG_TARGET=console")
	cmd.Stdout, cmd.Stderr = log, log
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
	})
	for end := time.Now().Add(2 * time.Minute); ; time.Sleep(100 * time.Millisecond) {
		out, err := exec.Command("systemctl", "--user", "show-environment").CombinedOutput()
		if err == nil {
			return
		}
		if time.Now().After(end) {
			said, _ := os.ReadFile(log.Name())
			t.Fatalf("systemd doesn't come up: %s%s", out, said)
		}
	}
}

// TestServiceRuns: a real systemd takes the files, runs what is due by them, has the timer wait for the next minute,
// and forgets all of it when they are removed.
func TestServiceRuns(t *testing.T) {
	w, _ := ferry(t)
	userManager(t)
	r := saved(t, w, "shelf: "+w.Shelf.Place()+"\ndo: check 1 %\nwhen: when older than 1 hour\n")
	r.Machine, r.Disks = "", nil
	if err := w.Routines().Save(r, time.Now()); err != nil {
		t.Fatal(err)
	}
	state := filepath.Join(t.TempDir(), "a $tate, 100 % \"odd\"")
	if err := os.Mkdir(state, 0o755); err != nil {
		t.Fatal(err)
	}
	testkit.Do(t, "cp", "-r", w.State.Folder(), filepath.Join(state, "twinshelf"))
	program := filepath.Join(t.TempDir(), "twin $helf, 100 %")
	testkit.Do(t, "cp", demotest.Program(t), program)
	s := &Service{Units: routine.Units(routine.PlacesOf(false, os.Getenv("XDG_CONFIG_HOME")), program, state,
		systemdVersion(t.Context())), Booted: true}
	if err := s.Install(t.Context()); err != nil || !s.Installed() {
		t.Fatal(err)
	}
	if said := testkit.Do(t, "systemctl", "--user", "is-active",
		routine.TimerUnit); strings.TrimSpace(said) != "active" {
		t.Errorf("the timer is %s", said)
	}
	at := routine.PlacesOf(false, os.Getenv("XDG_CONFIG_HOME"))
	if !switchedOn(at) {
		t.Error("it isn't seen that the timer is on")
	}
	testkit.Do(t, "systemctl", "--user", "start", routine.ServiceUnit) // returns when it has ended
	h, _, err := routine.NewBook(filepath.Join(state, "twinshelf/routines")).History(r.Name)
	if err != nil || len(h) != 1 || h[0].Outcome != routine.Done || h[0].Slot.IsZero() {
		t.Errorf("%+v %v", h, err)
	}
	if err := s.Remove(t.Context()); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("systemctl", "--user", "cat", routine.TimerUnit).CombinedOutput(); err == nil {
		t.Errorf("it is still known: %s", out)
	}
	if switchedOn(at) {
		t.Error("the timer still counts as on")
	}
	left, err := filepath.Glob(filepath.Join(os.Getenv("XDG_CONFIG_HOME"), "systemd/user/*/*twinshelf*"))
	if err != nil || len(left) > 0 {
		t.Errorf("%q is left, %v", left, err)
	}
}

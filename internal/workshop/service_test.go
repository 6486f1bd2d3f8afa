package workshop

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

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
	s := &Service{Units: routine.Units(at, "/bin/true", filepath.Join(dir, "a $tate, 100 % \"odd\"")), System: true}
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

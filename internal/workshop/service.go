package workshop

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/adrg/xdg"

	"twinshelf/internal/durable"
	"twinshelf/internal/routine"
)

// Service is what has systemd run routines.
type Service struct {
	Units  []routine.Unit
	System bool // of the machine, not of a person
	Booted bool // systemd runs this machine
}

// Service is what would be installed: for the machine where the person is root, otherwise for the person.
func (w *room) Service(ctx context.Context) (*Service, error) {
	program, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("where this program lies can't be told: %w", err)
	}
	if strings.ContainsAny(program, "\"'\\\n") {
		return nil, fmt.Errorf("systemd starts no program with quotes or backslashes in its path: move %s elsewhere",
			program)
	}
	state, err := filepath.Abs(filepath.Dir(w.State.Folder()))
	if err != nil {
		return nil, err
	}
	return &Service{routine.Units(places(), program, state, systemdVersion(ctx)), os.Geteuid() == 0, booted()}, nil
}

// places are those of the machine where the person is root, otherwise those of the person.
func places() routine.Places { return routine.PlacesOf(os.Geteuid() == 0, xdg.ConfigHome) }

// booted says whether systemd runs this machine (sd_booted(3)).
func booted() bool {
	_, err := os.Stat("/run/systemd/system")
	return err == nil
}

// switchedOn says whether the timer is wanted at each start: switching it on makes a link (systemctl(1), "enable").
func switchedOn(at routine.Places) bool {
	_, err := os.Stat(filepath.Join(at.Units, "timers.target.wants", routine.TimerUnit))
	return err == nil
}

// systemdVersion is that of the systemd that is installed; 0 where it isn't told.
func systemdVersion(ctx context.Context) int {
	out, err := exec.CommandContext(ctx, "systemctl", "--version").Output()
	if err != nil {
		return 0
	}
	var n int
	_, _ = fmt.Sscanf(string(out), "systemd %d", &n) // 0 where it says something else
	return n
}

// edited are the files that are there and weren't made here, or were changed since.
func (s *Service) edited() (out []string, err error) {
	for _, u := range s.Units {
		b, err := os.ReadFile(u.Path)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if !routine.Ours(string(b)) {
			out = append(out, u.Path)
		}
	}
	return out, nil
}

// Edited means that files would be overwritten or removed that somebody changed by hand.
type Edited struct{ Paths []string }

func (e *Edited) Error() string {
	return strings.Join(e.Paths, " and ") + " was edited by hand and is left as it is; move it away, or keep it as " +
		"it is"
}

// Installed says whether all of it is there as it would be made now.
func (s *Service) Installed() bool {
	for _, u := range s.Units {
		if b, err := os.ReadFile(u.Path); err != nil || string(b) != u.Text {
			return false
		}
	}
	return true
}

// Install writes the files and has systemd use them. What was edited by hand isn't touched.
func (s *Service) Install(ctx context.Context) error {
	if !s.Booted {
		return &NoSystemd{"nothing is installed", "systemd doesn't run this machine"}
	}
	if edited, err := s.edited(); err != nil || len(edited) > 0 {
		return orEdited(err, edited)
	}
	for _, u := range s.Units {
		if err := os.MkdirAll(filepath.Dir(u.Path), 0o755); err != nil {
			return err
		}
		if err := durable.Replace(u.Path, []byte(u.Text)); err != nil {
			return fmt.Errorf("%s can't be written: %w", u.Path, err)
		}
		if err := os.Chmod(u.Path, 0o644); err != nil {
			return err
		}
	}
	return s.systemd(ctx, []string{"daemon-reload"}, []string{"enable", "--now", routine.TimerUnit})
}

// Remove takes all of it away again. What was edited by hand isn't touched.
func (s *Service) Remove(ctx context.Context) error {
	if edited, err := s.edited(); err != nil || len(edited) > 0 {
		return orEdited(err, edited)
	}
	var off error
	if s.Booted {
		off = s.systemd(ctx, []string{"disable", "--now", routine.TimerUnit})
	}
	for _, u := range s.Units {
		if err := os.Remove(u.Path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("%s can't be removed: %w", u.Path, err)
		}
	}
	if off != nil || !s.Booted {
		return off
	}
	return s.systemd(ctx, []string{"daemon-reload"})
}

func orEdited(err error, edited []string) error {
	if err != nil {
		return err
	}
	return &Edited{edited}
}

// NoSystemd means that systemd didn't do what it was asked.
type NoSystemd struct {
	Call string
	Says string
}

func (e *NoSystemd) Error() string {
	return fmt.Sprintf("%s: %s; without systemd \"twinshelf routine watch\" does the same", e.Call, e.Says)
}

// systemd calls systemctl, one call after the other.
func (s *Service) systemd(ctx context.Context, calls ...[]string) error {
	for _, args := range calls {
		if !s.System {
			args = append([]string{"--user"}, args...)
		}
		out, err := exec.CommandContext(ctx, "systemctl", args...).CombinedOutput()
		if err != nil {
			says := strings.TrimSpace(string(out))
			if says == "" {
				says = err.Error()
			}
			return &NoSystemd{"systemctl " + strings.Join(args, " "), says}
		}
	}
	return nil
}

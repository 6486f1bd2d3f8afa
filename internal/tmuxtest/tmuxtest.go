// Package tmuxtest drives a full-screen program in a tmux of its own: keys in,
// screen out.
package tmuxtest

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/testkit"
)

// Term is a terminal with a program in it.
type Term struct {
	t    testing.TB
	sock string
}

// Start runs a command in a terminal of w×h cells with extra environment.
func Start(t testing.TB, w, h int, env []string, command ...string) *Term {
	t.Helper()
	testkit.Need(t, "tmux")
	dir, err := os.MkdirTemp("", "tm")
	if err != nil {
		t.Fatal(err)
	}
	s := &Term{t, filepath.Join(dir, "s")}
	t.Cleanup(func() {
		s.run("kill-server")
		os.RemoveAll(dir)
	})
	args := []string{"-f", "/dev/null", "new-session", "-d", "-s", "m", "-x", fmt.Sprint(w), "-y", fmt.Sprint(h)}
	for _, e := range append([]string{"TERM=xterm-256color"}, env...) {
		args = append(args, "-e", e)
	}
	quoted := make([]string, len(command))
	for i, c := range command {
		quoted[i] = "'" + strings.ReplaceAll(c, "'", `'\''`) + "'"
	}
	s.must(append(args, "env TERM=xterm-256color "+strings.Join(quoted, " ")+
		`; printf '\r\n[exit %d]\r\n' $?; sleep 60`)...)
	return s
}

func (s *Term) run(args ...string) (string, error) {
	c := exec.Command("tmux", append([]string{"-u", "-S", s.sock}, args...)...)
	c.Env = append(os.Environ(), "TMUX=", "LC_ALL=C.UTF-8")
	out, err := c.CombinedOutput()
	return string(out), err
}

func (s *Term) must(args ...string) string {
	s.t.Helper()
	out, err := s.run(args...)
	if err != nil {
		s.t.Fatalf("tmux %q: %v: %s", args, err, out)
	}
	return out
}

// Signal sends a signal to the command, by its name without SIG.
func (s *Term) Signal(name string) {
	s.t.Helper()
	shell := strings.TrimSpace(s.must("display-message", "-p", "-t", "m", "#{pane_pid}"))
	if out, err := exec.Command("pkill", "-"+name, "-P", shell).CombinedOutput(); err != nil {
		s.t.Fatalf("the signal %s can't be sent: %v %s", name, err, out)
	}
}

// Screen is the text on the screen; "-e" keeps the colours.
func (s *Term) Screen(flags ...string) string {
	s.t.Helper()
	return s.must(append([]string{"capture-pane", "-p", "-t", "m"}, flags...)...)
}

// Until waits until the screen is as wanted.
func (s *Term) Until(what string, ok func(string) bool) string {
	s.t.Helper()
	for end := time.Now().Add(40 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if scr := s.Screen(); ok(scr) {
			return scr
		} else if time.Now().After(end) {
			s.t.Fatalf("waited for %s; the screen is\n%s", what, scr)
		}
	}
}

// WaitFor waits until all texts are on the screen at once.
func (s *Term) WaitFor(texts ...string) string {
	s.t.Helper()
	return s.Until(fmt.Sprintf("%q", texts), func(scr string) bool {
		return !slices.ContainsFunc(texts, func(x string) bool { return !strings.Contains(scr, x) })
	})
}

// WaitGone waits until a text is no longer on the screen.
func (s *Term) WaitGone(x string) string {
	s.t.Helper()
	return s.Until("no "+x, func(scr string) bool { return !strings.Contains(scr, x) })
}

// Keys presses keys by their tmux names.
func (s *Term) Keys(k ...string) {
	s.t.Helper()
	s.must(append([]string{"send-keys", "-t", "m", "--"}, k...)...)
}

// Type types text.
func (s *Term) Type(text string) { s.t.Helper(); s.must("send-keys", "-t", "m", "-l", "--", text) }

// Resize changes the size of the terminal.
func (s *Term) Resize(w, h int) {
	s.t.Helper()
	s.must("resize-window", "-t", "m", "-x", fmt.Sprint(w), "-y", fmt.Sprint(h))
}

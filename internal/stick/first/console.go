package first

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"strings"

	"golang.org/x/sys/unix"

	"twinshelf/internal/stick/ramdisk"
)

// console is a terminal of the machine, and the name of its kind.
type console struct {
	path, term string
	glyphs     string // characters that the screen is drawn with there, as the program calls them
}

// consolesOf are the terminals that a command line of the kernel names with console=; the screen always is one.
func consolesOf(cmdline string) []console {
	out := []console{{ramdisk.Display, "linux", "few"}}
	for _, w := range strings.Fields(cmdline) {
		name, ok := strings.CutPrefix(w, "console=")
		name, _, _ = strings.Cut(name, ",")
		if ok && strings.HasPrefix(name, "ttyS") && !strings.ContainsAny(name, "/.") {
			out = append(out, console{"/dev/" + name, "vt220", "auto"})
		}
	}
	return out
}

// consoles has the full screen on every console until somebody ends the machine, and gives how.
func (m *machine) consoles(ctx context.Context) (how int) {
	line, _ := os.ReadFile("/proc/cmdline")
	ctx, end := context.WithCancel(ctx)
	ends := make(chan int, 1)
	for _, c := range consolesOf(string(line)) {
		tty, err := c.open()
		if err != nil {
			continue // this machine hasn't got it
		}
		tty.Close()
		if c.path == ramdisk.Display && !m.bare {
			c.glyphs = "full"
		}
		go func() { // it may wait for somebody who types, so it ends with the machine
			if how, ok := m.console(ctx, c); ok {
				select {
				case ends <- how:
				default:
				}
			}
		}()
	}
	select {
	case how = <-ends:
	case <-ctx.Done():
		how = unix.LINUX_REBOOT_CMD_POWER_OFF
	}
	end()
	m.children.all.Wait() // what goes on at other consoles ends in good order
	return how
}

// leaving says what can be done when the full screen was left.
const leaving = "\r\nTwin Shelf was left. Type off to switch the machine off, restart to start it again;\r\n" +
	"Enter opens Twin Shelf.\r\n> "

// open opens the terminal. It has to be opened anew after each program: where one that it belonged to ends, the kernel
// hangs it up.
func (c console) open() (*os.File, error) { return os.OpenFile(c.path, os.O_RDWR|unix.O_NOCTTY, 0) }

// console has the full screen on a terminal, again and again, until somebody ends the machine there.
func (m *machine) console(ctx context.Context, c console) (how int, ends bool) {
	var err error
	for ctx.Err() == nil {
		problem := m.show(ctx, c)
		if ctx.Err() != nil {
			return 0, false
		}
		word := told(ramdisk.End)
		if word == "" {
			if word, err = m.ask(c, problem); err != nil {
				return 0, false
			}
		}
		switch strings.ToLower(strings.TrimSpace(word)) {
		case "off":
			return unix.LINUX_REBOOT_CMD_POWER_OFF, true
		case "restart":
			return unix.LINUX_REBOOT_CMD_RESTART, true
		}
	}
	return 0, false
}

// told is what the full screen said the machine is to do; empty for nothing. It is said once.
func told(file string) string {
	b, err := os.ReadFile(file)
	if err != nil {
		return ""
	}
	_ = os.Remove(file)
	return strings.TrimSpace(string(b))
}

// show has the full screen on a terminal until it is left.
func (m *machine) show(ctx context.Context, c console) error {
	tty, err := c.open()
	if err != nil {
		return err
	}
	defer tty.Close()
	if c.path != ramdisk.Display {
		measure(tty)
	}
	env := []string{"TERM=" + c.term, "HOME=" + m.stick.home(), "PATH=/sbin:/bin", "XDG_STATE_HOME=" + m.stick.state,
		"XDG_CONFIG_HOME=/run/twinshelf/config", "XDG_CACHE_HOME=/run/twinshelf/cache",
		ramdisk.Notice + "=" + strings.Join(m.notices(), "; "), ramdisk.Console + "=" + c.path,
		ramdisk.SystemPart + "=" + m.stick.system, ramdisk.Keyboard + "=" + m.stick.keyboard}
	return m.children.run(onConsole(ctx, tty, "/"+ramdisk.Program, []string{"--glyphs", c.glyphs}, env))
}

// ask says what went wrong, if anything, and takes a line.
func (m *machine) ask(c console, problem error) (string, error) {
	tty, err := c.open()
	if err != nil {
		return "", err
	}
	defer tty.Close()
	if problem != nil {
		fmt.Fprintf(tty, "\r\nTwin Shelf ended: %v\r\n", problem)
		for _, s := range m.notices() {
			fmt.Fprintf(tty, "! %s\r\n", s)
		}
	}
	fmt.Fprint(tty, leaving)
	return bufio.NewReader(tty).ReadString('\n')
}

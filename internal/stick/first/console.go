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
type console struct{ path, term string }

// consolesOf are the terminals that a command line of the kernel names with console=; the screen always is one.
func consolesOf(cmdline string) []console {
	out := []console{{"/dev/tty1", "linux"}}
	for _, w := range strings.Fields(cmdline) {
		name, ok := strings.CutPrefix(w, "console=")
		name, _, _ = strings.Cut(name, ",")
		if ok && strings.HasPrefix(name, "ttyS") && !strings.ContainsAny(name, "/.") {
			out = append(out, console{"/dev/" + name, "vt220"})
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
		tty, err := os.OpenFile(c.path, os.O_RDWR|unix.O_NOCTTY, 0)
		if err != nil {
			continue // this machine hasn't got it
		}
		go func() { // it may wait for somebody who types, so it ends with the machine
			if how, ok := m.console(ctx, c, tty); ok {
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

// console has the full screen on a terminal, again and again, until somebody ends the machine there.
func (m *machine) console(ctx context.Context, c console, tty *os.File) (how int, ends bool) {
	env := []string{"TERM=" + c.term, "HOME=/root", "PATH=/sbin:/bin", "XDG_STATE_HOME=/run/twinshelf/state",
		"XDG_CONFIG_HOME=/run/twinshelf/config", "XDG_CACHE_HOME=/run/twinshelf/cache",
		ramdisk.Notice + "=" + strings.Join(m.said, "; ")}
	in := bufio.NewReader(tty)
	for ctx.Err() == nil {
		err := m.children.run(onConsole(ctx, tty, "/"+ramdisk.Program, nil, env))
		if err != nil && ctx.Err() == nil {
			fmt.Fprintf(tty, "\r\nTwin Shelf ended: %v\r\n", err)
			for _, s := range m.said {
				fmt.Fprintf(tty, "! %s\r\n", s)
			}
		}
		fmt.Fprint(tty, leaving)
		word, err := in.ReadString('\n')
		if err != nil {
			return 0, false
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

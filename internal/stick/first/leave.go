package first

import (
	"bufio"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// mostMounts bounds how many mounted file systems are looked at.
const mostMounts = 4096

// mountedFrom lists the places at which drives are mounted, the latest first, by what the kernel says of mounts
// (proc(5), /proc/self/mounts).
func mountedFrom(mounts io.Reader) []string {
	var out []string
	s := bufio.NewScanner(mounts)
	for range mostMounts {
		if !s.Scan() {
			break
		}
		f := strings.Fields(s.Text())
		if len(f) >= 2 && strings.HasPrefix(f[0], "/dev/") {
			out = append(out, strings.NewReplacer(`\040`, " ", `\011`, "\t", `\134`, `\`).Replace(f[1]))
		}
	}
	slices.Reverse(out)
	return out
}

// unmount takes all drives off, so that what was written to them is whole.
func (m *machine) unmount() {
	unix.Sync()
	f, err := os.Open("/proc/self/mounts")
	if err != nil {
		return
	}
	places := mountedFrom(f)
	f.Close()
	for _, at := range places {
		if err := unix.Unmount(at, 0); err != nil {
			// Read-only from here on, it is whole all the same.
			_ = unix.Mount("", at, "", unix.MS_REMOUNT|unix.MS_RDONLY, "")
		}
	}
	unix.Sync()
}

// deaf keeps signals from ending the first process, among them the one for Ctrl-Alt-Del, which otherwise restarts the
// machine in the middle of its work. hear is called when nobody needs that any more.
func deaf() (hear func()) {
	_ = unix.Reboot(unix.LINUX_REBOOT_CMD_CAD_OFF)
	c := make(chan os.Signal, 1) // what doesn't fit into it is dropped
	signal.Notify(c, syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGUSR1, syscall.SIGUSR2, syscall.SIGPWR)
	return func() { signal.Stop(c) }
}

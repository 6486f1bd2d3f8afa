package first

import (
	"bytes"
	"context"
	"errors"

	"golang.org/x/sys/unix"
)

// mostEvent bounds what the kernel says at once, in bytes.
const mostEvent = 64 << 10

// listen calls each with the alias of hardware that turns up (kobject uevents, netlink(7)), until the context is done.
func listen(ctx context.Context, each func(alias string)) error {
	s, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, unix.NETLINK_KOBJECT_UEVENT)
	if err != nil {
		return err
	}
	defer unix.Close(s)
	if err := unix.Bind(s, &unix.SockaddrNetlink{Family: unix.AF_NETLINK, Groups: 1}); err != nil {
		return err
	}
	// So that the end of the context is noticed.
	if err := unix.SetsockoptTimeval(s, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Sec: 1}); err != nil {
		return err
	}
	b := make([]byte, mostEvent)
	for ctx.Err() == nil {
		n, _, err := unix.Recvfrom(s, b, 0)
		switch {
		case errors.Is(err, unix.EAGAIN), errors.Is(err, unix.EINTR), errors.Is(err, unix.ENOBUFS):
			continue
		case err != nil:
			return err
		}
		if a := added(b[:n]); a != "" {
			each(a)
		}
	}
	return ctx.Err()
}

// added is the alias that an event of new hardware says; empty for other events.
func added(event []byte) (alias string) {
	add := false
	for f := range bytes.SplitSeq(event, []byte{0}) {
		if string(f) == "ACTION=add" {
			add = true
		}
		if a, ok := bytes.CutPrefix(f, []byte("MODALIAS=")); ok {
			alias = string(a)
		}
	}
	if !add {
		return ""
	}
	return alias
}

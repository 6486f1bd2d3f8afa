package machine

import (
	"fmt"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// moments are how people write a date with a time.
var moments = []string{"2006-01-02 15:04", "2006-1-2 15:04", "2006-01-02 15:04:05", "2.1.2006 15:04",
	"2 Jan 2006 15:04"}

// ParseMoment reads a date and a time as people write them.
func ParseMoment(text string) (time.Time, error) {
	text = strings.Join(strings.Fields(text), " ")
	for _, m := range moments {
		if t, err := time.Parse(m, text); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no date and time; write them so: 2026-11-29 14:05", text)
}

// SetClock sets the system's clock; the computer's own, in its hardware, stays as it is. It needs root.
func SetClock(t time.Time) error {
	tv := unix.NsecToTimeval(t.UnixNano())
	if err := unix.Settimeofday(&tv); err != nil {
		return fmt.Errorf("the clock can't be set: %w", err)
	}
	return nil
}

// Package units says sizes, rates and durations the way the trade does:
// decimal units (1 GB = 10⁹ bytes) as on the sticker of a drive, binary units
// (1 GiB = 2³⁰ bytes) beside them on request.
package units

import (
	"fmt"
	"strings"
	"time"
)

const (
	KiB = 1 << 10
	MiB = 1 << 20
	GiB = 1 << 30
	TiB = 1 << 40

	KB = 1_000
	MB = 1_000_000
	GB = 1_000_000_000
	TB = 1_000_000_000_000
)

// Bytes gives n bytes in decimal units with three significant digits, rounded
// to nearest: "0 B", "512 B", "1.05 MB", "118 GB".
func Bytes(n int64) string { return scale(n, 1000, []string{"B", "kB", "MB", "GB", "TB", "PB", "EB"}) }

// Binary gives n bytes in binary units with three significant digits: "1.00 MiB".
func Binary(n int64) string {
	return scale(n, 1024, []string{"B", "KiB", "MiB", "GiB", "TiB", "PiB", "EiB"})
}

// Exact gives n bytes in full with thin grouping: "256 060 514 304 bytes".
func Exact(n int64) string {
	if n == 1 {
		return "1 byte"
	}
	return Grouped(n) + " bytes"
}

// Grouped writes n with a space between groups of three digits.
func Grouped(n int64) string {
	s := fmt.Sprint(n)
	sign := ""
	if n < 0 {
		sign, s = "-", s[1:]
	}
	var b strings.Builder
	for i, c := range s {
		if i > 0 && (len(s)-i)%3 == 0 {
			b.WriteByte(' ')
		}
		b.WriteRune(c)
	}
	return sign + b.String()
}

func scale(n int64, base float64, names []string) string {
	if n < 0 {
		return "-" + scale(-n, base, names)
	}
	v, i := float64(n), 0
	// 999.5 would print as 1000: go on to the next unit already there.
	for v >= 999.5 && i < len(names)-1 {
		v /= base
		i++
	}
	switch {
	case i == 0:
		return fmt.Sprintf("%.0f %s", v, names[0])
	case v < 9.995:
		return fmt.Sprintf("%.2f %s", v, names[i])
	case v < 99.95:
		return fmt.Sprintf("%.1f %s", v, names[i])
	}
	return fmt.Sprintf("%.0f %s", v, names[i])
}

// Rate gives bytes per second: "212 MB/s".
func Rate(bytesPerSecond float64) string { return Bytes(int64(bytesPerSecond)) + "/s" }

// Duration gives a duration as a person would say it: "a moment", "42 s",
// "3 min 20 s", "2 h 05 min".
func Duration(d time.Duration) string {
	s := int64(d.Round(time.Second) / time.Second)
	switch {
	case s < 1:
		return "a moment"
	case s < 60:
		return fmt.Sprintf("%d s", s)
	case s < 600:
		return fmt.Sprintf("%d min %02d s", s/60, s%60)
	case s < 3600:
		return fmt.Sprintf("%d min", (s+30)/60)
	}
	return fmt.Sprintf("%d h %02d min", s/3600, s%3600/60)
}

// Percent gives part of whole, rounded down, so that 100 % means all of it.
func Percent(part, whole int64) string {
	if whole <= 0 {
		return "–"
	}
	return fmt.Sprintf("%d %%", int64(float64(part)/float64(whole)*100))
}

// Plural gives "1 part", "3 parts".
func Plural(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}

// Choices lists what may be said: "a", "a or b", "a, b or c".
func Choices[T ~string](all []T) string {
	s := ""
	for i, c := range all {
		switch {
		case i > 0 && i == len(all)-1:
			s += " or "
		case i > 0:
			s += ", "
		}
		s += string(c)
	}
	return s
}

// Moment is a point in time as the screen and the commands show it: local, with
// the zone's offset.
func Moment(t time.Time) string { return t.Format("2006-01-02 15:04 -07:00") }

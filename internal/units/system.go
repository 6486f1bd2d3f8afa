package units

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// System is the kind of units that sizes are said in.
type System int

const (
	// Decimal units are those of a drive's sticker: 1 GB = 10⁹ bytes.
	Decimal System = iota
	// BinaryUnits are those of many programs: 1 GiB = 2³⁰ bytes.
	BinaryUnits
)

// Other is the other one.
func (s System) Other() System { return 1 - s }

// String says the system by its units.
func (s System) String() string {
	if s == BinaryUnits {
		return "KiB, MiB, GiB"
	}
	return "kB, MB, GB"
}

// Bytes gives n bytes with three significant digits, rounded to nearest.
func (s System) Bytes(n int64) string {
	if s == BinaryUnits {
		return Binary(n)
	}
	return Bytes(n)
}

// Rate gives bytes per second.
func (s System) Rate(bytesPerSecond float64) string { return s.Bytes(int64(bytesPerSecond)) + "/s" }

// said finds sizes as Bytes says them, also behind the escape sequence of a colour. A size on a drive's sticker, such
// as 2 TB, isn't one: it has another number of digits.
var said = regexp.MustCompile(`(^|\x1b\[[0-9;]*m|[^0-9A-Za-z.])(\d\.\d\d|\d\d\.\d|\d{3}) (kB|MB|GB|TB|PB|EB)\b` +
	`(?: \(([0-9.]+ [KMGTPE]iB)\))?`)

var sizeOf = map[string]float64{"kB": KB, "MB": MB, "GB": GB, "TB": TB, "PB": 1e15, "EB": 1e18}

// Sentence says the sizes of a sentence that was written with Bytes in the units of s: as exact as its three digits
// are; one that is said in both changes its order. The names, which may contain what looks like a size, stay as they
// are.
func (s System) Sentence(text string, names []string) string {
	if s == Decimal {
		return text
	}
	var b strings.Builder
	done := 0
	for _, at := range said.FindAllStringSubmatchIndex(text, -1) {
		from, to, end := at[4], at[7], at[1]
		n, err := strconv.ParseFloat(text[from:at[5]], 64)
		n *= sizeOf[text[at[6]:to]]
		if err != nil || n >= 1<<63 || inName(text, from, to, names) {
			continue
		}
		b.WriteString(text[done:from])
		if at[8] >= 0 { // it is said in both
			b.WriteString(text[at[8]:at[9]] + " (" + text[from:to] + ")")
		} else {
			b.WriteString(Binary(int64(n)))
		}
		done = end
	}
	return b.String() + text[done:]
}

// inName says whether text[from:to] lies in one of the names.
func inName(text string, from, to int, names []string) bool {
	return slices.ContainsFunc(names, func(name string) bool {
		first, last := max(0, to-len(name)), min(len(text), from+len(name))
		return len(name) >= to-from && strings.Contains(text[first:last], name)
	})
}

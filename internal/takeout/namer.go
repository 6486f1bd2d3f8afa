package takeout

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"twinshelf/internal/units"
)

// namer gives names to what is in one folder of a stream. A zip archive is unpacked by other systems too, so there
// every name is one that all of them can take, and two that differ only by case get different ones.
type namer struct {
	zip  bool
	used map[string]bool // in lower case
}

func newNamer(zip bool) *namer { return &namer{zip, map[string]bool{}} }

func (n *namer) take(name string) string {
	if !n.zip {
		return name
	}
	safe := everywhere(name)
	for i := 2; n.used[strings.ToLower(safe)]; i++ {
		safe = tagged(everywhere(name), fmt.Sprint(i), 1)
	}
	n.used[strings.ToLower(safe)] = true
	return safe
}

// reserved are names that mean devices on some systems, whatever follows a dot.
var reserved = []string{"CON", "PRN", "AUX", "NUL", "CONIN$", "CONOUT$"}

// everywhere is a name that every system can take: without separators, drive letters, wild cards and control
// characters, not ending in a dot or blank, and not that of a device.
func everywhere(name string) string {
	name = strings.Map(func(r rune) rune {
		if r == utf8.RuneError || units.Moves(r) || strings.ContainsRune(`<>:"/\|?*`, r) {
			return '_'
		}
		return r
	}, name)
	if trimmed := strings.TrimRight(name, ". "); trimmed != name {
		name = trimmed + "_"
	}
	base, rest, dotted := strings.Cut(name, ".")
	up := strings.ToUpper(strings.TrimRight(base, " "))
	port := len(up) > 3 && (strings.HasPrefix(up, "COM") || strings.HasPrefix(up, "LPT")) &&
		strings.Contains("123456789¹²³", up[3:])
	if slices.Contains(reserved, up) || port {
		base += "_"
	}
	if !dotted {
		return base
	}
	return base + "." + rest
}

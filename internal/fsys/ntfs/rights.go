package ntfs

import (
	"encoding/binary"
	"fmt"
	"strings"
)

// A security descriptor ([MS-DTYP] 2.4.6), an access list and its entries (2.4.5, 2.4.4), and a SID (2.4.2). The
// numbers of a SID's authority have the highest byte first, all else the lowest.
const (
	sdControl = 2
	sdOwner   = 4
	sdList    = 16
	sdLen     = 20
	listThere = 4 // of the control bits: there is an access list
	aclCount  = 4
	aclLen    = 8
	aceKind   = 0
	aceFlags  = 1
	aceSize   = 2
	aceMask   = 4
	aceWho    = 8
	aceDenies = 1
	aceForNew = 8 // it counts only for what will be made in the folder
	sidCount  = 1
	sidHead   = 8
	mostSub   = 15
	mostACEs  = 1000
)

// known are who stands behind common SIDs ([MS-DTYP] 2.4.2.4).
var known = map[string]string{
	"S-1-0-0": "Nobody", "S-1-1-0": "Everyone", "S-1-3-0": "its maker", "S-1-3-1": "its maker's group",
	"S-1-3-4": "its owner", "S-1-5-4": "Interactive", "S-1-5-6": "Service", "S-1-5-7": "Anonymous",
	"S-1-5-11": "Authenticated users", "S-1-5-18": "SYSTEM", "S-1-5-19": "Local service",
	"S-1-5-20": "Network service", "S-1-5-32-544": "Administrators", "S-1-5-32-545": "Users",
	"S-1-5-32-546": "Guests", "S-1-5-32-547": "Power users", "S-1-15-2-1": "All application packages",
	"S-1-15-2-2": "All restricted application packages",
	"S-1-5-80-956008885-3418522649-1831038044-1853292631-2271478464": "TrustedInstaller",
}

// who is the holder of a SID, in words where it is a common one.
func who(b []byte) (string, bool) {
	if len(b) < sidHead || b[sidCount] > mostSub || len(b) < sidHead+4*int(b[sidCount]) {
		return "", false
	}
	authority := uint64(0)
	for _, c := range b[2:sidHead] {
		authority = authority<<8 | uint64(c)
	}
	s := fmt.Sprintf("S-%d-%d", b[0], authority)
	for i := range int(b[sidCount]) {
		s += fmt.Sprintf("-%d", binary.LittleEndian.Uint32(b[sidHead+4*i:]))
	}
	if name, is := known[s]; is {
		return name, true
	}
	return s, true
}

// What an entry allows ([MS-DTYP] 2.4.3): the sets that people choose from, largest first.
var sets = []struct {
	mask uint32
	name string
}{
	{0x1F01FF, "full control"}, {0x10000000, "full control"}, {0x1301BF, "change"}, {0xE0010000, "change"},
	{0x1200A9, "read and run"}, {0xA0000000, "read and run"}, {0x120089, "read"}, {0x80000000, "read"},
}

// allowed names what a mask allows.
func allowed(mask uint32) string {
	for _, s := range sets {
		if mask&s.mask == s.mask {
			return s.name
		}
	}
	return fmt.Sprintf("some rights (%#x)", mask)
}

// rightsInWords says who owns a file and who may do what with it.
func rightsInWords(b []byte) (out []string) {
	le := binary.LittleEndian
	if len(b) < sdLen {
		return nil
	}
	at := func(field int) []byte {
		n := le.Uint32(b[field:])
		if n == 0 || int64(n) > int64(len(b)) {
			return nil
		}
		return b[n:]
	}
	if s, ok := who(at(sdOwner)); ok {
		out = append(out, "owner "+s)
	}
	list := at(sdList)
	if le.Uint16(b[sdControl:])&listThere == 0 || list == nil {
		return append(out, "everyone may do everything: there is no access list")
	}
	if len(list) < aclLen {
		return out
	}
	var may []string
	rest := list[aclLen:]
	for range min(mostACEs, int(le.Uint16(list[aclCount:]))) {
		if len(rest) < aceWho || int(le.Uint16(rest[aceSize:])) < aceWho || int(le.Uint16(rest[aceSize:])) > len(rest) {
			break
		}
		e := rest[:le.Uint16(rest[aceSize:])]
		rest = rest[len(e):]
		name, ok := who(e[aceWho:])
		if !ok || e[aceFlags]&aceForNew != 0 || e[aceKind] > aceDenies {
			continue
		}
		word := name + ": " + allowed(le.Uint32(e[aceMask:]))
		if e[aceKind] == aceDenies {
			word = name + ": never " + allowed(le.Uint32(e[aceMask:]))
		}
		may = append(may, word)
	}
	if len(may) == 0 {
		return append(out, "nobody may do anything: its access list is empty")
	}
	return append(out, strings.Join(may, "; "))
}

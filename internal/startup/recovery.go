package startup

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"regexp"
	"slices"
	"strconv"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

// recoveryFile says where a Windows has its recovery: on the part that begins at a byte of a disk.
const recoveryFile = "Windows/System32/Recovery/ReAgent.xml"

// recoveryAt is a place in that file, recoveryOn the signature of an MBR: an element's indentation, what is before the
// number, and that.
var (
	recoveryAt = regexp.MustCompile(recoveryElement + `offset=")([0-9]+)(")`)
	recoveryOn = regexp.MustCompile(recoveryElement + `id=")([0-9]+)(")`)
)

const recoveryElement = `([ \t]*)(<(?:Winre|ImageBackup|OsInstall)Location (?:[^>]* )?`

// recovery has a Windows look for its recovery where its part is now.
func (c *winWay) recovery(p *part) error {
	h, err := c.home(p)
	if err != nil {
		return err
	}
	f, err := contents(h.tree, recoveryFile)
	if errors.Is(err, fs.ErrNotExist) || err == nil && f.Size() > maxConfig {
		return nil
	}
	if err != nil {
		return err
	}
	b := make([]byte, f.Size())
	if err := disk.ReadFull(f, b, 0); err != nil {
		return err
	}
	now, why := c.relocated(b)
	if why == "" && bytes.Equal(now, b) {
		return nil
	}
	found := Finding{Way: References, Verdict: Doubt, Aside: true,
		Says: fmt.Sprintf("the Windows on %s would look for its recovery where that was", p.where()), Evidence: why}
	m, ok := f.(*fsys.Mapped)
	if why == "" && !ok {
		found.Evidence = errPacked.Error()
	}
	if found.Evidence == "" {
		patches, err := onVolume(m, disk.Patch{Data: now, Why: "place of the recovery"})
		if err == nil {
			patches, err = h.outward(patches)
		}
		if err != nil {
			found.Evidence = err.Error()
		} else {
			found.Patches = patches
			found.Repair = fmt.Sprintf("the Windows on %s knows where its recovery is now", p.where())
		}
	}
	c.add(found)
	return nil
}

// relocated is the file with the places that parts have now.
func (c *winWay) relocated(b []byte) (now []byte, why string) {
	return renumbered(b, recoveryAt, c.nowAt)
}

// resigned is the file with the signatures that MBRs have now, and the old identities that it named.
func resigned(b []byte, ids map[string]string) (now []byte, named []string, why string) {
	now, why = renumbered(b, recoveryOn, func(n int64) (int64, bool) {
		to, other := n, false
		for _, old := range slices.Sorted(maps.Keys(ids)) { // one for each of its parts
			was, err := strconv.ParseUint(diskOf(old), 16, 32)
			is, failed := strconv.ParseUint(diskOf(ids[old]), 16, 32)
			if err == nil && failed == nil && int64(was) == n && n != 0 {
				named = append(named, old)
				to, other = int64(is), true
			}
		}
		return to, other
	})
	return now, named, why
}

// renumbered is the file with other numbers. It stays as long as it was: a longer number takes from the indentation
// before it, a shorter one gets spaces after it.
func renumbered(b []byte, which *regexp.Regexp, newOf func(int64) (int64, bool)) (now []byte, why string) {
	now = which.ReplaceAllFunc(b, func(s []byte) []byte {
		m := which.FindSubmatch(s)
		at, err := strconv.ParseInt(string(m[3]), 10, 64)
		if err != nil {
			return s
		}
		to, other := newOf(at)
		if !other {
			return s
		}
		number := strconv.AppendInt(nil, to, 10)
		room, more := m[1], len(number)-len(m[3])
		if more > len(room) {
			why = "there is no room for a longer number"
			return s
		}
		out := append(bytes.Clone(room[:len(room)-max(0, more)]), m[2]...)
		out = append(append(out, number...), m[4]...)
		return append(out, bytes.Repeat([]byte(" "), max(0, -more))...)
	})
	return now, why
}

// nowAt is where a part begins now that began at a byte of the disk before a plan moved it.
func (c *checker) nowAt(at int64) (to int64, moved bool) {
	for _, mv := range c.o.Moves {
		if at < mv.From.Start || at >= mv.From.End || mv.Shift() == 0 {
			continue
		}
		for _, p := range c.parts {
			if p.Span.Start == at+mv.Shift() {
				return p.Span.Start, true
			}
		}
	}
	return at, false
}

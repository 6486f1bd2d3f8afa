package survey

import (
	"twinshelf/internal/container/bitlocker"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
)

// Locked are the volumes of the disk that are encrypted and whose key isn't known, those in containers too.
func (s *Survey) Locked() []*bitlocker.Volume {
	var out []*bitlocker.Volume
	for i := range s.Areas {
		out = append(out, lockedIn(s.Areas[i].Content.Volume)...)
	}
	return out
}

func lockedIn(v fsys.Volume) []*bitlocker.Volume {
	switch x := v.(type) {
	case *families.Locked:
		return []*bitlocker.Volume{x.Volume}
	case fsys.Layered:
		var out []*bitlocker.Volume
		for _, in := range x.Inner() {
			out = append(out, lockedIn(in.Content.Volume)...)
		}
		return out
	}
	return nil
}

package survey

import (
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/lock"
)

// Locked are the volumes of the disk that are encrypted and whose key isn't known, those in containers too.
func (s *Survey) Locked() []lock.Volume {
	var out []lock.Volume
	for i := range s.Areas {
		out = append(out, lockedIn(s.Areas[i].Content.Volume)...)
	}
	return out
}

func lockedIn(v fsys.Volume) []lock.Volume {
	switch x := v.(type) {
	case *families.Locked:
		return []lock.Volume{x.Volume}
	case fsys.Lockable:
		return x.Locked()
	case fsys.Layered:
		var out []lock.Volume
		for _, in := range x.Inner() {
			out = append(out, lockedIn(in.Content.Volume)...)
		}
		return out
	}
	return nil
}

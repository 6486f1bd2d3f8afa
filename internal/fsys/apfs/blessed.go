package apfs

import (
	"path"

	"twinshelf/internal/fsys"
)

var _ fsys.MacStart = (*Container)(nil)

// startRole is what volumes are for that firmware starts from. They have a folder for each system, by the UUID of its
// volume or volume group.
const (
	startRole = "start-up"
	loaderIn  = "System/Library/CoreServices/boot.efi"
)

// Blessed are the loaders of all systems that the start-up volumes have a folder for.
func (c *Container) Blessed() (out []string, err error) {
	t := tree{c}
	for i, v := range c.volumes {
		if v.role != startRole || v.locked {
			continue
		}
		folder := t.entries()[t.place(i)].Item
		all, err := fsys.Entries(t, folder)
		if err != nil {
			return out, err
		}
		for _, e := range all {
			if e.Err != nil || !e.IsDir() {
				continue
			}
			name := path.Join(folder.Name, e.Name, loaderIn)
			if _, err := fsys.Find(t, name); err == nil {
				out = append(out, name)
			}
		}
	}
	return out, nil
}

// place is which of the entries the i-th volume is: each has its snapshots after it.
func (t tree) place(i int) (n int) {
	for _, v := range t.c.volumes[:i] {
		n += 1 + len(v.snapshots)
	}
	return n
}

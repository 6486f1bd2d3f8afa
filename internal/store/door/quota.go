package door

import (
	"errors"
	"os"
	"path/filepath"
	"sync"

	"twinshelf/internal/units"
)

// recount is after how many bytes what a key has put is counted anew: other processes may serve the same key.
const recount = 64 * units.MiB

// usage is how much a key with a quota has put. All visits of a process share it.
type usage struct {
	dir   string
	key   string
	quota int64 // bytes

	mu    sync.Mutex
	used  int64 // bytes
	since int64 // of them put since they were counted
}

// usageOf is that of a key; nil for one without a quota.
func (d *Door) usageOf(k Key, dir string) (*usage, error) {
	if k.Quota == 0 {
		return nil, nil
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	u := d.usages[k]
	if u == nil {
		u = &usage{dir: dir, key: k.Name, quota: k.Quota}
		if err := u.count(); err != nil {
			return nil, err
		}
		d.usages[k] = u
	}
	return u, nil
}

// take takes so many bytes off the quota, and says whether there were as many.
func (u *usage) take(n int64) bool {
	if u == nil {
		return true
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.since+n > recount && u.count() != nil || u.used+n > u.quota {
		return false
	}
	u.used, u.since = u.used+n, u.since+n
	return true
}

// giveBack gives bytes back that were removed.
func (u *usage) giveBack(n int64) {
	if u == nil {
		return
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	u.used = max(0, u.used-n)
}

// left is what the key may still put, in bytes.
func (u *usage) left() int64 {
	u.mu.Lock()
	defer u.mu.Unlock()
	return max(0, u.quota-u.used)
}

// count adds up what the key has put so far. mu is held, or nobody else knows it yet.
func (u *usage) count() error {
	total := int64(0)
	err := filepath.WalkDir(u.dir, func(path string, e os.DirEntry, err error) error {
		if errors.Is(err, os.ErrNotExist) || err == nil && !e.Type().IsRegular() {
			return nil
		}
		if err != nil {
			return err
		}
		st, err := e.Info()
		if err == nil && ownerAt(path) == u.key {
			total += st.Size()
		}
		if errors.Is(err, os.ErrNotExist) { // removed meanwhile
			return nil
		}
		return err
	})
	if err == nil {
		u.used, u.since = total, 0
	}
	return err
}

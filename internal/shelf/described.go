package shelf

import (
	"encoding/json"
	"sync"

	"twinshelf/internal/store"
	"twinshelf/internal/units"
)

// mostDescribed is how many twins are remembered.
const mostDescribed = 4096

// described remembers the descriptions of twins that were understood, by their bytes: whoever lists twins reads each
// file every time, since it may be hurt by now, but most of the time goes into understanding what it says.
type described struct {
	mu    sync.Mutex
	twins map[store.Name]*Twin
}

// twin understands a description; the twin is the caller's own.
func (d *described) twin(description []byte) (*Twin, error) {
	name := store.Checksum(description)
	if t := d.get(name); t != nil {
		return t.Clone(), nil
	}
	t := new(Twin)
	if err := json.Unmarshal(units.VisibleJSON(description), t); err != nil {
		return nil, err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.twins == nil || len(d.twins) == mostDescribed {
		d.twins = map[store.Name]*Twin{}
	}
	d.twins[name] = t.Clone()
	return t, nil
}

func (d *described) get(name store.Name) *Twin {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.twins[name]
}

package ready

import (
	"fmt"
	"strings"

	"twinshelf/internal/fsys/families"
	"twinshelf/internal/sizes"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
)

// Wish is a new part as it is asked for, in words.
type Wish struct {
	Size  string // as sizes.Parse takes it
	Kind  string // file system; empty for none
	Label string
	Unit  int64 // allocation unit in bytes; 0 for the default
}

// ParseWish reads "SIZE[:KIND[:LABEL]]", such as "250 GB:ext4:oak".
func ParseWish(text string) (Wish, error) {
	parts := strings.SplitN(text, ":", 3)
	for i := range parts {
		parts[i] = strings.TrimSpace(parts[i])
	}
	w := Wish{Size: parts[0]}
	if w.Size == "" {
		return w, fmt.Errorf("%q says no size; write SIZE:FILE SYSTEM:LABEL, such as \"250 GB:ext4:oak\" or "+
			"\"rest\"", text)
	}
	if len(parts) > 1 {
		w.Kind = parts[1]
	}
	if len(parts) > 2 {
		w.Label = parts[2]
	}
	if w.Kind != "" {
		if _, err := families.MakerOf(w.Kind); err != nil {
			return w, err
		}
	}
	return w, nil
}

// AddWish adds a part as it is asked for in a gap, and says what size was understood.
// The draft stays as it was when that can't be.
func (d *Draft) AddWish(gap span.Span, w Wish, used func(string) (int64, error)) (sizes.Size, error) {
	size, err := sizes.Parse(w.Size, d.Room(gap, used))
	if err != nil {
		return size, err
	}
	c := d.Clone()
	i, err := c.Add(gap, size.Bytes, size.Rest)
	if err != nil {
		if size.Hint != "" {
			err = fmt.Errorf("%w; %s", err, size.Hint)
		}
		return size, err
	}
	if w.Kind != "" {
		if err := c.SetForm(i, w.Kind, w.Label, w.Unit); err != nil {
			return size, err
		}
	}
	if d.Kind == table.GPT && w.Label != "" && c.SetName(i, w.Label) != nil {
		c.Parts[i].Name = "" // the file system's label is enough
	}
	*d = *c
	return size, nil
}

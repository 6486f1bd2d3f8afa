// Package bcd reads what Windows' boot manager is told: a registry file with objects (what can be started, and the
// manager itself) that have elements (where it is, by which file, in which order). It changes where they say that
// something is. How disks and parts are named isn't published by the vendor; it is known from what was found in files.
package bcd

import (
	"errors"
	"fmt"
	"io/fs"
	"strconv"
	"strings"

	"twinshelf/internal/hive"
	"twinshelf/internal/units"
)

// Object is something that can be started, the manager, or settings that others share.
type Object struct {
	ID   string // "{…}", in lower case
	Kind uint32
	key  hive.Key // of its elements
}

// Kinds of objects (Boot Configuration Data reference, object type codes).
const (
	Manager = 0x10100002
	Loader  = 0x10200003
	Resume  = 0x10200004
)

// Elements (Boot Configuration Data reference, element types).
const (
	Device   = 0x11000001 // where the program is
	Path     = 0x12000002
	Title    = 0x12000004
	Recovery = 0x14000008 // what is started where the object fails
	System   = 0x21000001 // where the system is
	Default  = 0x23000003 // of the manager
	Waking   = 0x23000003 // of a loader: what wakes it up
	Order    = 0x24000001
	ImageIn  = 0x31000003
)

// What elements hold, by the last four bits of their upper byte.
const (
	formatShift  = 24
	formatMask   = 0xF
	formatDevice = 1
)

// ManagerID is the boot manager's.
const ManagerID = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}"

// mostObjects bounds those of a store.
const mostObjects = 4096

// Store is what was read. It isn't safe for use by several at once while it is changed.
type Store struct {
	Objects []Object
	hive    *hive.Hive
}

// Read reads a store. Without a boot manager it is an error.
func Read(h *hive.Hive) (*Store, error) {
	top, err := h.Find("Objects")
	if err != nil {
		return nil, fmt.Errorf("it is no start-up configuration: %w", err)
	}
	all, err := top.Keys()
	if err != nil {
		return nil, err
	}
	if len(all) > mostObjects {
		return nil, fmt.Errorf("a start-up configuration with %d objects", len(all))
	}
	s := &Store{hive: h}
	for _, k := range all {
		o, err := object(k)
		if errors.Is(err, fs.ErrNotExist) {
			continue // without a kind or elements nobody uses it
		}
		if err != nil {
			return nil, fmt.Errorf("object %s: %w", units.Visible(k.Name()), err)
		}
		s.Objects = append(s.Objects, o)
	}
	if s.Object(ManagerID) == nil {
		return nil, errors.New("the start-up configuration has no boot manager")
	}
	return s, nil
}

func object(k hive.Key) (o Object, err error) {
	about, err := k.Find("Description")
	if err != nil {
		return o, err
	}
	kind, err := about.Value("Type")
	if err != nil {
		return o, err
	}
	o.ID = strings.ToLower(k.Name())
	if o.Kind, err = kind.Word(); err != nil {
		return o, err
	}
	o.key, err = k.Find("Elements")
	return o, err
}

// Object is the one with an ID; nil where there is none.
func (s *Store) Object(id string) *Object {
	for i := range s.Objects {
		if strings.EqualFold(s.Objects[i].ID, id) {
			return &s.Objects[i]
		}
	}
	return nil
}

// value is what an element holds; fs.ErrNotExist where the object doesn't have it.
func (o *Object) value(element uint32) (hive.Value, error) {
	k, err := o.key.Find(fmt.Sprintf("%08x", element))
	if err != nil {
		return hive.Value{}, err
	}
	return k.Value("Element")
}

// Text is an element that is a text or an object's ID; empty where there is none.
func (o *Object) Text(element uint32) string {
	v, err := o.value(element)
	if err != nil {
		return ""
	}
	s, err := v.Text()
	if err != nil {
		return ""
	}
	return s
}

// List is an element that names several objects, in its order.
func (o *Object) List(element uint32) []string {
	v, err := o.value(element)
	if err != nil {
		return nil
	}
	all, err := v.Texts()
	if err != nil {
		return nil
	}
	return all
}

// Title is how people know the object.
func (o *Object) Title() string {
	if t := o.Text(Title); t != "" {
		return units.Visible(t)
	}
	return o.ID
}

// Where are the parts that an element names: none where it names something else, such as wherever the manager itself
// was started from.
func (o *Object) Where(element uint32) []Place {
	v, err := o.value(element)
	if err != nil {
		return nil
	}
	b, err := v.Bytes()
	if err != nil {
		return nil
	}
	var out []Place
	for _, at := range places(b) {
		out = append(out, placeAt(b[at:]))
	}
	return out
}

// Relative says how an element that names no part is found: from the boot manager's part, or by looking for its file
// on all parts; empty otherwise.
func (o *Object) Relative(element uint32) string {
	switch o.device(element) {
	case deviceBoot:
		return FromBoot
	case deviceLocate:
		return ByFile
	}
	return ""
}

// Image says that an element means what is in a file on the part that it names: a disk of its own, or one in memory.
func (o *Object) Image(element uint32) bool {
	return o.device(element) != devicePart && len(o.Where(element)) > 0
}

// device is the kind of device that an element is; a number of none where that can't be told.
func (o *Object) device(element uint32) uint32 {
	const none = 1<<32 - 1
	v, err := o.value(element)
	if err != nil {
		return none
	}
	b, err := v.Bytes()
	if err != nil || len(b) < deviceHead {
		return none
	}
	return le.Uint32(b[deviceKind:])
}

// How parts are found that aren't named.
const (
	FromBoot = "the boot manager's part"
	ByFile   = "whichever part has the file"
)

// devices calls do with each element of the object that says where something is.
func (o *Object) devices(do func(v hive.Value, b []byte) error) error {
	all, err := o.key.Keys()
	if err != nil {
		return err
	}
	for _, k := range all {
		kind, err := strconv.ParseUint(k.Name(), 16, 32)
		if err != nil || kind>>formatShift&formatMask != formatDevice {
			continue
		}
		v, err := k.Value("Element")
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		b, err := v.Bytes()
		if err == nil {
			err = do(v, b)
		}
		if err != nil {
			return fmt.Errorf("element %s of %s: %w", k.Name(), o.ID, err)
		}
	}
	return nil
}

// Rename changes the parts that objects name: now gives what each becomes. It says of which objects some changed.
func (s *Store) Rename(now func(o *Object, p Place) Place) (changed []*Object, err error) {
	for i := range s.Objects {
		o := &s.Objects[i]
		some := false
		err := o.devices(func(v hive.Value, b []byte) error {
			differs, err := rename(b, func(p Place) Place { return now(o, p) })
			if err != nil || !differs {
				return err
			}
			some = true
			return v.Set(b)
		})
		if err != nil {
			return nil, err
		}
		if some {
			changed = append(changed, o)
		}
	}
	return changed, nil
}

// rename changes the places in an element, and says whether some became others.
func rename(b []byte, now func(p Place) Place) (differs bool, err error) {
	for _, at := range places(b) {
		p := placeAt(b[at:])
		n := now(p)
		if n == p {
			continue
		}
		if err := n.put(b[at:]); err != nil {
			return false, err
		}
		differs = true
	}
	return differs, nil
}

package startup

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"

	"twinshelf/internal/hive"
	"twinshelf/internal/startup/bcd"
	"twinshelf/internal/startup/script"
	"twinshelf/internal/table"
)

// bootSectors are what the boot sectors of parts look for in their file system, by the name that stands in them.
var bootSectors = []struct {
	mark, title string
	files       []string
}{
	{"BOOTMGR", "Windows", []string{"bootmgr", storeBIOS}},
	{"NTLDR", "Windows", []string{"ntldr", "ntdetect.com", "boot.ini"}},
	{"IO      SYS", "DOS", []string{"io.sys", "command.com"}},
	{"KERNEL  SYS", "DOS", []string{"kernel.sys", "command.com"}},
}

// Where Windows' boot manager has its store, by the way that it was started.
const (
	storeUEFI = "EFI/Microsoft/Boot/BCD"
	storeBIOS = "Boot/BCD"
)

// bootSector looks for what the boot sector of a part starts.
func (c *biosWay) bootSector(p *part, b []byte) {
	for _, s := range bootSectors {
		if !bytes.Contains(b, []byte(s.mark)) {
			continue
		}
		for _, name := range s.files {
			if _, err := p.resolve(name); err != nil {
				c.add(Finding{Way: BIOS, Verdict: Bad,
					Says:     fmt.Sprintf("%s on part %d starts from %s, which isn't there", s.title, p.Number, name),
					Evidence: err.Error()})
				return
			}
		}
		if s.mark == "BOOTMGR" {
			c.windows(BIOS, p, storeBIOS)
			return
		}
		c.add(Finding{Way: BIOS, Verdict: Good,
			Says: fmt.Sprintf("what %s on part %d starts from is there", s.title, p.Number), Evidence: s.files[0]})
		return
	}
	c.add(Finding{Way: BIOS, Verdict: Doubt,
		Says: fmt.Sprintf("what the boot sector of part %d starts can't be told", p.Number)})
}

// manager is Windows' boot manager with its store.
type manager struct {
	c     *checker
	way   string
	boot  *part
	reg   *registry
	store *bcd.Store
}

// windows follows Windows' boot manager on a part: its store, what that offers, and the Windows that it names.
func (c *checker) windows(way string, boot *part, name string) {
	c.followed = true
	m := &manager{c: c, way: way, boot: boot}
	if err := m.open(name); err != nil {
		f := Finding{Way: way, Verdict: Bad, Says: fmt.Sprintf("Windows' boot manager on part %d can't use its store, "+
			"\\%s", boot.Number, backslashed(name)), Evidence: err.Error()}
		if dirty := (*hive.DirtyError)(nil); errors.As(err, &dirty) {
			f.Verdict = Doubt
			f.Says = fmt.Sprintf("what Windows' boot manager on part %d starts can't be told from its store, \\%s",
				boot.Number, backslashed(name))
		}
		c.add(f)
		return
	}
	c.stored = true
	m.follow()
	top := m.store.Object(bcd.ManagerID)
	ids := []string{top.Text(bcd.Default)}
	for _, id := range top.List(bcd.Order) {
		if !strings.EqualFold(id, ids[0]) {
			ids = append(ids, id)
		}
	}
	if ids[0] == "" {
		ids = ids[1:]
	}
	if len(ids) == 0 {
		c.add(Finding{Way: way, Verdict: Bad, Says: "the store of Windows' boot manager names nothing to start"})
	}
	for i, id := range ids {
		m.entry(id, i == 0)
	}
}

func (m *manager) open(name string) error {
	h, err := m.c.home(m.boot)
	if err != nil {
		return err
	}
	if m.reg, err = openRegistry(h, name); err != nil {
		return err
	}
	m.store, err = bcd.Read(m.reg.Hive)
	return err
}

// entry follows something that the manager offers: the first one is what it starts by itself.
func (m *manager) entry(id string, first bool) {
	o := m.store.Object(id)
	add := func(v Verdict, says, evidence string) {
		m.c.add(Finding{Way: m.way, Verdict: v, Says: says, Evidence: evidence, Aside: !first})
	}
	if o == nil {
		if first {
			add(Bad, "what Windows' boot manager starts by itself isn't in its store", id)
		}
		return
	}
	title, file := fmt.Sprintf("“%s”", o.Title()), relative(strings.ReplaceAll(o.Text(bcd.Path), `\`, "/"))
	if o.Kind != bcd.Loader || file == "" {
		if first {
			add(Doubt, title+", which Windows' boot manager starts by itself, can't be followed", "")
		}
		return
	}
	p, why := m.on(o, bcd.Device)
	if p == nil {
		v := Bad
		if m.foreign(o) || m.c.unread() {
			v = Doubt
		}
		add(v, fmt.Sprintf("the boot manager's entry %s names %s", title, why), "")
		return
	}
	if o.Image(bcd.Device) {
		add(Doubt, fmt.Sprintf("the boot manager's entry %s starts from an image on %s, which isn't followed", title,
			p.where()), "")
		return
	}
	switch _, err := m.inside(p).resolve(file); {
	case errors.Is(err, script.ErrUnread):
		add(Doubt, fmt.Sprintf("the boot manager's entry %s is on %s, which isn't read here", title, p.where()), "")
		return
	case err != nil:
		add(Bad, fmt.Sprintf("the boot manager's entry %s starts \\%s on %s, which isn't there", title,
			backslashed(file), p.where()), err.Error())
		return
	}
	if sys, why := m.on(o, bcd.System); sys == nil {
		add(Bad, fmt.Sprintf("the Windows of the boot manager's entry %s would be on %s", title, why), "")
		return
	}
	add(Good, fmt.Sprintf("the boot manager's entry %s starts the Windows on %s", title, p.where()), "\\"+
		backslashed(file))
	m.recovery(o, title)
}

// inside is what lies in a part that holds a container, where it can be read.
func (m *manager) inside(p *part) *part {
	for i := range m.c.inner {
		if x := &m.c.inner[i]; p.files == nil && x.Number == p.Number && x.files != nil {
			return x
		}
	}
	return p
}

// recovery looks whether what is started when an entry fails is there.
func (m *manager) recovery(o *bcd.Object, title string) {
	for _, id := range o.List(bcd.Recovery) {
		r := m.store.Object(id)
		if r == nil {
			continue
		}
		if p, why := m.on(r, bcd.Device); p == nil {
			m.c.add(Finding{Way: m.way, Verdict: Doubt, Aside: true,
				Says: fmt.Sprintf("the recovery of %s would be on %s", title, why)})
		}
	}
}

// on is the part that an element of an object means; nil with the reason in words where it is none of this disk.
func (m *manager) on(o *bcd.Object, element uint32) (*part, string) {
	where := o.Where(element)
	for _, at := range where {
		if p := m.named(at); p != nil {
			return p, ""
		}
	}
	switch how := o.Relative(element); {
	case len(where) > 0:
		return nil, where[0].String() + ", which isn't on this disk"
	case how == bcd.FromBoot:
		return m.boot, ""
	case how == bcd.ByFile:
		if all := m.having(o); len(all) == 1 {
			return all[0], ""
		}
		return nil, how + ", and that can't be told"
	}
	return nil, "something that isn't known here"
}

// named is the part of this disk at a place; nil where there is none.
func (m *manager) named(at bcd.Place) *part {
	for i := range m.c.parts {
		if m.at(&m.c.parts[i], at) {
			return &m.c.parts[i]
		}
	}
	return nil
}

// at says whether a place is a part of this disk.
func (m *manager) at(p *part, at bcd.Place) bool {
	if at.Kind != m.c.t.Kind || !strings.EqualFold(at.Disk, m.c.t.ID) {
		return false
	}
	if at.Kind == table.GPT {
		return strings.EqualFold(at.Part, p.GUID)
	}
	return at.At == p.Span.Start
}

// placeOf is how a store names a part of this disk.
func (c *checker) placeOf(p *part) bcd.Place {
	at := bcd.Place{Kind: c.t.Kind, Disk: c.t.ID}
	if at.Kind == table.GPT {
		at.Part = p.GUID
	} else {
		at.At = p.Span.Start
	}
	return at
}

// having are the parts with the file that an object starts.
func (m *manager) having(o *bcd.Object) (out []*part) {
	file := relative(strings.ReplaceAll(o.Text(bcd.Path), `\`, "/"))
	for i := range m.c.parts {
		if _, err := m.c.parts[i].resolve(file); err == nil && file != "" {
			out = append(out, &m.c.parts[i])
		}
	}
	return out
}

// foreign says whether an object is on another disk, by what the manager says of its own one.
func (m *manager) foreign(o *bcd.Object) bool {
	where := o.Where(bcd.Device)
	return len(where) > 0 && !strings.EqualFold(where[0].Disk, m.c.t.ID) && !strings.EqualFold(where[0].Disk, m.own())
}

// own is the disk that the store says its manager is on; empty where that can't be told.
func (m *manager) own() string {
	if where := m.store.Object(bcd.ManagerID).Where(bcd.Device); len(where) > 0 {
		return where[0].Disk
	}
	return ""
}

// follow has the store name parts that were moved, or whose disk has got another identity, as they are now.
func (m *manager) follow() {
	changed, err := m.store.Rename(m.now)
	if err != nil {
		m.c.add(Finding{Way: m.way, Verdict: Doubt, Says: "what the store of Windows' boot manager names can't be " +
			"followed",
			Evidence: err.Error()})
		return
	}
	if len(changed) == 0 {
		return
	}
	var titles []string
	for _, o := range changed {
		if t := "“" + o.Title() + "”"; !slices.Contains(titles, t) && o.Kind == bcd.Loader {
			titles = append(titles, t)
		}
	}
	of := "the store of Windows' boot manager"
	if len(titles) > 0 {
		of += ", of " + strings.Join(titles, " and ") + ","
	}
	f := Finding{Way: m.way, Verdict: Bad, Says: of + " names places where no part is any more",
		Evidence: fmt.Sprintf("\\%s on %s", backslashed(m.reg.name), m.boot.where())}
	patches, err := m.reg.patches()
	if err != nil {
		f.Evidence += ": " + err.Error()
	} else {
		f.Verdict, f.Patches = Doubt, patches
		f.Repair = of + " names the parts where they are now"
	}
	m.c.add(f)
}

// now is the place that an object should name instead of one; the same where that is in order, or can't be told.
func (m *manager) now(o *bcd.Object, at bcd.Place) bcd.Place {
	if to, is := m.c.moved(at); is { // another part may begin there now
		return to
	}
	if m.named(at) != nil || at.Kind != m.c.t.Kind {
		return at
	}
	ours := strings.EqualFold(at.Disk, m.c.t.ID) || at.Disk != "" && strings.EqualFold(at.Disk, m.own())
	if !ours {
		return at
	}
	to := at
	if to.Disk = m.c.t.ID; m.named(to) != nil { // the disk has another identity now
		return m.c.placeOf(m.named(to))
	}
	if all := m.having(o); len(all) == 1 {
		return m.c.placeOf(all[0])
	}
	return at
}

// moved is where the part is now that was at a place of this disk's MBR before a plan moved it.
func (c *checker) moved(at bcd.Place) (bcd.Place, bool) {
	if at.Kind != table.MBR || !strings.EqualFold(at.Disk, c.t.ID) {
		return at, false
	}
	to := at
	to.At, _ = c.nowAt(at.At)
	return to, to != at
}

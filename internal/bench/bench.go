// Package bench finds the disks that are attached: block devices of a Linux
// machine by sysfs (kernel documentation, ABI/stable/sysfs-block), and raw image
// files given by name. Finding and probing only read.
package bench

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/health"
	"twinshelf/internal/startup"
	"twinshelf/internal/stick/drive"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// Disk is one disk on the bench.
type Disk struct {
	Path       string        `json:"path"`
	ByID       string        `json:"by_id,omitempty"`
	Identity   disk.Identity `json:"identity"`
	Physical   int           `json:"physical_sector"` // bytes
	Optimal    int           `json:"optimal_io"`      // bytes; 0 when the disk doesn't say
	Discards   bool          `json:"discards"`        // it can be told that stretches are no longer needed
	Removable  bool          `json:"removable"`
	Rotational bool          `json:"rotational"`
	ReadOnly   bool          `json:"read_only"`
	Image      bool          `json:"image"`
	Uses       []disk.Use    `json:"uses,omitempty"`
	// Reach says why the disk must not be written; empty when it may.
	Reach string `json:"out_of_reach,omitempty"`
	// Problem says why the disk couldn't be looked at, and what to do.
	Problem string `json:"problem,omitempty"`

	Device *disk.File     `json:"-"` // nil until probed
	Survey *survey.Survey `json:"-"` // nil until probed
	// Health is what the drive says of itself; nil until probed.
	Health *health.Report `json:"-"`
	// Systems are the Windows on it, by what they say of themselves.
	Systems []startup.System `json:"systems,omitempty"`
	// Fingerprint is the state of the disk when it was probed.
	Fingerprint string `json:"-"`

	// state is another one after every write; empty where that can't be told.
	state string
}

// Bench knows where to look.
type Bench struct {
	Host disk.Host
	// Images are image files, or folders whose *.img and *.raw files are meant.
	Images []string
	// System says whether the machine's own disks are listed.
	System bool
	// Shelves are the folders of open shelves: their disks are out of reach.
	Shelves []string
	// Patience is how long a read may take before a disk is taken for one that hangs; 0 for the usual.
	Patience time.Duration
	// OutOfReach are the identities that the person put out of reach.
	OutOfReach func(disk.Identity) bool

	// Started says that this machine was started from a stick: sticks are out of reach then.
	Started bool

	mu     sync.RWMutex    // guards Shelves and sticks
	sticks map[string]bool // that were seen, by the key of their identity
	asker  health.Asker
}

// SetShelves says which shelves are open now.
func (b *Bench) SetShelves(folders ...string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.Shelves = folders
}

// OpenShelves are the folders of the shelves that are open now.
func (b *Bench) OpenShelves() []string {
	b.mu.RLock()
	defer b.mu.RUnlock()
	return b.Shelves
}

// List finds the disks without reading from them. Image files that can't be
// used are listed with their Problem.
func (b *Bench) List() []*Disk {
	var out []*Disk
	for _, p := range b.Images {
		out = append(out, b.images(p)...)
	}
	if b.System {
		out = append(out, b.blocks()...)
	}
	for _, d := range out {
		d.Reach = b.reach(d)
	}
	return out
}

func (b *Bench) images(path string) []*Disk {
	st, err := os.Stat(path)
	if err != nil {
		problem := "there is no such file; check the name"
		if !errors.Is(err, fs.ErrNotExist) {
			problem = err.Error()
		}
		return []*Disk{{Path: path, Image: true, Problem: problem, Identity: disk.Identity{Model: filepath.Base(path)}}}
	}
	if !st.IsDir() {
		if st.Mode()&os.ModeDevice != 0 {
			return []*Disk{b.block(b.Host.KernelName(path), path)}
		}
		return []*Disk{image(path)}
	}
	entries, err := os.ReadDir(path)
	if err != nil {
		return []*Disk{{Path: path, Image: true, Problem: err.Error()}}
	}
	var out []*Disk
	for _, e := range entries {
		if ext := filepath.Ext(e.Name()); e.Type().IsRegular() && (ext == ".img" || ext == ".raw") {
			out = append(out, image(filepath.Join(path, e.Name())))
		}
	}
	if len(out) == 0 {
		return []*Disk{{Path: path, Image: true, Problem: "the folder holds no *.img or *.raw files",
			Identity: disk.Identity{Model: filepath.Base(path)}}}
	}
	return out
}

func image(path string) *Disk {
	d := &Disk{Path: path, Image: true, Physical: 512, Discards: true}
	d.Identity.Model = units.Visible(filepath.Base(path))
	l, err := disk.ReadLabel(path)
	if err != nil {
		d.Problem = err.Error()
		return d
	}
	d.Identity = disk.Identity{Model: units.Visible(l.Model), Serial: units.Visible(l.Serial),
		Bus: units.Visible(l.Bus), Sector: l.Sector}
	d.Rotational, d.Removable = l.Rotational, l.Removable
	st, err := os.Stat(path)
	if err != nil {
		d.Problem = err.Error()
		return d
	}
	d.Identity.Size = st.Size()
	d.ReadOnly = st.Mode().Perm()&0o222 == 0
	d.state = stateOfFile(st)
	return d
}

func (b *Bench) sys(name, file string) string {
	raw, _ := os.ReadFile(filepath.Join("/", b.Host.Root, "sys/block", name, file))
	return units.Visible(strings.TrimSpace(string(raw)))
}

// optical is the type of drives for discs (SPC-4, peripheral device types): without a disc they have a size all the
// same, and what is on one is no system that could be captured.
const optical = "5"

// blocks lists the disks in sysfs; empty loop devices, RAM disks, compressed memory and optical drives are nobody's
// disks.
func (b *Bench) blocks() []*Disk {
	entries, _ := os.ReadDir(filepath.Join("/", b.Host.Root, "sys/block"))
	var out []*Disk
	for _, e := range entries {
		name := e.Name()
		if strings.HasPrefix(name, "ram") || strings.HasPrefix(name, "zram") || b.sys(name, "size") == "0" ||
			b.sys(name, "size") == "" || b.sys(name, "device/type") == optical {
			continue
		}
		out = append(out, b.block(name, "/dev/"+name))
	}
	return out
}

func (b *Bench) block(name, path string) *Disk {
	num := func(file string) int64 {
		n, _ := strconv.ParseInt(b.sys(name, file), 10, 64)
		return n
	}
	d := &Disk{Path: path, Physical: int(num("queue/physical_block_size")), Optimal: int(num("queue/optimal_io_size")),
		Discards: num("queue/discard_max_bytes") > 0, Removable: num("removable") == 1,
		Rotational: num("queue/rotational") == 1, ReadOnly: num("ro") == 1}
	d.Identity = disk.Identity{
		Model:  strings.TrimSpace(b.sys(name, "device/vendor") + " " + b.sys(name, "device/model")),
		Serial: b.serial(name),
		WWN:    b.sys(name, "device/wwid"), Size: num("size") * 512, Sector: int(num("queue/logical_block_size")),
		Bus: b.bus(name),
	}
	if d.Identity.WWN == "" {
		d.Identity.WWN = b.sys(name, "wwid")
	}
	d.state = b.stateOfBlock(name, d.Identity.Bus)
	d.ByID = b.byID(name)
	if d.Identity.Serial == "" && d.ByID != "" {
		d.Identity.Serial = unitOf.ReplaceAllString(d.ByID[strings.LastIndexByte(d.ByID, '_')+1:], "")
	}
	if backing := b.sys(name, "loop/backing_file"); backing != "" {
		d.Identity.Model = "loop of " + filepath.Base(backing)
	}
	if d.Identity.Model == "" {
		d.Identity.Model = name
	}
	d.Uses = b.Host.UsesOfBlock(name)
	return d
}

// unitOf is what the system's names for USB drives have after the serial number: target and unit.
var unitOf = regexp.MustCompile(`-\d+:\d+$`)

// serial is the serial number that the kernel knows: of NVMe, MMC and virtio disks, of SCSI and ATA disks (SPC-4, vital
// product data, page 80h), and of the USB device that a disk is in. Machines without the system's names for disks have
// no other.
func (b *Bench) serial(name string) string {
	for _, file := range []string{"device/serial", "serial"} {
		if s := b.sys(name, file); s != "" {
			return s
		}
	}
	const head = 4
	page, _ := os.ReadFile(filepath.Join("/", b.Host.Root, "sys/block", name, "device/vpd_pg80"))
	if len(page) > head && page[1] == 0x80 {
		n := min(len(page)-head, int(binary.BigEndian.Uint16(page[2:])))
		if s := strings.TrimSpace(strings.Trim(string(page[head:head+n]), "\x00")); s != "" {
			return units.Visible(s)
		}
	}
	dir, err := filepath.EvalSymlinks(filepath.Join("/", b.Host.Root, "sys/block", name))
	for range mostLevels {
		if dir = filepath.Dir(dir); err != nil || len(dir) < 2 {
			break
		}
		if _, usb := os.Stat(filepath.Join(dir, "idVendor")); usb == nil {
			raw, _ := os.ReadFile(filepath.Join(dir, "serial"))
			return units.Visible(strings.TrimSpace(string(raw)))
		}
	}
	return ""
}

// mostLevels is how many folders of the device tree are looked through, from a disk upwards.
const mostLevels = 32

// bus tells how the disk is attached, from its place in the device tree.
func (b *Bench) bus(name string) string {
	link, _ := os.Readlink(filepath.Join("/", b.Host.Root, "sys/block", name))
	for _, c := range []struct{ in, bus string }{
		{"/usb", "USB"}, {"/nvme", "NVMe"}, {"/ata", "SATA"}, {"/mmc", "SD/MMC"}, {"/virtio", "virtio"},
		{"/virtual/", "virtual"}, {"/host", "SCSI"},
	} {
		if strings.Contains(link, c.in) {
			return c.bus
		}
	}
	return ""
}

func (b *Bench) byID(name string) string {
	dir := filepath.Join("/", b.Host.Root, "dev/disk/by-id")
	entries, _ := os.ReadDir(dir)
	best := ""
	for _, e := range entries {
		to, _ := os.Readlink(filepath.Join(dir, e.Name()))
		if filepath.Base(to) == name && !strings.HasPrefix(e.Name(), "wwn-") && len(e.Name()) > len(best) {
			best = e.Name()
		}
	}
	return best
}

// reach says why a disk must not be written, as far as can be told without reading it.
func (b *Bench) reach(d *Disk) string {
	for _, u := range d.Uses {
		if u.System {
			return "this system runs from it"
		}
	}
	for _, s := range b.OpenShelves() {
		if b.Host.HoldsFolder(d.Path, s) {
			return "it holds the open shelf"
		}
	}
	switch {
	case b.IsStick(d.Identity):
		return "it is a starting stick, and this machine was started from one"
	case b.OutOfReach != nil && b.OutOfReach(d.Identity):
		return "you put it out of reach"
	case len(d.Uses) > 0:
		return "in use: " + d.Uses[0].What
	case d.ReadOnly:
		return "it is write-protected"
	}
	return ""
}

// Probe asks a disk how it is, opens it for reading and looks at what is on it. What goes wrong is put into d.Problem
// in words.
func (b *Bench) Probe(ctx context.Context, d *Disk) {
	if d.Problem != "" {
		return
	}
	var asking sync.WaitGroup
	var told *health.Report
	asked := *d // what is found out meanwhile is put into d
	asking.Go(func() { told = b.Health(ctx, &asked) })
	b.lookInTime(ctx, d)
	asking.Wait()
	d.Health = told
	if d.Survey != nil && told.Verdict().Level != health.Failing { // of a failing drive nothing more is read
		d.Systems = startup.Systems(ctx, d.Survey)
	}
}

// Hanging is how long a read may take before the disk is taken for one that hangs.
const Hanging = 30 * time.Second

// lookInTime looks at a disk, and gives up when a read of it doesn't come back: one disk that hangs must not hold up
// the others. The kernel ends such a read some day; what it brings then is thrown away.
func (b *Bench) lookInTime(ctx context.Context, d *Disk) {
	dev, err := disk.Open(d.Path, d.Identity)
	if err != nil {
		d.Problem = err.Error()
		return
	}
	looked := *d // nobody else sees it until it is done
	done := make(chan struct{})
	go func() {
		defer close(done)
		b.look(ctx, &looked, dev)
	}()
	patience := b.patience()
	tick := time.NewTicker(patience / 4)
	defer tick.Stop()
	for {
		select {
		case <-done:
			*d = looked
			return
		case <-tick.C:
		}
		if dev.Stuck() > patience {
			d.Problem = "it doesn't answer: a read hangs; rescue it (R), which lets it rest, or switch it off " +
				"and on again"
			go func() { <-done; dev.Close() }()
			return
		}
	}
}

// IsStick says whether a disk was seen to be a starting stick, on a machine that was started from one.
func (b *Bench) IsStick(id disk.Identity) bool {
	b.mu.RLock()
	defer b.mu.RUnlock()
	return b.sticks[id.Key()]
}

func (b *Bench) patience() time.Duration {
	if b.Patience == 0 {
		return Hanging
	}
	return b.Patience
}

// MayFail is what is said beside an error of reading a disk's first records.
const MayFail = "the disk may be failing: capture it before anything else is tried"

const cancelledWords = "looking at it was cancelled"

func (b *Bench) look(ctx context.Context, d *Disk, dev *disk.File) {
	if d.Image && d.Identity.Sector == 0 {
		dev.SetSectorSize(table.DetectSector(dev, dev.Size()))
	}
	if d.Image {
		d.Uses = b.Host.UsesOfImage(d.Path)
	}
	s, err := survey.Of(ctx, dev, d.InUse())
	if err == nil {
		d.Fingerprint, err = disk.Fingerprint(dev)
	}
	if err != nil {
		dev.Close()
		d.Problem = err.Error() + "; " + MayFail
		if ctx.Err() != nil {
			d.Problem = cancelledWords
		}
		return
	}
	if b.Started && drive.IsStick(s) {
		b.mu.Lock()
		if b.sticks == nil {
			b.sticks = map[string]bool{}
		}
		b.sticks[dev.Identity().Key()] = true
		b.mu.Unlock()
	}
	dev.SetPatience(b.patience())
	d.Device, d.Survey, d.Identity = dev, s, dev.Identity()
	d.Reach = b.reach(d)
}

// InUse says of the parts that somebody writes to now what for; 0 is the whole disk.
func (d *Disk) InUse() map[int]string {
	out := map[int]string{}
	for _, u := range d.Uses {
		if u.Writes && !strings.HasPrefix(u.What, "attached as") {
			out[u.Part] = "it is in use now: " + u.What
		}
	}
	return out
}

// Target describes the disk as it was probed, for the guard.
func (d *Disk) Target() disk.Target {
	return disk.Target{Path: d.Path, Identity: d.Identity, Fingerprint: d.Fingerprint}
}

// Words says in a few plain words what is on the disk.
func (d *Disk) Words() string {
	s := d.Survey
	switch {
	case d.Problem != "":
		return d.Problem
	case s == nil:
		return "not looked at yet"
	case s.Blank():
		return "blank"
	case s.Whole:
		a := s.Areas[0]
		return fmt.Sprintf("no table, %s %s on the whole disk", a.Holds(), quoted(a.Content.Info.Label))
	case s.Table.Kind == table.None && len(s.Remains) == 0:
		if s.Random() {
			return "no table; its bytes look random: encrypted, packed or wiped"
		}
		return "no table, but not blank"
	case s.Table.Kind == table.None:
		return strings.Join(s.Unnamed(), "; ")
	case len(s.Parts()) == 0:
		return fmt.Sprintf("%s without parts", s.Table.Kind)
	}
	var kinds []string
	for _, a := range s.Parts() {
		if a.Role == table.RoleReserved {
			continue
		}
		k := a.Holds()
		if l := a.Content.Info.Label; l != "" {
			k += " " + quoted(l)
		}
		kinds = append(kinds, k)
	}
	return strings.Join(kinds, ", ")
}

func quoted(s string) string {
	if s == "" {
		return ""
	}
	return "“" + s + "”"
}

// Points are where parts of the disk are mounted.
func (d *Disk) Points() []string {
	var out []string
	for _, u := range d.Uses {
		if u.Point != "" {
			out = append(out, u.Point)
		}
	}
	return out
}

// MountWords says whether the file systems of the disk are mounted; nothing for disks
// without one, and for image files that nobody attached.
func (d *Disk) MountWords() string {
	if points := d.Points(); len(points) > 0 {
		return "mounted at " + strings.Join(points, ", ")
	}
	if d.Survey == nil || d.Image {
		return ""
	}
	for _, a := range d.Survey.Parts() {
		if a.Content.Info.Known() && !a.Content.Info.Swap {
			return "not mounted"
		}
	}
	return ""
}

// Loses lists in words what writing to the disk would destroy.
func (d *Disk) Loses() []string {
	if d.Survey == nil || d.Survey.Blank() {
		return nil
	}
	var out []string
	for _, a := range d.Survey.Parts() {
		used := units.Bytes(a.Content.Used) + " in use"
		if !a.Content.Maps {
			used = "use unknown"
		}
		out = append(out,
			fmt.Sprintf("part %d  %s  %s  %s, %s", a.Part.Number, a.Title(), a.Holds(),
				units.Bytes(a.Span.Len()), used))
	}
	return append(out, d.Survey.Unnamed()...)
}

// Find gives the disk with a path, a serial number, or the end of one.
func Find(disks []*Disk, ref string) (*Disk, error) {
	var hits []*Disk
	for _, d := range disks {
		if d.Path == ref || d.Identity.Serial == ref && ref != "" {
			return d, nil
		}
		if len(ref) >= 4 && strings.HasSuffix(d.Identity.Serial, ref) || filepath.Base(d.Path) == ref {
			hits = append(hits, d)
		}
	}
	if len(hits) == 1 {
		return hits[0], nil
	}
	known := make([]string, 0, len(disks))
	for _, d := range disks {
		known = append(known, d.Path)
	}
	slices.Sort(known)
	if len(hits) > 1 {
		return nil, fmt.Errorf("%d disks answer to %q: give the whole serial number or the path", len(hits), ref)
	}
	return nil, fmt.Errorf("no disk on the bench answers to %q; known are %s", ref, strings.Join(known, ", "))
}

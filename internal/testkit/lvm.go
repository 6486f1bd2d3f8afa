package testkit

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"testing"

	"twinshelf/internal/units"
)

// Logical is a logical volume that Group makes.
type Logical struct {
	Name    string
	Extents int // of 4 MiB; of a later call more than it has
	Stripes int // of 64 KiB; 0 and 1 are none
}

const lvmExtent = 4 * units.MiB

// LVM runs the system's own tools for volume groups on image files, without the kernel: nothing is activated. {0} in an
// argument stands for the first image.
func LVM(t testing.TB, images []string, args ...string) string {
	t.Helper()
	tools := lvmOn(t, images)
	defer tools.detach()
	return tools.run(args...)
}

// lvmTools are the system's tools for volume groups, which see some images and nothing else.
type lvmTools struct {
	t       testing.TB
	images  []string
	devices []string
	config  string
}

func lvmOn(t testing.TB, images []string) *lvmTools {
	t.Helper()
	Need(t, "lvm")
	x := &lvmTools{t: t, images: images}
	var filter []string
	for _, img := range images {
		dev := Loop(t, img, 512)
		x.devices = append(x.devices, dev)
		filter = append(filter, `"a|^`+dev+`$|"`)
	}
	x.config = `global{activation=0 event_activation=0} activation{udev_sync=0 udev_rules=0 monitoring=0} ` +
		`backup{backup=0 archive=0} devices{hints="none" use_devicesfile=0 ` +
		`obtain_device_list_from_udev=0 external_device_info_source="none" ` +
		`filter=[` + strings.Join(filter, ",") + `,"r|.*|"]}`
	t.Setenv("LVM_SUPPRESS_FD_WARNINGS", "1")
	return x
}

func (x *lvmTools) detach() {
	for i, dev := range x.devices {
		Detach(dev)
		LoopGone(x.t, x.images[i])
	}
}

func (x *lvmTools) run(args ...string) string {
	x.t.Helper()
	var full []string
	for _, a := range args {
		for i, dev := range x.devices {
			a = strings.ReplaceAll(a, fmt.Sprintf("{%d}", i), dev)
		}
		full = append(full, a)
	}
	out, err := Try("lvm", append(full, "--config", x.config)...)
	if err != nil {
		x.t.Fatalf("lvm %s: %v\n%s", strings.Join(full, " "), err, out)
	}
	return out
}

// Group makes a volume group on images, each of which is a physical volume, and logical volumes in it. A name that
// comes again makes the volume longer.
func Group(t testing.TB, name string, images []string, volumes []Logical) {
	t.Helper()
	var devices []string
	for i := range images {
		devices = append(devices, fmt.Sprintf("{%d}", i))
	}
	LVM(t, images, append([]string{"pvcreate", "-y", "--metadatacopies", "2"}, devices...)...)
	LVM(t, images, append([]string{"vgcreate", name}, devices...)...)
	made := map[string]int{}
	for _, v := range volumes {
		if was := made[v.Name]; was > 0 {
			LVM(t, images, "lvextend", "-l", fmt.Sprint(was+v.Extents), name+"/"+v.Name)
		} else {
			args := []string{"lvcreate", "-an", "-Zn", "-Wn", "-n", v.Name, "-l", fmt.Sprint(v.Extents)}
			if v.Stripes > 1 {
				args = append(args, "-i", fmt.Sprint(v.Stripes), "-I", "64k")
			}
			LVM(t, images, append(args, name)...)
		}
		made[v.Name] += v.Extents
	}
}

// LogicalBytes reads a logical volume from the images of its group, by what the system's tools say of its segments.
func LogicalBytes(t testing.TB, name string, images []string) []byte {
	t.Helper()
	var out []byte
	eachStripe(t, name, images, func(image string, off, n int64) {
		b := make([]byte, n)
		f, err := os.Open(image)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		if _, err := f.ReadAt(b, off); err != nil {
			t.Fatal(err)
		}
		out = append(out, b...)
	})
	return out
}

// FillLogical writes an image file into a logical volume.
func FillLogical(t testing.TB, name string, images []string, from string) {
	t.Helper()
	b, err := os.ReadFile(from)
	if err != nil {
		t.Fatal(err)
	}
	files := map[string]*os.File{}
	eachStripe(t, name, images, func(image string, off, n int64) {
		f := files[image]
		if f == nil {
			if f, err = os.OpenFile(image, os.O_RDWR, 0); err != nil {
				t.Fatal(err)
			}
			files[image] = f
		}
		n = min(n, int64(len(b)))
		if _, err := f.WriteAt(b[:n], off); err != nil {
			t.Fatal(err)
		}
		b = b[n:]
	})
	for _, f := range files {
		if err := f.Close(); err != nil {
			t.Fatal(err)
		}
	}
	if len(b) > 0 {
		t.Fatalf("%d bytes of %s have no room in %s", len(b), from, name)
	}
}

// eachStripe goes over a logical volume in its own order, stripe by stripe.
func eachStripe(t testing.TB, name string, images []string, do func(image string, off, n int64)) {
	t.Helper()
	group, volume, _ := strings.Cut(name, "/")
	tools := lvmOn(t, images)
	table := tools.run("lvs", "--noheadings", "--separator", "|", "-o",
		"lv_name,seg_start_pe,seg_size_pe,stripes,stripe_size,seg_pe_ranges", "--units", "b", "--nosuffix", group)
	devices := tools.run("pvs", "--noheadings", "--separator", "|", "-o", "pv_name,pe_start", "--units", "b",
		"--nosuffix")
	tools.detach()
	starts, order := map[string]int64{}, map[string]string{}
	for _, line := range fields(devices) {
		starts[line[0]] = number(t, line[1])
	}
	for i, dev := range tools.devices {
		order[dev] = images[i]
	}
	for _, seg := range fields(table) {
		if seg[0] != volume {
			continue
		}
		var images []string
		var at []int64
		for _, r := range strings.Fields(seg[5]) { // DEVICE:FIRST-LAST
			dev, extents, _ := strings.Cut(r, ":")
			first, _, _ := strings.Cut(extents, "-")
			images, at = append(images, order[dev]), append(at, starts[dev]+number(t, first)*lvmExtent)
		}
		size, stripe := number(t, seg[2])*lvmExtent, number(t, seg[4])
		if len(at) == 1 {
			do(images[0], at[0], size)
			continue
		}
		for off := int64(0); off < size; off += stripe {
			k := off / stripe % int64(len(at))
			do(images[k], at[k], stripe)
			at[k] += stripe
		}
	}
}

// fields takes a table of the tools apart.
func fields(s string) (out [][]string) {
	for _, line := range strings.Split(s, "\n") {
		if strings.Contains(line, "|") {
			out = append(out, strings.Split(strings.TrimSpace(line), "|"))
		}
	}
	return out
}

func number(t testing.TB, s string) int64 {
	t.Helper()
	n, err := strconv.ParseInt(strings.TrimSpace(s), 10, 64)
	if err != nil {
		t.Fatal(err)
	}
	return n
}

// Package live reads a disk that this machine writes to meanwhile: logical volumes on it through snapshots, which the
// system's own commands make and remove; file systems beside them are mounted read-only for as long as it takes.
package live

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// Bounds of what the commands say.
const (
	mostVolumes = 10_000
	mostSaid    = 16 << 20 // bytes
)

// tag marks the snapshots that were made here: nothing else is ever removed.
const tag = "twinshelf"

// segment is a stretch of a logical volume, in bytes.
type segment struct {
	start, length int64
	physical      string // name of the device
	at            int64  // bytes from the beginning of its data
	linear        bool
}

// volume is a logical volume.
type volume struct {
	group, name, node string
	device            string // major:minor
	size              int64  // bytes
	open              bool   // something uses it
	tags              []string
	segments          []segment
}

func (v *volume) title() string { return v.group + "/" + v.name }

// physical is a device that a group lies on.
type physical struct {
	node, group string
	data        int64 // where its data begins, bytes
	extents     int64
	size        int64 // bytes
	extent      int64 // bytes
	free        int64 // of the group, bytes
}

// Tool runs a command of LVM (lvm(8)) and gives what it says.
type Tool func(ctx context.Context, args ...string) ([]byte, error)

// System runs the commands of this machine.
func System(ctx context.Context, args ...string) ([]byte, error) {
	out, err := exec.CommandContext(ctx, "lvm", args...).Output()
	if err == nil {
		return out, nil
	}
	if errors.Is(err, exec.ErrNotFound) {
		return nil, cant("this machine has no commands for LVM")
	}
	said := ""
	if x, ok := err.(*exec.ExitError); ok {
		said = ": " + strings.TrimSpace(string(x.Stderr))
	}
	return nil, fmt.Errorf("lvm %s: %w%s", args[0], err, said)
}

// report runs a reporting command and gives its rows.
func (t Tool) report(ctx context.Context, kind, command, fields string, more ...string) ([]map[string]string, error) {
	args := append([]string{command, "--reportformat", "json", "--units", "b", "--nosuffix", "-o", fields}, more...)
	raw, err := t(ctx, args...)
	if err != nil {
		return nil, err
	}
	var said struct {
		Report []map[string][]map[string]string `json:"report"`
	}
	if len(raw) > mostSaid {
		return nil, fmt.Errorf("lvm %s says more than is looked at", command)
	}
	if err := json.Unmarshal(raw, &said); err != nil {
		return nil, fmt.Errorf("what lvm %s says can't be understood: %w", command, err)
	}
	var rows []map[string]string
	for _, r := range said.Report {
		rows = append(rows, r[kind]...)
	}
	if len(rows) > mostVolumes {
		return nil, fmt.Errorf("lvm %s lists more than %d", command, mostVolumes)
	}
	return rows, nil
}

// numbers reads fields of a row.
func numbers(row map[string]string, into map[string]*int64) error {
	for field, n := range into {
		var err error
		if *n, err = strconv.ParseInt(strings.TrimSpace(row[field]), 10, 64); err != nil || *n < 0 {
			return fmt.Errorf("lvm says %q of %s, which is no number", row[field], field)
		}
	}
	return nil
}

// physicals are the devices of all groups, by name.
func (t Tool) physicals(ctx context.Context) (map[string]physical, error) {
	rows, err := t.report(ctx, "pv", "pvs", "pv_name,vg_name,pe_start,pv_pe_count,dev_size,vg_extent_size,vg_free")
	if err != nil {
		return nil, err
	}
	out := map[string]physical{}
	for _, row := range rows {
		if row["vg_name"] == "" {
			continue
		}
		p := physical{node: node(row["pv_name"]), group: row["vg_name"]}
		if err := numbers(row, map[string]*int64{"pe_start": &p.data, "vg_extent_size": &p.extent,
			"vg_free": &p.free, "pv_pe_count": &p.extents, "dev_size": &p.size}); err != nil {
			return nil, err
		}
		out[p.node] = p
	}
	return out, nil
}

// node is the kernel's name of a device, whatever the name it goes by.
func node(path string) string {
	if to, err := filepath.EvalSymlinks(path); err == nil {
		path = to
	}
	return filepath.Base(path)
}

// volumes are all logical volumes with their segments.
func (t Tool) volumes(ctx context.Context, on map[string]physical) ([]*volume, error) {
	rows, err := t.report(ctx, "seg", "lvs", "vg_name,lv_name,lv_dm_path,lv_size,lv_kernel_major,lv_kernel_minor,"+
		"lv_tags,lv_device_open,segtype,seg_start,seg_size,seg_pe_ranges", "--segments")
	if err != nil {
		return nil, err
	}
	var out []*volume
	for _, row := range rows {
		i := slices.IndexFunc(out, func(v *volume) bool {
			return v.group == row["vg_name"] &&
				v.name == row["lv_name"]
		})
		if i < 0 {
			v := &volume{group: row["vg_name"], name: row["lv_name"], node: row["lv_dm_path"],
				device: row["lv_kernel_major"] + ":" + row["lv_kernel_minor"], tags: strings.Split(row["lv_tags"], ","),
				open: row["lv_device_open"] == "open"}
			if err := numbers(row, map[string]*int64{"lv_size": &v.size}); err != nil {
				return nil, err
			}
			out, i = append(out, v), len(out)
		}
		s, err := segmentOf(row, on)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", out[i].title(), err)
		}
		out[i].segments = append(out[i].segments, s)
	}
	return out, nil
}

// segmentOf reads a row's stretch; of one that isn't linear only that is known.
func segmentOf(row map[string]string, on map[string]physical) (s segment, err error) {
	if err := numbers(row, map[string]*int64{"seg_start": &s.start, "seg_size": &s.length}); err != nil {
		return s, err
	}
	name, extents, ok := strings.Cut(row["seg_pe_ranges"], ":")
	first, _, more := strings.Cut(extents, "-")
	if row["segtype"] != "linear" || !ok || !more || strings.Contains(row["seg_pe_ranges"], " ") {
		return s, nil
	}
	n, err := strconv.ParseInt(first, 10, 64)
	if err != nil || n < 0 {
		return s, fmt.Errorf("lvm says that it lies at %q", row["seg_pe_ranges"])
	}
	s.physical, s.linear = node(name), true
	s.at = n * on[s.physical].extent
	return s, nil
}

// Package ntfs knows NTFS 3.x volumes (the layout documented by the Linux
// kernel's Documentation/filesystems/ntfs3 and fs/ntfs3/ntfs.h, and by
// Microsoft's public NTFS Technical Reference): boot sector, file records with
// fix-ups, attribute lists, run lists, the cluster bitmap, the volume flags, the log's
// restart area and the root directory's index. It tells which clusters are in
// use, reads files, and makes and changes volumes as patches; it never writes by itself.
//
// Limits: run lists of at most 1,048,576 runs, attribute lists of at most 1 MiB.
package ntfs

import (
	"encoding/binary"
	"fmt"
	"io"
	"strings"
	"unicode/utf16"

	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// Family makes NTFS known.
func Family() fsys.Family {
	return fsys.Family{Name: "ntfs", Probe: Probe, Mirrors: mirrors, Makers: []fsys.Maker{maker()}}
}

// maxRecords bounds the number of file records.
const maxRecords = 1 << 32

// Volume is an NTFS volume.
type Volume struct {
	records
	info        fsys.Info
	rootEntries []rootEntry
	left        fsys.Rest
	hiber       image // what its hibernation file holds
	rights      rights
}

// records are the file records of a volume and the runs of their streams: the first layer, which knows no folders.
type records struct {
	r        io.ReaderAt
	cluster  int64 // bytes
	clusters int64
	record   int64 // bytes of a file record
	mft      []run // where $MFT lies
	mftSize  int64 // bytes
	mftValid int64 // of them, those that were ever written
}

// Probe recognises NTFS by its boot sector.
func Probe(r io.ReaderAt, size int64, _ int) (fsys.Volume, error) {
	b := make([]byte, bootLen)
	if n, _ := r.ReadAt(b, 0); n < bootLen || string(b[bootOEM:bootOEM+8]) != "NTFS    " || b[510] != 0x55 ||
		b[511] != 0xAA {
		return nil, nil
	}
	v := &Volume{records: records{r: r}}
	mftAt, err := v.geometry(b, size)
	if err != nil {
		return nil, err
	}
	if err := v.openMFT(mftAt); err != nil {
		return nil, err
	}
	if err := v.describe(b); err != nil {
		return nil, err
	}
	return v, nil
}

func (v *Volume) geometry(b []byte, size int64) (mftAt int64, err error) {
	le := binary.LittleEndian
	sector := int64(le.Uint16(b[bootSectorSize:]))
	if sector < 256 || sector > 4096 || sector&(sector-1) != 0 {
		return 0, fsys.Contradiction(bootSectorSize, "the NTFS boot sector claims sectors of %d bytes", sector)
	}
	per := int64(b[bootClusterSize])
	if per > 0x80 {
		if per < 0xF4 {
			return 0, fsys.Contradiction(bootClusterSize, "the NTFS boot sector claims clusters of code %#x", per)
		}
		per = 1 << (256 - per)
	}
	v.cluster = sector * per
	if per == 0 || per&(per-1) != 0 || v.cluster > 2<<20 {
		return 0, fsys.Contradiction(bootClusterSize, "the NTFS boot sector claims clusters of %d sectors", per)
	}
	sectors := int64(le.Uint64(b[bootSectors:]))
	if sectors <= 0 || sectors > size/sector {
		return 0, fsys.Contradiction(bootSectors, "the NTFS volume claims %d sectors of %d bytes, more than its "+
			"part of %d bytes holds", sectors, sector, size)
	}
	v.clusters = sectors * sector / v.cluster
	rec := int64(int8(b[bootRecordSize]))
	if rec < 0 && rec > -31 {
		v.record = 1 << -rec
	} else {
		v.record = rec * v.cluster
	}
	if v.record < 512 || v.record > 64<<10 || v.record&(v.record-1) != 0 {
		return 0, fsys.Contradiction(bootRecordSize, "the NTFS boot sector claims file records of %d bytes", v.record)
	}
	lcn := int64(le.Uint64(b[bootMFT:]))
	if lcn <= 0 || lcn >= v.clusters {
		return 0, fsys.Contradiction(bootMFT, "the NTFS boot sector puts $MFT at cluster %d of %d", lcn, v.clusters)
	}
	v.info = fsys.Info{Kind: "NTFS", Size: sectors * sector, Unit: v.cluster,
		ID: fmt.Sprintf("%016X", le.Uint64(b[bootSerial:]))}
	return lcn * v.cluster, nil
}

// openMFT reads the first file record, which describes $MFT itself.
func (v *records) openMFT(at int64) error {
	rec, err := v.readRecordAt(at)
	if err != nil {
		return fmt.Errorf("$MFT: %w", err)
	}
	// Until the whole list is known only the first extent can be used to
	// find the records that hold the rest of it.
	for _, a := range rec.attributes() {
		if a.kind == attrData && a.name == "" && a.nonResident && a.firstVCN == 0 {
			if v.mft, err = v.decodeRuns(a); err != nil {
				return fmt.Errorf("$MFT: %w", err)
			}
			v.mftSize = a.size
		}
	}
	s, err := v.stream(rec, attrData, "")
	if err != nil {
		return fmt.Errorf("$MFT: %w", err)
	}
	v.mft, v.mftSize, v.mftValid = s.runs, s.size, s.valid
	return nil
}

func (v *Volume) describe(boot []byte) error {
	vol, err := v.readRecord(recVolume)
	if err != nil {
		return fmt.Errorf("$Volume: %w", err)
	}
	flags := uint16(0)
	found := false
	for _, a := range vol.attributes() {
		switch {
		case a.kind == attrVolumeName && !a.nonResident:
			v.info.Label = units.Visible(utf16String(a.value))
		case a.kind == attrVolumeInfo && !a.nonResident && len(a.value) >= infoLen:
			if major := a.value[infoMajor]; major != 3 && major != 1 {
				return fsys.Contradiction(0, "NTFS version %d.%d is not known", major, a.value[infoMinor])
			}
			flags, found = binary.LittleEndian.Uint16(a.value[infoFlags:]), true
		}
	}
	if !found {
		return fsys.Contradiction(0, "$Volume says nothing about the volume")
	}
	v.rootEntries, err = v.readRoot()
	if err != nil {
		return fmt.Errorf("root directory: %w", err)
	}
	if v.left, err = restOf(v, flags); err != nil {
		return err
	}
	v.info.Unclean = v.left.Words()
	return nil
}

// Info describes the volume.
func (v *Volume) Info() fsys.Info { return v.info }

// clusterSpan is the bytes of n clusters from lcn.
func (v *Volume) clusterSpan(lcn, n int64) span.Span {
	return span.At(lcn*v.cluster, n*v.cluster)
}

func utf16String(b []byte) string {
	u := make([]uint16, len(b)/2)
	for i := range u {
		u[i] = binary.LittleEndian.Uint16(b[2*i:])
	}
	return strings.ToValidUTF8(strings.TrimRight(string(utf16.Decode(u)), "\x00"), "\uFFFD")
}

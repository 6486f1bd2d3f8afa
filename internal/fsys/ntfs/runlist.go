package ntfs

import (
	"io"
	"sort"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

const (
	maxRuns   = 1 << 20
	maxStream = 1 << 42 // clusters; a sparse stream may be larger than its volume
)

// run is a stretch of n clusters: vcn in the stream, lcn on the volume.
type run struct {
	vcn, lcn, n int64
	sparse      bool
}

// decodeRuns decodes a run list ("Data Runs"): per run a byte with two
// lengths, then the run's length and its distance from the run before, signed.
func (v *records) decodeRuns(a attribute) ([]run, error) {
	var out []run
	b := a.runs
	vcn, lcn := a.firstVCN, int64(0)
	for len(b) > 0 && b[0] != 0 {
		nLen, nOff := int(b[0]&15), int(b[0]>>4)
		if nLen == 0 || nLen > 8 || nOff > 8 || 1+nLen+nOff > len(b) {
			return nil, fsys.Contradiction(a.at, "a run list is garbled")
		}
		n := signed(b[1 : 1+nLen])
		r := run{vcn: vcn, n: n, sparse: nOff == 0}
		if !r.sparse {
			lcn += signed(b[1+nLen : 1+nLen+nOff])
			r.lcn = lcn
		}
		if n <= 0 || n > maxStream || vcn > maxStream || !r.sparse &&
			(lcn < 0 || n > v.clusters || lcn > v.clusters-n) {
			return nil, fsys.Contradiction(a.at, "a run of %d clusters at cluster %d lies beyond the volume's %d", n,
				lcn, v.clusters)
		}
		vcn += n
		if out = append(out, r); len(out) > maxRuns {
			return nil, fsys.Contradiction(a.at, "a run list has more than %d runs", maxRuns)
		}
		b = b[1+nLen+nOff:]
	}
	return out, nil
}

// signed reads a little-endian signed number of up to 8 bytes.
func signed(b []byte) int64 {
	var n int64
	for i := len(b) - 1; i >= 0; i-- {
		n = n<<8 | int64(b[i])
	}
	if shift := 64 - 8*len(b); len(b) < 8 {
		n = n << shift >> shift
	}
	return n
}

// readRuns fills p from byte off of the stream that the runs describe. It
// returns the byte in the volume at which the first of them stands.
func (v *records) readRuns(runs []run, p []byte, off int64) (int64, error) {
	first := int64(-1)
	for len(p) > 0 {
		vcn := off / v.cluster
		i := firstRun(runs, vcn)
		if i == len(runs) || off < 0 {
			return first, io.ErrUnexpectedEOF
		}
		r := runs[i]
		within := off - r.vcn*v.cluster
		n := int(min(int64(len(p)), r.n*v.cluster-within))
		at := r.lcn*v.cluster + within
		if first < 0 {
			first = at
		}
		if r.sparse {
			clear(p[:n])
		} else if err := disk.ReadFull(v.r, p[:n], at); err != nil {
			return first, err
		}
		p, off = p[n:], off+int64(n)
	}
	return first, nil
}

// firstRun is the number of the run that holds cluster vcn of the stream; len(runs) when none does.
func firstRun(runs []run, vcn int64) int {
	return sort.Search(len(runs), func(i int) bool { return runs[i].vcn+runs[i].n > vcn })
}

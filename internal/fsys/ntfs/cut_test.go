package ntfs

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/testkit"
)

// write is what the system's driver wrote at once.
type write struct {
	off  int64
	data []byte
}

// workday has the system's driver work on a volume, and gives the image before it, and all that it wrote in order.
func workday(t *testing.T) (before []byte, writes []write) {
	t.Helper()
	testkit.Root(t)
	testkit.Need(t, "mkntfs", "ntfs-3g", "strace", "umount", "pgrep")
	img := testkit.Image(t, "day.img", 24<<20)
	testkit.Do(t, "mkntfs", "-q", "-Q", "-F", "-s", "512", img)
	var point string
	mounted := func(work func(), args ...string) {
		testkit.Mounted(t, append(args, "ntfs-3g", img), func(p string) {
			point = p
			work()
		})
		for range 600 { // the driver writes on after the unmount
			if _, err := testkit.Try("pgrep", "-f", "ntfs-3g "+img); err != nil {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
		t.Fatal("the driver doesn't end")
	}
	put := func(name string, b []byte) {
		if err := os.WriteFile(filepath.Join(point, name), b, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	mounted(func() {
		put(hiberName, append(make([]byte, hiberPage), testkit.Noise(1, 3<<20)...))
		put("pagefile.sys", testkit.Noise(2, 1<<20))
		for i := range 12 {
			put(fmt.Sprintf("crossing-%02d.log", i), testkit.Noise(uint64(10+i), 20_000*(1+i%5)))
		}
	})
	before, err := os.ReadFile(img)
	if err != nil {
		t.Fatal(err)
	}
	trace := filepath.Join(t.TempDir(), "trace")
	mounted(func() {
		rng := rand.New(rand.NewPCG(16, 2))
		os.Mkdir(filepath.Join(point, "Tickets"), 0o700)
		for i := range 160 {
			name := fmt.Sprintf("Tickets/ticket-%03d.txt", i)
			switch old := fmt.Sprintf("crossing-%02d.log", i/4%12); {
			case i%4 == 3:
				os.Remove(filepath.Join(point, old)) // what is free is taken anew by the next ones
			case i%9 == 5:
				os.Rename(filepath.Join(point, fmt.Sprintf("Tickets/ticket-%03d.txt", i-1)), filepath.Join(point, name))
				continue
			case i%7 == 6:
				os.Truncate(filepath.Join(point, fmt.Sprintf("Tickets/ticket-%03d.txt", i-2)), 5000)
			}
			put(name, testkit.Noise(uint64(100+i), 1+rng.IntN(60_000)))
		}
	}, "sh", "-c", `exec strace -D -f -e trace=pwrite64 -xx -s 4000000 -o "$0" "$@" >/dev/null 2>&1`, trace)
	text, err := os.ReadFile(trace)
	if err != nil {
		t.Fatal(err)
	}
	line := regexp.MustCompile(`pwrite64\(\d+, "([^"]*)", (\d+), (\d+)\) += (\d+)`)
	for _, m := range line.FindAllStringSubmatch(string(text), -1) {
		b, err := hex.DecodeString(strings.ReplaceAll(m[1], `\x`, ""))
		off, _ := strconv.ParseInt(m[3], 10, 64)
		if err != nil || strconv.Itoa(len(b)) != m[4] {
			t.Fatalf("%d bytes at %s of %s: %v", len(b), m[3], m[4], err)
		}
		writes = append(writes, write{off, b})
	}
	v := probed(t, &disk.Memory{Bytes: before, Sector: 512}) // a driver that is asked to work refuses what sleeps
	s, _, _, err := v.rootFile(hiberName)
	if err != nil {
		t.Fatal(err)
	}
	copy(before[s.runs[0].lcn*v.cluster:], SleepingHead(time.Date(2026, 11, 20, 17, 2, 0, 0, time.UTC), true))
	return before, writes
}

// step is a write as a system makes it that logs what it does to its own structures.
type step struct {
	write
	logged [][]byte // what is logged before it; nothing for contents of files
	bitmap bool
}

// logging tells the structures of the volume from contents, and makes of each change what a system logs of it.
func logging(t *testing.T, before []byte, writes []write) (steps []step) {
	t.Helper()
	now := &disk.Memory{Bytes: bytes.Clone(before), Sector: 512}
	v := probed(t, now)
	rec, err := v.readRecord(recBitmap)
	if err != nil {
		t.Fatal(err)
	}
	s, err := v.stream(rec, attrData, "")
	if err != nil {
		t.Fatal(err)
	}
	bitmap := v.clusterSpan(s.runs[0].lcn, s.runs[0].n)
	le := binary.LittleEndian
	for _, w := range writes {
		st := step{write: w}
		switch {
		case bitmap.Covers(span.At(w.off, int64(len(w.data)))):
			st.bitmap = true
			old := now.Bytes[w.off:][:len(w.data)]
			for i, b := range w.data {
				for bit := range 8 {
					if (b^old[i])>>bit&1 == 0 {
						continue
					}
					at := uint32((w.off-bitmap.Start+int64(i))*8 + int64(bit))
					o := Logged{Redo: opSetBits, Undo: opClearBits, RedoData: rangeOf(at, 1), UndoData: rangeOf(at, 1),
						LCNs: []uint64{uint64(s.runs[0].lcn)}}
					if b>>bit&1 == 0 {
						o.Redo, o.Undo = o.Undo, o.Redo
					}
					st.logged = append(st.logged, o.Bytes())
				}
			}
		case len(w.data)%1024 == 0 && string(w.data[:4]) == recMagic:
			for b := w.data; len(b) > 0; b = b[1024:] {
				r := bytes.Clone(b[:1024])
				if string(r[:4]) != recMagic { // one that was never used
					st.logged = append(st.logged, Logged{}.Bytes())
					continue
				}
				if err := unfix(r, recMagic, 0); err != nil {
					t.Fatalf("at %d, %d bytes: %v", w.off, len(w.data), err)
				}
				number := int64(le.Uint32(r[recNumberAt:]))
				st.logged = append(st.logged, Logged{Redo: opInitRecord, RedoData: r[:le.Uint32(r[recBytesInUse:])],
					VCN: uint64(number * 1024 / v.cluster), Block: uint16(number * 1024 % v.cluster / 512),
					LCNs: []uint64{uint64(w.off / v.cluster)}}.Bytes())
			}
		case len(w.data)%4096 == 0 && string(w.data[:4]) == "INDX":
			st.logged = append(st.logged, Logged{Redo: 0x08, RedoData: w.data[:256],
				LCNs: []uint64{uint64(w.off / v.cluster)}}.Bytes())
		}
		copy(now.Bytes[w.off:], w.data)
		steps = append(steps, st)
	}
	return steps
}

// cutAt is the volume when the power was cut after j steps, with all that was changed until a checkpoint on the disk,
// of later changes of structures only some, and the log; and what it becomes when the log is replayed.
func cutAt(t *testing.T, before []byte, steps []step, checkpoint, j int, rng *rand.Rand) (at, replay []byte) {
	t.Helper()
	at, replay = bytes.Clone(before), bytes.Clone(before)
	v := probed(t, &disk.Memory{Bytes: at, Sector: 512})
	w, err := NewLog(logSize(t, v), 1+rng.IntN(2), 3)
	if err != nil {
		t.Fatal(err)
	}
	le := binary.LittleEndian
	kept := map[int64]bool{} // places that stay as they were, since their pages weren't written any more
	for i, s := range steps[:j] {
		if i == checkpoint {
			w.Restart = w.Record(lrRestart, RestartRecord(), 0, 0)
			w.Oldest = w.Restart
		}
		data := bytes.Clone(s.data)
		for k, b := range s.logged {
			lsn := w.Record(lrClient, b, 24, 0)
			if r := data[min(len(data), k*1024):]; len(r) >= 1024 && string(data[:4]) == recMagic &&
				string(r[:4]) == recMagic &&
				le.Uint32(r[recNumberAt:]) > recVolume { // of the first ones there is a mirror
				le.PutUint64(data[k*1024+recLSN:], lsn)
			}
		}
		copy(replay[s.off:], data)
		page := s.off / 4096
		if i >= checkpoint && len(s.logged) > 0 && rng.IntN(3) == 0 {
			kept[page] = true
		}
		if !kept[page] || len(s.logged) == 0 {
			copy(at[s.off:], data)
		}
	}
	if checkpoint >= j {
		w.Restart = w.Record(lrRestart, RestartRecord(), 0, 0)
		w.Oldest = w.Restart
	}
	mirror(t, v, replay)
	lay(t, &disk.Memory{Bytes: at, Sector: 512}, v, recLog, 0, w.Bytes(false))
	return at, replay
}

// mirror brings $MFTMirr up to date, as a replay does.
func mirror(t *testing.T, v *Volume, image []byte) {
	t.Helper()
	rec, err := v.readRecord(recMirror)
	if err != nil {
		t.Fatal(err)
	}
	s, err := v.stream(rec, attrData, "")
	if err != nil {
		t.Fatal(err)
	}
	copy(image[s.runs[0].lcn*v.cluster:], image[v.mft[0].lcn*v.cluster:][:4*v.record])
}

// unlogged is the volume when the drive was pulled out after j steps of a system that keeps no log: it is marked dirty,
// and pages of the bitmap lag behind what records name.
func unlogged(t *testing.T, before []byte, steps []step, j int, rng *rand.Rand) []byte {
	t.Helper()
	at := bytes.Clone(before)
	lags := rng.IntN(j + 1)
	for i, s := range steps[:j] {
		if i < lags || !s.bitmap {
			copy(at[s.off:], s.data)
		}
	}
	v := probed(t, &disk.Memory{Bytes: at, Sector: 512})
	rec, err := v.readRecord(recVolume)
	if err != nil {
		t.Fatal(err)
	}
	for _, a := range rec.attributes() {
		if a.kind == attrVolumeInfo {
			at[a.valueAt+infoFlags] |= volumeDirty
		}
	}
	mirror(t, v, at)
	lay(t, &disk.Memory{Bytes: at, Sector: 512}, v, recLog, 0, bytes.Repeat([]byte{0xFF}, int(logSize(t, v))))
	return at
}

// filesShown are the files that the system's driver shows, with the sums of their contents.
func filesShown(t *testing.T, image []byte) map[string]string {
	t.Helper()
	img := filepath.Join(t.TempDir(), "shown.img")
	if err := os.WriteFile(img, image, 0o600); err != nil {
		t.Fatal(err)
	}
	out := map[string]string{}
	testkit.Mounted(t, []string{"ntfs-3g", "-o", "ro", img}, func(point string) {
		err := fs.WalkDir(os.DirFS(point), ".", func(p string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || p == hiberName || p == "pagefile.sys" {
				return err
			}
			b, err := os.ReadFile(filepath.Join(point, p))
			if out[p] = fmt.Sprintf("%x", sha256.Sum256(b)); err != nil {
				out[p] = "unreadable" // it was being written, and a replay alone doesn't take that back
			}
			return nil
		})
		if err != nil {
			t.Error(err)
		}
	})
	return out
}

// TestCutOffAtAnyMoment: a system at work is cut off at hundreds of moments. What is kept of the volume is enough for
// every file that its driver shows once the log is replayed; whatever isn't kept is filled with noise.
func TestCutOffAtAnyMoment(t *testing.T) {
	before, writes := workday(t)
	steps := logging(t, before, writes)
	const moments = 60
	rng := rand.New(rand.NewPCG(2026, 11))
	files, free, whole := 0, int64(0), 0
	noise := testkit.Noise(1, len(before))
	for m := range moments {
		j := len(steps) * (m + 1) / moments
		checkpoint := max(0, j-1-rng.IntN(200))
		at, replay := cutAt(t, before, steps, checkpoint, j, rng)
		log := m%4 > 0
		if !log {
			at = unlogged(t, before, steps, j, rng)
			replay = at
		}
		d := &disk.Memory{Bytes: at, Sector: 512}
		vol, err := Probe(d, d.Size(), 512)
		if err != nil || vol == nil {
			t.Fatalf("moment %d: %v %v", j, vol, err)
		}
		v := vol.(*Volume)
		if v.left.State != fsys.FastStart || v.left.Log != log {
			t.Fatalf("moment %d: %+v", j, v.left)
		}
		cut, err := v.Cut(t.Context(), false)
		if err != nil {
			// A folder's index or a record of another moment than the rest: then all of it is read.
			whole++
			t.Logf("moment %d of %d: %v", j, len(steps), err)
			continue
		}
		used := usedOf(t, cut)
		got := bytes.Clone(noise)
		for sp := range used.All() {
			copy(got[sp.Start:sp.End], replay[sp.Start:sp.End])
		}
		for _, s := range steps[:j] { // the replay writes structures again wherever they lie
			if log && len(s.logged) > 0 {
				copy(got[s.off:], replay[s.off:s.off+int64(len(s.data))])
			}
		}
		for _, p := range cut.Patches {
			if !used.Covers(p.Span()) {
				t.Fatalf("moment %d: %v isn't kept", j, p.Span())
			}
			clear(got[p.Off:p.Span().End])
		}
		want, have := filesShown(t, replay), filesShown(t, got)
		for name, sum := range want {
			if have[name] != sum {
				t.Errorf("moment %d of %d: %s is %.8s instead of %.8s", j, len(steps), name, have[name], sum)
			}
		}
		if len(have) != len(want) {
			t.Errorf("moment %d: %d files instead of %d", j, len(have), len(want))
		}
		files += len(want)
		free += int64(len(at)) - used.Total()
		after := probed(t, &disk.Memory{Bytes: got, Sector: 512})
		if h, err := hiberOf(after); err != nil || h.image != imageSpent {
			t.Errorf("moment %d: %+v %v", j, h, err)
		}
	}
	if whole > moments/10 || files < 50*moments/2 {
		t.Errorf("%d moments of %d were taken whole, %d files compared", whole, moments, files)
	}
	t.Logf("%d steps, %d moments, %d whole, %d files compared, of each volume %d bytes left out", len(steps), moments,
		whole, files, free/int64(moments-whole))
}

// usedOf collects what is kept.
func usedOf(t testing.TB, c *fsys.Cut) span.Set {
	t.Helper()
	var out []span.Span
	for sp, err := range c.Used {
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, sp)
	}
	return span.Of(out...)
}

// sleeper is a volume with a hibernation file and one file beside it, whose system sleeps.
func sleeper(t *testing.T, fast bool) (*disk.Memory, *Volume) {
	t.Helper()
	testkit.Need(t, "mkntfs", "ntfscp")
	img := testkit.Image(t, "s.img", 32<<20)
	testkit.Do(t, "mkntfs", "-q", "-F", "-s", "512", img)
	for i, name := range []string{"crossings.csv", hiberName, "fares.csv"} {
		file := filepath.Join(t.TempDir(), "f")
		if err := os.WriteFile(file, testkit.Noise(uint64(i+1), 1<<20), 0o600); err != nil {
			t.Fatal(err)
		}
		testkit.Do(t, "ntfscp", img, file, name)
	}
	b, err := os.ReadFile(img)
	if err != nil {
		t.Fatal(err)
	}
	m := &disk.Memory{Bytes: b, Sector: 512}
	w := aLog(t, 256<<10, 2, 8000)
	patches, err := PutToSleep(probed(t, m), time.Date(2026, 11, 20, 17, 2, 0, 0, time.UTC), fast, w)
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range patches {
		copy(m.Bytes[p.Off:], p.Data)
	}
	return m, probed(t, m)
}

// placeOf is where a file of the root directory lies, in one piece.
func placeOf(t *testing.T, v *Volume, name string) (run, *record) {
	t.Helper()
	s, number, ok, err := v.rootFile(name)
	if err != nil || !ok || len(s.runs) != 1 {
		t.Fatalf("%s: %v in %d pieces", name, err, len(s.runs))
	}
	rec, err := v.readRecord(number)
	if err != nil {
		t.Fatal(err)
	}
	return s.runs[0], rec
}

// move changes a file's record so that it claims to lie elsewhere.
func move(t *testing.T, m *disk.Memory, rec *record, to run) {
	t.Helper()
	for _, a := range rec.attributes() {
		if a.kind != attrData {
			continue
		}
		if !rewrite(rec, a, []run{to}, a.size, a.size, a.size) {
			t.Fatal("the record can't be changed")
		}
		b := bytes.Clone(rec.b)
		refix(b)
		copy(m.Bytes[rec.at:], b)
		return
	}
	t.Fatal("no contents")
}

// TestStatesAreTold: what a system left behind is told apart, with what it was read from.
func TestStatesAreTold(t *testing.T) {
	fast, _ := sleeper(t, true)
	full, _ := sleeper(t, false)
	change := func(m *disk.Memory, f func(m *disk.Memory, v *Volume)) *disk.Memory {
		c := &disk.Memory{Bytes: bytes.Clone(m.Bytes), Sector: 512}
		f(c, probed(t, c))
		return c
	}
	head := func(b []byte) func(*disk.Memory, *Volume) {
		return func(m *disk.Memory, v *Volume) {
			r, _ := placeOf(t, v, hiberName)
			copy(m.Bytes[r.lcn*v.cluster:], b)
		}
	}
	log := func(major int, closed bool) func(*disk.Memory, *Volume) {
		return func(m *disk.Memory, v *Volume) { lay(t, m, v, recLog, 0, aLog(t, 256<<10, major).Bytes(closed)) }
	}
	unknown := make([]byte, hiberPage)
	copy(unknown, "HIBR")
	for _, c := range []struct {
		name   string
		m      *disk.Memory
		state  fsys.State
		log    bool
		remark string
	}{
		{"fast start", fast, fsys.FastStart, true, ""},
		{"hibernated", full, fsys.Hibernated, true, ""},
		{"asleep in a way that isn't told", change(fast, head(unknown)), fsys.Asleep, true, ""},
		{"asleep, of a system without fast start", change(change(fast, head(unknown)), log(1, false)),
			fsys.Hibernated, true,
			""},
		{"asleep with a closed log", change(fast, log(1, true)), fsys.FastStart, false, "leftover"},
		{"asleep with a log that can't be read", change(change(fast, head(unknown)), func(m *disk.Memory, v *Volume) {
			lay(t, m, v, recLog, 0, bytes.Repeat([]byte{7}, 2*makePage))
		}), fsys.Asleep, true, ""},
		{"waking up", change(fast, head(append([]byte("RSTR"), make([]byte, 4092)...))), fsys.Asleep, true,
			"didn't come to the end"},
		{"woken up and cut off", change(fast, head(make([]byte, hiberPage))), fsys.CutOff, true, "another drive"},
		{"cut off, of version 1", change(change(fast, head([]byte("wake"))), log(1, false)), fsys.CutOff, true, ""},
		{"a head that nobody knows", change(fast, head(bytes.Repeat([]byte("?"), hiberPage))), fsys.CutOff, true,
			"isn't known"},
		{"shut down, with a head that nobody knows",
			change(change(fast, head(bytes.Repeat([]byte("?"), hiberPage))), log(1, true)), fsys.ShutDown, false, ""},
		{"shut down", change(change(fast, head(make([]byte, hiberPage))), log(1, true)), fsys.ShutDown, false, ""},
	} {
		r := probed(t, c.m).Rest()
		if r.State != c.state || r.Log != c.log || !strings.Contains(strings.Join(r.Remarks, "; "), c.remark) ||
			c.remark == "" && len(r.Remarks) > 0 && c.state != fsys.CutOff || len(r.Evidence) < 2 {
			t.Errorf("%s: %+v", c.name, r)
		}
		if c.name == "shut down" || c.name == "shut down, with a head that nobody knows" {
			omit, err := probed(t, c.m).Omissions()
			if err != nil || (len(omit) == 1) != (c.name == "shut down") {
				t.Errorf("%s: without %+v (%v)", c.name, omit, err)
			}
		}
		if (r.Words() == "") != r.Quiet() || !r.Quiet() && (r.Cutting() == "" || r.Keeping() == "") {
			t.Errorf("%s: %q", c.name, r.Words())
		}
	}
}

// TestHibernationFilesThatLie: what something else names is kept although a hibernation file claims it; where its head
// lies elsewhere, or is another file's, nothing is left out at all.
func TestHibernationFilesThatLie(t *testing.T) {
	m, v := sleeper(t, true)
	honest, err := v.Cut(t.Context(), false)
	if err != nil || len(honest.Omit) != 1 {
		t.Fatalf("%v %+v", err, honest)
	}
	hiber, rec := placeOf(t, v, hiberName)
	all := v.clusterSet(hiber.lcn, hiber.n)
	if kept := usedOf(t, honest).Intersect(all); !kept.Equal(v.clusterSet(hiber.lcn, 1)) {
		t.Errorf("of the hibernation file %v is kept", kept)
	}
	whole, err := v.Cut(t.Context(), true)
	if err != nil || len(whole.Omit) > 0 || !usedOf(t, whole).Intersect(all).Equal(all) || len(whole.Patches) != 1 {
		t.Errorf("with all: %v %+v", err, whole)
	}
	fares, _ := placeOf(t, v, "fares.csv")
	move(t, m, rec, run{lcn: fares.lcn - hiber.n/2, n: hiber.n}) // its second half is fares.csv
	copy(m.Bytes[(fares.lcn-hiber.n/2)*v.cluster:], SleepingHead(time.Unix(1.79e9, 0), true))
	lying, err := probed(t, m).Cut(t.Context(), false)
	if err == nil && !usedOf(t, lying).Intersect(v.clusterSet(fares.lcn, fares.n)).Equal(v.clusterSet(fares.lcn,
		fares.n)) {
		t.Errorf("a file is left out that the hibernation file claims")
	}
	if err != nil && !strings.Contains(err.Error(), hiberName) {
		t.Errorf("%v", err)
	}
	_, rec = placeOf(t, probed(t, m), hiberName)
	move(t, m, rec, fares) // its head is another file's
	copy(m.Bytes[fares.lcn*v.cluster:], SleepingHead(time.Unix(1.79e9, 0), true))
	if _, err := probed(t, m).Cut(t.Context(), false); err == nil || !strings.Contains(err.Error(), hiberName) {
		t.Errorf("the head of the hibernation file is another file's, and is cleared: %v", err)
	}
	other := bytes.Clone(rec.b)
	at := bytes.Index(other, []byte("h\x00i\x00b\x00e\x00r"))
	copy(other[at:], "c\x00a\x00b\x00e\x00r")
	refix(other)
	copy(m.Bytes[rec.at:], other)
	if x, err := Probe(m, m.Size(), 512); err == nil || x != nil {
		t.Errorf("a record with another name is taken for the hibernation file's: %v", x)
	}
}

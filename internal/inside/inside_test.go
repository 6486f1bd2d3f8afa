package inside

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
)

func TestParseWhere(t *testing.T) {
	for text, want := range map[string]Where{
		"3:home/ann": {0, 3, "home/ann"}, "2.1:Mail": {2, 1, "Mail"}, "3:": {0, 3, "."}, "home/ann": {0, 0, "home/ann"},
		"/": {0, 0, "."}, "12:/a/b/": {0, 12, "a/b"},
		"a:b": {0, 0, "a:b"}, "0:x": {0, 0, "0:x"}, "1.0:x": {0, 0, "1.0:x"}, "1.2.3:x": {0, 0, "1.2.3:x"},
		"3:a:b": {0, 3, "a:b"}, "3:a\\b": {0, 3, "a/b"}, "-1:x": {0, 0, "-1:x"},
	} {
		if got := ParseWhere(text); got != want {
			t.Errorf("%q is understood as %+v, want %+v", text, got, want)
		}
	}
}

// TestFilesInStretches names the files that stretches of a disk belong to.
func TestFilesInStretches(t *testing.T) {
	testkit.Need(t, "mkfs.ext4")
	const mib, start = 1 << 20, 1 << 20
	dir := t.TempDir()
	for name, n := range map[string]int{"fares/large.bin": 300_000, "fares/other.bin": 200_000, "small.txt": 3000} {
		if err := os.MkdirAll(filepath.Join(dir, filepath.Dir(name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), bytes.Repeat([]byte(name), n/len(name)), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Link(filepath.Join(dir, "fares/large.bin"), filepath.Join(dir, "fares/second name")); err != nil {
		t.Fatal(err)
	}
	fs := testkit.Image(t, "fs.img", 8*mib)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", "-d", dir, fs)
	img := testkit.Image(t, "disk.img", 12*mib)
	testkit.Place(t, fs, img, start)
	testkit.WriteTable(t, img,
		table.Layout{Kind: table.MBR, Sector: 512, ID: "1a2b3c4d",
			Parts: []table.Part{{Number: 1, Span: span.At(start, 8*mib), Type: "0x83"}}}, 12*mib)
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	parts, err := Parts(t.Context(), d, 0)
	if err != nil || len(parts) != 1 || parts[0].Kind != "ext4" || parts[0].Name() != "part 1, Linux (ext4)" &&
		!strings.HasPrefix(parts[0].Name(), "part 1, ") {
		t.Fatalf("%+v, %v", parts, err)
	}
	large, err := parts[0].Open(t.Context(), "fares/large.bin")
	if err != nil {
		t.Fatal(err)
	}
	small, err := parts[0].Open(t.Context(), "small.txt")
	if err != nil {
		t.Fatal(err)
	}
	at := large.Contents.Spans()[0].Shift(start)
	for _, c := range []struct {
		where span.Set
		want  string
	}{
		{span.Set{}, ""},
		{span.Of(span.At(at.Start+8192, 4096)), "1:fares/large.bin (4.10 kB)"},
		{span.Of(span.At(at.Start+8192, 512), small.Contents.Spans()[0].Shift(start)),
			"1:small.txt (3.00 kB), 1:fares/large.bin (512 B)"},
		{span.Of(span.At(start+2048, 1024)), "in no file"},
		{span.Of(span.At(0, 512), span.At(11*mib, 4096)), "in no file"},
		{span.Of(span.At(at.Start, 100), span.At(11*mib, 1000)), "1:fares/large.bin (100 B); 1.00 kB in no file"},
	} {
		got, err := FilesIn(context.Background(), d, c.where)
		if err != nil || !strings.HasPrefix(got.Words(10), c.want) || c.want == "" && got.Words(10) != "" {
			t.Errorf("%v: %q, want %q (%v)", c.where, got.Words(10), c.want, err)
		}
	}
	if got, _ := FilesIn(context.Background(), d, span.Of(span.At(start, 8*mib))); len(got.Files) != 3 ||
		!strings.Contains(got.Words(1), "and 2 more") {
		t.Errorf("all of it: %+v", got)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := FilesIn(ctx, d, span.Of(at)); err == nil {
		t.Error("it goes on although it was cancelled")
	}
}

// TestPartsSayWhatTheyAre: kinds, volumes that weren't quiet, and what can't be looked into.
func TestPartsSayWhatTheyAre(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "debugfs", "mkswap")
	const mib = 1 << 20
	for _, c := range []struct {
		tool    string
		args    []string
		edit    string
		kind    string
		unclean string
		why     string
	}{
		{"mkfs.ext4", []string{"-q", "-F"}, "", "ext4", "", ""},
		{"mkfs.ext4", []string{"-q", "-F"}, "set_super_value state 0", "ext4", "wasn't unmounted cleanly", ""},
		{"mkswap", nil, "", "swap", "", "swap holds no files"},
		{"", nil, "", "", "", "no file system is known"},
	} {
		img := testkit.Image(t, "disk.img", 8*mib)
		if c.tool != "" {
			testkit.Do(t, c.tool, append(c.args, img)...)
		}
		if c.edit != "" {
			testkit.Do(t, "debugfs", "-w", "-R", c.edit, img)
		}
		d, err := disk.Open(img, disk.Identity{})
		if err != nil {
			t.Fatal(err)
		}
		defer d.Close()
		parts, err := Parts(t.Context(), d, 0)
		if err != nil || len(parts) != 1 || parts[0].Kind != c.kind || (parts[0].Unclean == "") != (c.unclean == "") ||
			!strings.Contains(parts[0].Unclean, c.unclean) {
			t.Errorf("%s %s: %+v, %v", c.tool, c.edit, parts, err)
			continue
		}
		if _, err := parts[0].Tree(t.Context()); (err == nil) != (c.why == "") || err != nil &&
			!strings.Contains(err.Error(), c.why) {
			t.Errorf("%s: its files: %v", c.tool, err)
		}
	}
}

package main

import (
	"encoding/xml"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/testkit"
)

// TestFigures: everything is measured, on a small disk: each figure comes once a round, and the table and the chart
// hold all of them.
func TestFigures(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "zstd", "cp", "sync", "mount")
	testkit.Root(t)
	b, err := prepare(t.Context(), setting{used: 20e6, rounds: 1, at: t.TempDir()}, t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	b.cold = false // other tests have use for the kernel's memory
	k, err := b.measure(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	table, drawn := tableOf(k, b.about(time.Unix(0, 0))), string(chart(k).SVG())
	groups := map[string]bool{}
	for _, f := range k.figures {
		groups[f.group] = true
		low, _, high := spread(f.values)
		if len(f.values) != 1 || low <= 0 || high != low {
			t.Errorf("%s, %s: %v", f.group, f.name, f.values)
		}
		if !strings.Contains(table, "| "+f.name+" | **"+f.number(low)+"** |") {
			t.Errorf("the table lacks %s", f.name)
		}
		if f.beside != inMiB && !strings.Contains(drawn, ">"+f.name+"<") {
			t.Errorf("the chart lacks %s", f.name)
		}
	}
	for _, g := range b.groups() {
		if !groups[g.name] {
			t.Errorf("%s: nothing was measured", g.name)
		}
	}
	if err := xml.Unmarshal([]byte(drawn), new(struct{})); err != nil {
		t.Error(err)
	}
	if left, err := os.ReadDir(b.dir); err != nil || len(left) > 8 {
		t.Errorf("left behind: %v %v", left, err)
	}
}

// TestSpread: of an odd and an even number of values, and of none.
func TestSpread(t *testing.T) {
	for _, x := range []struct {
		values            []float64
		low, middle, high float64
	}{{nil, 0, 0, 0}, {[]float64{3}, 3, 3, 3}, {[]float64{5, 1, 3}, 1, 3, 5}, {[]float64{4, 1, 2, 9}, 1, 4, 9}} {
		if low, middle, high := spread(x.values); low != x.low || middle != x.middle || high != x.high {
			t.Errorf("%v: %v %v %v", x.values, low, middle, high)
		}
	}
}

// TestReplaced: only what is between the two lines changes, again and again; a document without them is left alone.
func TestReplaced(t *testing.T) {
	path := filepath.Join(t.TempDir(), "performance.md")
	write := func(text string) {
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("before\n" + opening + "old\n" + closing + "after\n")
	for _, figures := range []string{"one\n", "two\n"} {
		if err := replaced(path, figures); err != nil {
			t.Fatal(err)
		}
		if got, err := os.ReadFile(path); err != nil ||
			string(got) != "before\n"+opening+"\n"+figures+"\n"+closing+"after\n" {
			t.Errorf("%q %v", got, err)
		}
	}
	const bare = "nothing of the kind\n"
	write(bare)
	if err := replaced(path, "x"); !errors.Is(err, errNoPlace) {
		t.Error(err)
	}
	if got, err := os.ReadFile(path); err != nil || string(got) != bare {
		t.Errorf("%q %v", got, err)
	}
}

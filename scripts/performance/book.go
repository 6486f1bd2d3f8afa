package main

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"runtime"
	"slices"
	"strings"
	"time"
)

// book is everything that was measured, in its order.
type book struct {
	group   string // of what is added
	figures []figure
}

// figure is one thing, measured once in each round. Its values are ratios, or MiB of memory.
type figure struct {
	group, name, beside string
	most                float64   // what it should come to at the most; 0 where nothing is aimed at
	values              []float64 // one for each round
	seconds             []float64 // of the work itself, where it is about time
}

// mostMiB is how much memory the program may take.
const mostMiB = 200

// inMiB is what a figure of memory is beside.
const inMiB = "MiB"

func (k *book) add(name, beside string, value, seconds, most float64) {
	i := slices.IndexFunc(k.figures, func(f figure) bool { return f.group == k.group && f.name == name })
	if i < 0 {
		i = len(k.figures)
		k.figures = append(k.figures, figure{group: k.group, name: name, beside: beside, most: most})
	}
	f := &k.figures[i]
	f.values = append(f.values, value)
	if seconds > 0 {
		f.seconds = append(f.seconds, seconds)
	}
}

func (k *book) memory(name string, c cost) {
	k.add(name, inMiB, float64(c.peak)/(1<<20), 0, mostMiB)
}

// spread is the lowest, the middle and the highest of some values.
func spread(values []float64) (low, middle, high float64) {
	if len(values) == 0 {
		return 0, 0, 0
	}
	sorted := slices.Sorted(slices.Values(values))
	return sorted[0], sorted[len(sorted)/2], sorted[len(sorted)-1]
}

// about says where and when it was measured.
func (b *bench) about(now time.Time) string {
	memory := "emptied before each command"
	if !b.cold {
		memory = "not emptied, which only root can do"
	}
	return fmt.Sprintf("%s, Linux on %s with %d cores, %d MB used on the disk; median of %d rounds with the lowest "+
		"and the highest, the kernel's memory %s.", now.Format("2006-01-02"), runtime.GOARCH, runtime.NumCPU(),
		b.length/1e6, b.rounds, memory)
}

// tableOf writes everything as a table in Markdown.
func tableOf(k *book, about string) string {
	var t strings.Builder
	t.WriteString(about + "\n")
	for i, f := range k.figures {
		if i == 0 || f.group != k.figures[i-1].group {
			fmt.Fprintf(&t, "\n| %s | | spread | aim | beside | seconds |\n", f.group)
			t.WriteString("| --- | ---: | ---: | ---: | --- | ---: |\n")
		}
		low, middle, high := spread(f.values)
		aim, seconds := "", ""
		if f.most > 0 {
			aim = "≤ " + f.number(f.most)
		}
		if len(f.seconds) > 0 {
			_, s, _ := spread(f.seconds)
			seconds = fmt.Sprintf("%.1f", s)
		}
		fmt.Fprintf(&t, "| %s | **%s** | %s–%s | %s | %s | %s |\n", f.name, f.number(middle), f.number(low),
			f.number(high), aim, f.beside, seconds)
	}
	return t.String()
}

func (f figure) number(x float64) string {
	if f.beside == inMiB {
		return fmt.Sprintf("%.0f", x)
	}
	return fmt.Sprintf("%.2f", x)
}

// The figures of a document are between these lines.
const (
	opening = "<!-- figures: scripts/bench writes them -->\n"
	closing = "<!-- end of the figures -->\n"
)

var errNoPlace = errors.New("there is no place for figures in it")

// replaced puts other figures into a document.
func replaced(path, figures string) error {
	old, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	before, rest, found := bytes.Cut(old, []byte(opening))
	_, after, ended := bytes.Cut(rest, []byte(closing))
	if !found || !ended {
		return fmt.Errorf("%s: %w: it needs the lines %q and %q", path, errNoPlace, opening, closing)
	}
	return os.WriteFile(path, slices.Concat(before, []byte(opening+"\n"+figures+"\n"+closing), after), 0o644)
}

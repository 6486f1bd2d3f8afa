// Command performance measures the work as people run it, whole commands with nothing in the kernel's memory, beside
// general-purpose programs that move or pack the same bytes in the same run. It prints ratios, as a table with their
// spread; with -to it puts the table and a chart into a folder's performance.md and performance.svg. Disks of a known
// speed are stand-ins, so that what is said of them doesn't depend on this machine's.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"time"
)

func main() {
	size := flag.Int64("mb", 1300, "megabytes that are used on the disk")
	rounds := flag.Int("rounds", 5, "how often everything is measured")
	at := flag.String("at", os.TempDir(), "`folder` for the disks and the shelves: 15 times as large as what is used")
	to := flag.String("to", "", "`folder` whose performance.md and performance.svg get what was measured")
	only := flag.String("only", "", "measure only the groups whose `name` begins like this")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := work(ctx, setting{used: *size * 1e6, rounds: *rounds, at: *at, only: *only}, *to); err != nil {
		fmt.Fprintln(os.Stderr, "performance:", err)
		os.Exit(1)
	}
}

// setting is what is asked for.
type setting struct {
	used   int64 // bytes
	rounds int
	at     string
	only   string
}

func work(ctx context.Context, s setting, to string) (err error) {
	dir, err := os.MkdirTemp(s.at, "twinshelf-performance")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	b, err := prepare(ctx, s, dir)
	if err != nil {
		return err
	}
	figures, err := b.measure(ctx)
	if err != nil {
		return err
	}
	table := tableOf(figures, b.about(time.Now()))
	fmt.Print(table)
	if to == "" {
		return nil
	}
	return errors.Join(replaced(filepath.Join(to, "performance.md"), table),
		os.WriteFile(filepath.Join(to, "performance.svg"), chart(figures).SVG(), 0o644))
}

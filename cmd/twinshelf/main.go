// Command twinshelf captures whole disks by date, puts them back and proves it.
package main

import (
	"context"
	"fmt"
	"io"
	"log"
	"os"
	"runtime/debug"

	_ "golang.org/x/crypto/x509roots/fallback" // where the machine has no certificate authorities: on a stick

	"twinshelf/internal/cli"
	"twinshelf/internal/stick/first"
	"twinshelf/internal/tui"
)

// mostMemory is how many bytes are used before the garbage collector works harder than it would by itself: with the
// pages of the program's own file the process stays below 200 MiB. GOMEMLIMIT sets another limit.
const mostMemory = 140 << 20

func main() {
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(mostMemory)
	}
	log.SetOutput(io.Discard) // packages write there, over the screen
	ctx := context.Background()
	switch {
	case first.Is(os.Args):
		fmt.Println("Twin Shelf can't go on as the first process:", first.Run(ctx))
		select {} // the kernel would stop with less to read
	case first.Asked(os.Args):
		if err := first.Modprobe(os.Args[1:]); err != nil {
			os.Exit(1)
		}
	default:
		os.Exit(cli.Main(ctx, os.Args[1:], tui.Run))
	}
}

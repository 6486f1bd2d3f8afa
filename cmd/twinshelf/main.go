// Command twinshelf captures whole disks by date, puts them back and proves it.
package main

import (
	"context"
	"os"

	"twinshelf/internal/cli"
	"twinshelf/internal/tui"
)

func main() { os.Exit(cli.Main(context.Background(), os.Args[1:], tui.Run)) }

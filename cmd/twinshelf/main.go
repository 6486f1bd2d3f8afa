// Command twinshelf captures whole disks by date, puts them back and proves it.
package main

import (
	"os"

	"twinshelf/internal/cli"
	"twinshelf/internal/tui"
)

func main() { os.Exit(cli.Main(os.Args[1:], tui.Run)) }

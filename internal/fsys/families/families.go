// Package families makes every file system family known to fsys.
package families

import (
	_ "twinshelf/internal/fsys/exfat"
	_ "twinshelf/internal/fsys/ext"
	_ "twinshelf/internal/fsys/fat"
	_ "twinshelf/internal/fsys/ntfs"
	_ "twinshelf/internal/fsys/swap"
)

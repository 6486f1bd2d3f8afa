package fsys

import (
	"time"

	"twinshelf/internal/disk"
)

// Adder is a Volume into which a file can be put.
type Adder interface {
	// Add gives the patches that put a file there, with the directories on its way. Offsets count from the start of the volume. It
	// is an error when the file exists, when there is no room, and when the name isn't one that the family can make here.
	Add(name string, contents []byte, when time.Time) ([]disk.Patch, error)

	// Replace gives the patches that put other contents into a file that is there.
	Replace(name string, contents []byte, when time.Time) ([]disk.Patch, error)
}

package fsys

import (
	"time"

	"twinshelf/internal/disk"
)

// FileWriter is a Volume into which a file can be put.
type FileWriter interface {
	// CreateFile gives the patches that put a file there, with the directories on its way. Offsets count from the start
	// of the volume. It is an error when the file exists, when there is no room, and when the name isn't one that the
	// family can make here.
	CreateFile(name string, contents []byte, when time.Time) ([]disk.Patch, error)

	// ReplaceFile gives the patches that put other contents into a file that is there.
	ReplaceFile(name string, contents []byte, when time.Time) ([]disk.Patch, error)
}

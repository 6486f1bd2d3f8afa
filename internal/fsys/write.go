package fsys

import (
	"errors"
	"fmt"
	"io/fs"
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

// RootWriter is a Volume whose root folder can be given a new file while everything else of it stays as it is.
type RootWriter interface {
	// AddToRoot gives the patches that put a new file there; its name is of the 8.3 kind, in ASCII. Offsets count from
	// the start of the volume. The error is a *Cant where the volume has no room for it or isn't quiet, and
	// fs.ErrExist where there is a file of that name.
	AddToRoot(name string, contents []byte, when time.Time) ([]disk.Patch, error)
}

// NewInRoot is nil when a volume's root folder has no such name yet; see RootWriter.
func NewInRoot(v Volume, name string) error {
	if why := v.Info().Unclean; why != "" {
		return &Cant{Why: why}
	}
	t, err := TreeOf(v)
	if err != nil {
		return err
	}
	switch _, err := Find(t, name); {
	case err == nil:
		return fmt.Errorf("%s in the root folder: %w", name, fs.ErrExist)
	case !errors.Is(err, fs.ErrNotExist):
		return err
	}
	return nil
}

package backend

import (
	"slices"
	"strings"
)

// Folders whose objects come and go: uploads on their way, and who works on the store now.
const (
	TempFolder = "tmp"
	LockFolder = "locks"
)

// passing are they, with what waits for a capture to go on, and the object with which protection is tried out.
var passing = []string{TempFolder, LockFolder, "unfinished", ProbeName}

// Passing says whether an object, or a folder, only passes by: nothing of it is kept, and nothing of it is to come
// back.
func Passing(name string) bool {
	first, _, _ := strings.Cut(name, "/")
	return slices.Contains(passing, first)
}

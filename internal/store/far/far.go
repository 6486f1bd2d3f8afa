// Package far is about shelves that lie elsewhere, on a server or in object storage: what their addresses are, and how
// a backend comes of one.
package far

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strings"

	"golang.org/x/sys/unix"

	"twinshelf/internal/store/backend"
	"twinshelf/internal/store/bucket"
	"twinshelf/internal/store/near"
	"twinshelf/internal/store/pace"
	"twinshelf/internal/store/server"
)

// Asks are how a person is asked while a server is opened.
type Asks = server.Asks

// Is says whether a text is meant as an address and not as a folder, also where nothing is known of its kind.
func Is(text string) bool { return strings.Contains(text, "://") }

// Where says in words what a far shelf lies on.
func Where(address string) string {
	if bucket.Is(address) {
		return "in object storage"
	}
	return "on a server"
}

// Name is what a shelf at an address is called where nobody says otherwise: the end of its path.
func Name(address string) string {
	rest, _, _ := strings.Cut(address, "?")
	return path.Base(strings.TrimRight(rest, "/"))
}

// addressIn finds where what is meant as an address begins in a word of a command line.
var addressIn = regexp.MustCompile(`[A-Za-z0-9+.-]+://`)

// Shown is a word of a command line as it may be kept: an address in it that can't be one of a shelf may hold a secret,
// and is left out but for its kind.
func Shown(word string) string {
	at := addressIn.FindStringIndex(word)
	if at == nil || Check(word[at[0]:]) == nil {
		return word
	}
	return word[:at[1]] + "(not shown)"
}

// Same is an address as all ways of writing it are remembered; one that can't be read is as it is.
func Same(address string) string {
	switch {
	case server.Is(address):
		if a, err := server.Parse(address); err == nil {
			return a.String()
		}
	case bucket.Is(address):
		if a, err := bucket.Parse(address); err == nil {
			return a.String()
		}
	}
	return address
}

// Check says why an address can't be one of a shelf. Secrets in it aren't repeated.
func Check(address string) error {
	_, err := parse(address, Means{})
	return err
}

// Means are what far shelves are opened by.
type Means struct {
	// SSH is the folder with the person's SSH configuration, keys and known hosts.
	SSH string
	// Cache is the folder for copies of what never changes; empty keeps none.
	Cache string
	Asks  Asks
	// Pace bounds what goes over the line; what a month has of it is counted in the file Count.
	Pace  pace.Pace
	Count string
}

const (
	// mostCopies bounds what copies of one shelf take, in bytes; the index of 80 TiB of blocks takes so much.
	mostCopies = 4 << 30
	// freeShare is the share of the free room that they take at the most: one of so many parts.
	freeShare = 8
)

// Open gives the backend at an address; nothing is reached before it is first used.
func Open(address string, m Means) (backend.Backend, error) {
	open, err := parse(address, m)
	if err != nil {
		return nil, err
	}
	b, err := open()
	if err != nil || m.Cache == "" {
		return b, err
	}
	sum := sha256.Sum256([]byte(b.Place()))
	most := int64(mostCopies)
	var st unix.Statfs_t
	if unix.Statfs(existing(m.Cache), &st) == nil {
		most = min(most, int64(st.Bavail)*st.Bsize/freeShare)
	}
	return near.Over(b, filepath.Join(m.Cache, hex.EncodeToString(sum[:8])), most), nil
}

// existing is a folder, or the first above it that is there.
func existing(dir string) string {
	for {
		if _, err := os.Stat(dir); err == nil || filepath.Dir(dir) == dir {
			return dir
		}
		dir = filepath.Dir(dir)
	}
}

// parse reads an address, and says how what it names is opened.
func parse(address string, m Means) (open func() (backend.Backend, error), err error) {
	switch {
	case server.Is(address):
		a, err := server.Parse(address)
		return func() (backend.Backend, error) { return server.Open(a, m.SSH, m.Asks, pace.New(m.Pace, m.Count)) }, err
	case bucket.Is(address):
		a, err := bucket.Parse(address)
		return func() (backend.Backend, error) { return bucket.Open(a, pace.New(m.Pace, m.Count)) }, err
	}
	kind, _, _ := strings.Cut(address, "://")
	return nil, fmt.Errorf("a shelf lies in a folder, on a server (sftp://user@host/path) or in object storage "+
		"(s3://bucket/folder?endpoint=https://host:port); %.20q isn't known", kind)
}

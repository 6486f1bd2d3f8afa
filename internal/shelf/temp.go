package shelf

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Files in tmp/ are unfinished. Their names tell whose they are: those of a session begin like its lock, all others with the
// process that writes them.

// hostTag tells hosts and their boots apart in names.
var hostTag = sync.OnceValue(func() string {
	host, _ := os.Hostname()
	n := checksum([]byte(host + "\x00" + bootID()))
	return fmt.Sprintf("%x", n[:4])
})

// tempName is a new name in tmp/ that tells which process writes there.
func tempName(suffix string) string {
	return fmt.Sprintf("tmp/p%s-%d-%d-%s%s", hostTag(), os.Getpid(), startOf(os.Getpid()), newID(), suffix)
}

// abandoned says whether nobody writes to a file in tmp/ any more. age is how long ago it was changed, by the clock of the
// shelf's folder, and live are the holders of locks. alone says that the caller keeps everybody else from taking one.
func abandoned(name string, age time.Duration, live []Holder, alone bool) bool {
	if slices.ContainsFunc(live, func(h Holder) bool { return strings.HasPrefix(name, h.ID) }) {
		return false
	}
	if rest, ok := strings.CutPrefix(name, "p"); ok {
		if f := strings.Split(rest, "-"); len(f) >= 4 && f[0] == hostTag() {
			pid, _ := strconv.Atoi(f[1])
			began, _ := strconv.ParseUint(f[2], 10, 64)
			now := startOf(pid)
			return pid > 0 && now != began
		}
		return age > staleAfter
	}
	// Of a lock that is gone, or of an earlier version, which wrote small files without one.
	return alone && strings.Contains(name, ".index") || age > staleAfter
}

// clearTemp removes what killed writers left in tmp/. own is the lock that the caller holds.
func (s *Shelf) clearTemp(own Holder) {
	names, err := s.b.List("tmp")
	if err != nil || len(names) == 0 {
		return
	}
	live, err := s.holders(own.ID)
	if err != nil {
		return
	}
	_, now, err := s.b.Stat(lockPath(own.ID))
	if err != nil {
		return
	}
	for _, n := range names {
		if strings.HasPrefix(n, own.ID) {
			continue
		}
		_, changed, err := s.b.Stat("tmp/" + n)
		if errors.Is(err, fs.ErrNotExist) || err != nil {
			continue
		}
		if abandoned(n, now.Sub(changed), live, own.Alone) {
			_ = s.b.Remove("tmp/" + n)
		}
	}
}

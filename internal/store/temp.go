package store

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// The labels of unfinished objects tell whose they are: what is written under a lock begins with its ID, all others
// with the process that writes them.

// hostTag tells hosts and their boots apart in labels.
var hostTag = sync.OnceValue(func() string {
	host, _ := os.Hostname()
	n := Checksum([]byte(host + "\x00" + bootID()))
	return fmt.Sprintf("%x", n[:4])
})

// processTag begins the labels of what this process writes without a lock.
func processTag() string {
	return fmt.Sprintf("p%s-%d-%d", hostTag(), os.Getpid(), startOf(os.Getpid()))
}

// abandoned says whether nobody writes to an unfinished object any more. age is how long ago it was changed, by the
// clock of the shelf's folder, and live are the holders of locks. alone says that the caller keeps everybody else from
// taking one.
func abandoned(label string, age time.Duration, live []Holder, alone bool) bool {
	if slices.ContainsFunc(live, func(h Holder) bool { return strings.HasPrefix(label, h.ID) }) {
		return false
	}
	if rest, ok := strings.CutPrefix(label, "p"); ok {
		if f := strings.Split(rest, "-"); len(f) >= 4 && f[0] == hostTag() {
			pid, _ := strconv.Atoi(f[1])
			began, _ := strconv.ParseUint(f[2], 10, 64)
			now := startOf(pid)
			return pid > 0 && now != began
		}
		return age > staleAfter
	}
	// Of a lock that is gone, or of an earlier version, which wrote small files without one.
	return alone && strings.Contains(label, ".index") || age > staleAfter
}

// sweep removes what killed writers left unfinished. own is the lock that the caller holds.
func (k *locks) sweep(ctx context.Context, own Holder) {
	live, err := k.holders(ctx, own.ID)
	if err != nil {
		return
	}
	info, err := k.b.Stat(ctx, lockPath(own.ID))
	if err != nil {
		return
	}
	_ = k.b.Sweep(ctx, func(label string, changed time.Time) bool {
		return !strings.HasPrefix(label, own.ID) && abandoned(label, info.Changed.Sub(changed), live, own.Alone)
	})
}

package cli

import (
	"fmt"
	"io"
	"os"
	"sync"
	"time"

	"golang.org/x/term"
)

// patience is how long a planning says nothing of what it is busy with.
const patience = 500 * time.Millisecond

// hearing gives who hears what a planning is busy with: on a terminal it is shown once the planning has lasted for a
// while, and goes when over is called.
func hearing(o *options) (doing func(string), over func()) {
	if o.quiet || !term.IsTerminal(int(os.Stderr.Fd())) {
		return func(string) {}, func() {}
	}
	return hearingOn(o.term, patience)
}

func hearingOn(w io.Writer, patience time.Duration) (doing func(string), over func()) {
	began := time.Now()
	var mu sync.Mutex
	what, shown, ended := "", false, false
	show := func() {
		if what != "" && !ended {
			fmt.Fprintf(w, "\r\x1b[Kplanning: %s", what)
			shown = true
		}
	}
	late := time.AfterFunc(patience, func() {
		mu.Lock()
		defer mu.Unlock()
		show()
	})
	doing = func(s string) {
		mu.Lock()
		defer mu.Unlock()
		if what = s; time.Since(began) >= patience {
			show()
		}
	}
	return doing, func() {
		late.Stop()
		mu.Lock()
		defer mu.Unlock()
		if ended = true; shown {
			fmt.Fprint(w, "\r\x1b[K")
		}
	}
}

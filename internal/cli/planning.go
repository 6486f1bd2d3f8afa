package cli

import (
	"fmt"
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
	began := time.Now()
	var mu sync.Mutex
	what, shown := "", false
	show := func() {
		if what != "" {
			fmt.Fprintf(o.term, "\r\x1b[Kplanning: %s", what)
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
		if what = ""; shown {
			fmt.Fprint(o.term, "\r\x1b[K")
		}
	}
}

package backend

import (
	"sync"
	"sync/atomic"
)

// Each does something for each of n numbers, as many at once as a backend takes well, and returns when all is done.
func Each(b Backend, n int, do func(i int)) {
	var next atomic.Int64
	var all sync.WaitGroup
	for range min(AtOnce(b), n) {
		all.Go(func() {
			for i := next.Add(1) - 1; i < int64(n); i = next.Add(1) - 1 {
				do(int(i))
			}
		})
	}
	all.Wait()
}

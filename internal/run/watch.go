package run

import (
	"sync"
	"time"
)

// lookEvery is how often it is looked whether the work waits.
const lookEvery = 2 * time.Second

// Watch asks from time to time why the work waits for something outside ("" while it goes on), and has that said, until
// stop is called, which waits for it to end.
func (c *Context) Watch(why func() string) (stop func()) {
	return c.watch(why, lookEvery)
}

func (c *Context) watch(why func() string, every time.Duration) (stop func()) {
	over := make(chan struct{})
	var wg sync.WaitGroup
	wg.Go(func() {
		tick := time.NewTicker(every)
		defer tick.Stop()
		for {
			select {
			case <-over:
				return
			case <-tick.C:
				c.Waits(why())
			}
		}
	})
	return func() {
		close(over)
		wg.Wait()
		c.Waits("")
	}
}

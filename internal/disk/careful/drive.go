package careful

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

// Drive reads a drive that may hang, need rest, get hot, or vanish and come back. Its reads are one after the other.
type Drive struct {
	Options
	dev     disk.Device
	pending chan answer // the answer to a read that hangs; nil for none
	started sync.WaitGroup
	rest    time.Duration // after the last stall, and longer after the next; 0 once a read went well
	tired   bool          // it hung and hasn't rested yet
	watched time.Time     // when the temperature was asked for last
	rates   *Rates
	spare   []byte
	own     []disk.Device // that Reopen gave
}

// Options say how a Drive is read. Zero values are for the usual.
type Options struct {
	// Patience is how long a read may take.
	Patience time.Duration
	// Reopen finds the same drive again, wherever it is attached now, and opens it; ErrNotThere when it isn't. Nil
	// where that can't be.
	Reopen func(context.Context) (disk.Device, error)
	// Same says whether what Reopen found holds what the drive held: serial numbers aren't always a drive's own. Any
	// error but the context's means that it is another one. Nil where nothing can be compared.
	Same func(context.Context, disk.Device) error
	// Watch is how often the temperature is asked for; 0 for every minute.
	Watch time.Duration
	// Absent is for how long a drive that vanished is waited for; 0 for as long as it takes.
	Absent time.Duration
	// Warmth is the drive's temperature, in degrees Celsius, and the one from which on it rests; ok is false where it
	// isn't told.
	Warmth func(context.Context) (now, limit int, ok bool)
	// Waits is told why the drive isn't read at the moment, in words for the person; "" when it goes on.
	Waits func(why string)
	// Sleep waits; time passes by it.
	Sleep func(context.Context, time.Duration) error
	// Stalled, if any, is told of reads that hang.
	Stalled func(sp span.Span)
}

// ErrNotThere means that a drive isn't attached now.
var ErrNotThere = errors.New("the drive isn't attached")

const (
	patience    = 30 * time.Second
	firstRest   = time.Second
	longestRest = 2 * time.Minute
	lookAgain   = 2 * time.Second
	watchEvery  = time.Minute
	coolDown    = 5 // degrees below the limit
	// longHang is after how long the person is asked to switch the drive off and on.
	longHang = time.Minute
)

type answer struct {
	b   []byte
	n   int
	err error
	dev disk.Device
}

// NewDrive reads a device. Whoever opened it goes on owning it; those that Reopen gives belong to the Drive.
func NewDrive(dev disk.Device, o Options) *Drive {
	if o.Patience == 0 {
		o.Patience = patience
	}
	if o.Watch == 0 {
		o.Watch = watchEvery
	}
	if o.Waits == nil {
		o.Waits = func(string) {}
	}
	if o.Sleep == nil {
		o.Sleep = Sleep
	}
	return &Drive{Options: o, dev: dev, rates: NewRates(dev.Size()), watched: time.Now()}
}

// Sleep waits for a time, or for the end of the context.
func Sleep(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Device is the drive as it is attached now.
func (d *Drive) Device() disk.Device { return d.dev }

// Rates are how fast it was, region by region.
func (d *Drive) Rates() *Rates { return d.rates }

// Close waits, for a moment, until no read is under way any more. One that hangs in the kernel can't be ended; it is
// left to it.
func (d *Drive) Close() {
	done := make(chan struct{})
	go func() { d.started.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(time.Second):
	}
	for _, dev := range d.own {
		closed(dev)
	}
}

// Read reads into p and gives how many bytes of its beginning came. A *Failed says that the drive can't read it; any
// other error ends the work: the context's, or that the drive is gone and nobody finds it again.
func (d *Drive) Read(ctx context.Context, p []byte, off int64) (int, error) {
	for {
		if err := d.ready(ctx); err != nil {
			return 0, err
		}
		begun := time.Now()
		n, err := d.once(ctx, p, off)
		switch {
		case ctx.Err() != nil:
			return n, ctx.Err()
		case err == nil:
			d.rates.Add(span.At(off, int64(n)), time.Since(begun))
			d.rest = 0
			return n, nil
		case errors.Is(err, disk.ErrStalled):
			if d.Stalled != nil {
				d.Stalled(span.At(off, int64(len(p))))
			}
			d.rest, d.tired = min(longestRest, max(firstRest, 2*d.rest)), true
			return 0, &Failed{off, err}
		case disk.Gone(err):
			if err = d.comeBack(ctx, err); err != nil {
				return n, err
			}
		default:
			return n, &Failed{off + int64(n), err}
		}
	}
}

// once reads in a thread of its own, and gives up waiting for it when it takes too long.
func (d *Drive) once(ctx context.Context, p []byte, off int64) (int, error) {
	c := make(chan answer, 1)
	b := d.spare
	if d.spare = nil; len(b) < len(p) { // it belongs to the read until that has ended
		b = disk.Aligned(max(large, len(p)))
	}
	dev, b := d.dev, b[:len(p)]
	d.started.Go(func() {
		n, err := dev.ReadAt(b, off)
		if n == len(b) {
			err = nil
		}
		c <- answer{b, n, err, dev}
	})
	limit := time.NewTimer(d.Patience)
	defer limit.Stop()
	select {
	case a := <-c:
		d.spare = a.b[:cap(a.b)]
		return copy(p, a.b[:a.n]), a.err
	case <-ctx.Done():
		d.pending = c
		return 0, ctx.Err()
	case <-limit.C:
		d.pending = c
		return 0, fmt.Errorf("read at byte %d: %w", off, disk.ErrStalled)
	}
}

// ready waits until the drive can be asked: a read that hangs has ended, it had its rest, and it isn't too hot.
func (d *Drive) ready(ctx context.Context) error {
	if d.pending != nil {
		if err := d.unstick(ctx); err != nil {
			return err
		}
	}
	if d.tired {
		d.Waits(fmt.Sprintf("the drive hung: it gets %v of rest", d.rest.Round(time.Second)))
		err := d.Sleep(ctx, d.rest)
		d.Waits("")
		if err != nil {
			return err
		}
		d.tired = false
	}
	return d.cool(ctx)
}

// unstick waits for the end of a read that hangs. Meanwhile the drive may have come back under another name.
func (d *Drive) unstick(ctx context.Context) error {
	defer d.Waits("")
	begun := time.Now()
	for {
		select {
		case a := <-d.pending:
			d.pending = nil
			if disk.Gone(a.err) {
				return d.comeBack(ctx, a.err)
			}
			return nil
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(min(lookAgain, d.Patience)):
		}
		words := "the drive doesn't answer; it is waited for"
		if time.Since(begun) > longHang {
			words = "the drive doesn't answer: switch it off and on again, or unplug it and plug it in; then it goes on"
		}
		d.Waits(words)
		if dev, err := d.reopened(ctx); err == nil && dev != nil {
			d.took(dev)
			d.pending = nil
			return nil
		}
	}
}

// reopened is the drive where it is attached anew, nil when it is where it was.
func (d *Drive) reopened(ctx context.Context) (disk.Device, error) {
	if d.Reopen == nil {
		return nil, ErrNotThere
	}
	dev, err := d.Reopen(ctx)
	if err == nil && samePlace(dev, d.dev) {
		closed(dev)
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return d.compared(ctx, dev)
}

// Other means that a drive is attached that isn't taken for the one that is waited for.
type Other struct{ Why error }

func (e *Other) Error() string { return "what is attached there isn't taken for it: " + e.Why.Error() }
func (e *Other) Unwrap() error { return e.Why }

// compared is a drive that Reopen found, if it is the one that vanished.
func (d *Drive) compared(ctx context.Context, dev disk.Device) (disk.Device, error) {
	var err error
	switch {
	case dev.Size() != d.dev.Size():
		err = fmt.Errorf("it has %d bytes instead of %d", dev.Size(), d.dev.Size())
	case d.Same != nil:
		err = d.Same(ctx, dev)
	}
	if err == nil {
		return dev, nil
	}
	closed(dev)
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case disk.Gone(err):
		return nil, fmt.Errorf("%w any more: %w", ErrNotThere, err)
	}
	return nil, &Other{err}
}

// closed closes a device that Reopen gave.
func closed(dev disk.Device) {
	if c, ok := dev.(io.Closer); ok {
		_ = c.Close()
	}
}

// samePlace says whether two devices are attached at the same place.
func samePlace(a, b disk.Device) bool {
	p, ok := a.(interface{ Path() string })
	q, can := b.(interface{ Path() string })
	return ok && can && p.Path() == q.Path()
}

// comeBack waits until a drive that vanished is there again.
func (d *Drive) comeBack(ctx context.Context, cause error) error {
	if d.Reopen == nil {
		return cause
	}
	gone := disk.Sticker(d.dev.Identity()) + " is gone: attach it again, or switch it off and on; then it goes on"
	if d.Absent > 0 {
		gone += fmt.Sprintf(" (it is waited for until %s)", time.Now().Add(d.Absent).Format("15:04"))
	}
	says := ""
	say := func(words string) {
		if words != says {
			says = words
			d.Waits(words)
		}
	}
	say(gone)
	defer d.Waits("")
	for waited := time.Duration(0); ; waited += lookAgain {
		dev, err := d.Reopen(ctx)
		if err == nil {
			dev, err = d.compared(ctx, dev)
		}
		var other *Other
		switch {
		case err == nil:
			d.took(dev)
			return nil
		case errors.As(err, &other):
			say(gone + "; " + other.Error())
		case !errors.Is(err, ErrNotThere):
			return fmt.Errorf("%w (it was looked for because of this: %w)", err, cause)
		default:
			say(gone)
		}
		if d.Absent > 0 && waited >= d.Absent {
			return cause
		}
		if err := d.Sleep(ctx, lookAgain); err != nil {
			return err
		}
	}
}

// cool lets a hot drive cool down.
func (d *Drive) cool(ctx context.Context) error {
	if d.Warmth == nil || time.Since(d.watched) < d.Watch {
		return nil
	}
	hot := false
	defer func() {
		d.watched = time.Now()
		if hot {
			d.Waits("")
		}
	}()
	for {
		now, limit, ok := d.Warmth(ctx)
		if !ok || now < limit && !hot || now <= limit-coolDown {
			return ctx.Err()
		}
		hot = true
		d.Waits(fmt.Sprintf("the drive has %d °C: it rests until it has %d °C", now, limit-coolDown))
		if err := d.Sleep(ctx, d.Watch); err != nil {
			return err
		}
	}
}

// took goes on with the drive as it is attached now.
func (d *Drive) took(dev disk.Device) {
	d.dev = dev
	d.own = append(d.own, dev)
}

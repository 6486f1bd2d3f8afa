package capture

import (
	"errors"
	"fmt"
	"sync"
	"time"

	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
)

// Packing says how closely what is captured is packed.
type Packing string

// The ways of packing.
const (
	// PackFollow packs as closely as there is time for: while the disk or the shelf is waited for the cores pack
	// closer, while they are waited for they pack less.
	PackFollow Packing = ""
	PackClose  Packing = "close"
	PackSwift  Packing = "swift"
	// PackUsual packs alike whatever is waited for.
	PackUsual Packing = "usual"
)

// ErrPacking means that there is no such way of packing.
var ErrPacking = errors.New("there is no such way of packing")

// ParsePacking reads a way of packing as people name it.
func ParsePacking(text string) (Packing, error) {
	switch p := Packing(text); p {
	case PackFollow, PackClose, PackSwift, PackUsual:
		return p, nil
	case "follow":
		return PackFollow, nil
	}
	return "", fmt.Errorf("%w as %q: choose follow, close, usual or swift", ErrPacking, text)
}

// Next is the way that follows, round in a circle.
func (p Packing) Next() Packing {
	return map[Packing]Packing{PackFollow: PackClose, PackClose: PackUsual, PackUsual: PackSwift}[p]
}

// Words say what a way means where it isn't the one that follows; empty for that.
func (p Packing) Words() string {
	return map[Packing]string{PackClose: "as closely as can be, also where that takes longer",
		PackUsual: "the usual way, whatever is waited for",
		PackSwift: "swiftly, also where there is time for more: it takes more room"}[p]
}

// fixed is the effort of a way that follows nothing.
var fixed = map[Packing]store.Effort{PackClose: store.Close, PackSwift: store.Swift, PackUsual: store.Usual}

const (
	// wished is how full the queue between the reader and the workers should be: so full that no worker waits for a
	// block, and so empty that the reader never waits for a worker.
	wished = 0.35
	// swing is by how many efforts a full queue and an empty one differ, drift how far the effort in their middle goes
	// with each block at the most.
	swing = 1
	drift = 0.1
	// held is from which share of their time on the workers are held up by the shelf: then that is the slow end, and
	// the less room a block takes, the sooner it is there. Waiting is averaged over so many blocks as memory says.
	held   = 0.5
	memory = 16
)

// pacing decides with how much effort each block is packed, by how full the queue of blocks is, and how long the
// workers wait for the shelf.
type pacing struct {
	follows bool

	mu     sync.Mutex
	middle float64 // the effort at which the queue is as full as it is wished
	waits  float64 // the share of their time that workers waited for the shelf lately
	owed   float64 // of the higher effort, to blocks that got the lower one
	packed [store.Efforts]int64
}

func newPacing(p Packing) *pacing {
	e, known := fixed[p]
	if !known {
		return &pacing{follows: true, middle: float64(store.Usual)}
	}
	return &pacing{middle: float64(e)}
}

// next is the effort for the next block, while the queue is so full: 0 to 1. Between two efforts some blocks get the
// one, some the other.
func (p *pacing) next(full float64) store.Effort {
	p.mu.Lock()
	defer p.mu.Unlock()
	const most = float64(store.Efforts - 1)
	effort := p.middle
	switch {
	case p.follows && p.waits > held:
		p.middle = min(most, p.middle+drift)
	case p.follows:
		effort = min(max(0, p.middle+swing*(wished-full)), most)
		p.middle = min(max(0, p.middle+drift*(wished-full)), most)
	}
	e := store.Effort(effort)
	if p.owed += effort - float64(e); p.owed >= 1 {
		p.owed--
		e++
	}
	return min(e, store.Efforts-1)
}

// took hears how long a worker waited for the shelf with a block, and how long it worked on it.
func (p *pacing) took(waited, worked time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if all := waited + worked; all > 0 {
		p.waits += (float64(waited)/float64(all) - p.waits) / memory
	}
}

// did notes that so many bytes were packed with an effort.
func (p *pacing) did(e store.Effort, plain int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.packed[e] += int64(plain)
}

// done says how much was packed with which effort.
func (p *pacing) done() *shelf.Packing {
	p.mu.Lock()
	defer p.mu.Unlock()
	return &shelf.Packing{Swift: p.packed[store.Swift], Usual: p.packed[store.Usual], Firm: p.packed[store.Firm],
		Closer: p.packed[store.Closer], Close: p.packed[store.Close]}
}

package lzfse

import (
	"encoding/binary"
	"math/bits"
)

// Blocks of a stream, by the word that they begin with.
const (
	blockEnd   = "bvx$"
	blockPlain = "bvx-"
	blockOne   = "bvx1" // with its frequencies as they are; nobody writes it any more
	blockTwo   = "bvx2"
	blockLZVN  = "bvxn"

	plainHead = 8
	lzvnHead  = 12
	twoHead   = 32 // and packed frequencies
)

// What a block counts in: symbols and states of literals, of lengths L and M, and of distances D.
const (
	symbolsL, symbolsM, symbolsD, symbolsLit = 20, 20, 64, 256
	statesL, statesM, statesD, statesLit     = 64, 64, 256, 1024
	lanes                                    = 4 // of literals, with a state each
	mostLiterals, mostMatches                = 40000, 10000
)

// extraL, extraM and extraD are how many bits more a symbol has.
var (
	extraL = []uint8{0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 2, 3, 5, 8}
	extraM = []uint8{0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 3, 5, 8, 11}
	extraD = []uint8{0, 0, 0, 0, 1, 1, 1, 1, 2, 2, 2, 2, 3, 3, 3, 3, 4, 4, 4, 4, 5, 5, 5, 5, 6, 6, 6, 6, 7, 7, 7, 7, 8,
		8, 8, 8, 9, 9, 9, 9, 10, 10, 10, 10, 11, 11, 11, 11, 12, 12, 12, 12, 13, 13, 13, 13, 14, 14, 14, 14, 15, 15, 15,
		15}
)

// Decode unpacks a stream of LZFSE into so many bytes at the most.
func Decode(b []byte, most int) ([]byte, error) {
	o := &output{most: most}
	le := binary.LittleEndian
	for len(b) >= 4 {
		used := 0
		switch kind := string(b[:4]); {
		case kind == blockEnd:
			return o.b, nil
		case kind == blockPlain && len(b) >= plainHead:
			n := int64(le.Uint32(b[4:]))
			if plainHead+n > int64(len(b)) || !o.literals(b[plainHead:plainHead+n]) {
				return nil, ErrHurt
			}
			used = plainHead + int(n)
		case kind == blockLZVN && len(b) >= lzvnHead:
			raw, n := int64(le.Uint32(b[4:])), int64(le.Uint32(b[8:]))
			inner := &output{b: o.b, most: int(min(int64(len(o.b))+raw, int64(most)))}
			if lzvnHead+n > int64(len(b)) || !lzvn(inner, b[lzvnHead:lzvnHead+n]) {
				return nil, ErrHurt
			}
			o.b, used = inner.b, lzvnHead+int(n)
		case kind == blockTwo && len(b) >= twoHead:
			var ok bool
			if used, ok = block(o, b); !ok {
				return nil, ErrHurt
			}
		default:
			return nil, ErrHurt
		}
		b = b[used:]
	}
	return nil, ErrHurt
}

// head is that of a block.
type head struct {
	literals, matches         int
	litBytes, lmdBytes        int
	litBits, lmdBits          int
	litStates                 [lanes]int
	stateL, stateM, stateD    int
	size                      int
	freqL, freqM, freqD, freq []int
}

// field is some bits of a word.
func field(w uint64, at, n int) int { return int(w >> at & (1<<n - 1)) }

func readHead(b []byte) (h head, ok bool) {
	le := binary.LittleEndian
	v0, v1, v2 := le.Uint64(b[8:]), le.Uint64(b[16:]), le.Uint64(b[24:])
	h = head{literals: field(v0, 0, 20), litBytes: field(v0, 20, 20), matches: field(v0, 40, 20),
		litBits: field(v0, 60, 3) - 7, lmdBytes: field(v1, 40, 20), lmdBits: field(v1, 60, 3) - 7,
		size: field(v2, 0, 32), stateL: field(v2, 32, 10), stateM: field(v2, 42, 10), stateD: field(v2, 52, 10)}
	for i := range h.litStates {
		h.litStates[i] = field(v1, 10*i, 10)
		ok = i == 0 || ok
		ok = ok && h.litStates[i] < statesLit
	}
	ok = ok && h.stateL < statesL && h.stateM < statesM && h.stateD < statesD && h.literals <= mostLiterals &&
		h.literals%lanes == 0 && h.matches <= mostMatches && h.size >= twoHead &&
		h.size+h.litBytes+h.lmdBytes <= len(b)
	if !ok {
		return h, false
	}
	all, ok := frequencies(b[twoHead:h.size])
	if !ok {
		return h, false
	}
	h.freqL, all = all[:symbolsL], all[symbolsL:]
	h.freqM, all = all[:symbolsM], all[symbolsM:]
	h.freqD, h.freq = all[:symbolsD], all[symbolsD:]
	return h, true
}

// frequencies decodes those of all symbols: each takes 2 to 14 bits, lowest bit first. None at all means that every
// symbol has none.
func frequencies(b []byte) ([]int, bool) {
	const (
		short = 8  // bits: a value from 8 on
		long  = 14 // bits: a value from 24 on
	)
	widths := [32]int{2, 3, 2, 5, 2, 3, 2, short, 2, 3, 2, 5, 2, 3, 2, long, 2, 3, 2, 5, 2, 3, 2, short, 2, 3, 2, 5,
		2, 3,
		2, long}
	values := [32]int{0, 2, 1, 4, 0, 3, 1, 0, 0, 2, 1, 5, 0, 3, 1, 0, 0, 2, 1, 6, 0, 3, 1, 0, 0, 2, 1, 7, 0, 3, 1, 0}
	out := make([]int, symbolsL+symbolsM+symbolsD+symbolsLit)
	if len(b) == 0 {
		return out, true
	}
	var acc uint32
	have := 0
	for i := range out {
		for len(b) > 0 && have+8 <= 32 {
			acc |= uint32(b[0]) << have
			b, have = b[1:], have+8
		}
		n := widths[acc&31]
		if n > have {
			return nil, false
		}
		switch n {
		case short:
			out[i] = 8 + int(acc>>4&0xF)
		case long:
			out[i] = 24 + int(acc>>4&0x3FF)
		default:
			out[i] = values[acc&31]
		}
		acc, have = acc>>n, have-n
	}
	return out, have < 8 && len(b) == 0
}

// cell is what a state of a decoder stands for: bits to read, the next state before these, and a symbol or a value.
type cell struct {
	bits  int
	delta int
	value int
	extra int // of bits, those that belong to the value
}

// cells makes the table of a decoder. With extra bits its values begin where those of the symbol before end.
func cells(freq []int, states int, extra []uint8) ([]cell, bool) {
	out := make([]cell, 0, states)
	base := 0
	for symbol, f := range freq {
		value, more := symbol, 0
		if extra != nil {
			value, more = base, int(extra[symbol])
			base += 1 << more
		}
		if f == 0 {
			continue
		}
		if len(out)+f > states {
			return nil, false
		}
		k := bits.LeadingZeros32(uint32(f)) - bits.LeadingZeros32(uint32(states))
		j0 := 2*states>>k - f
		for j := range f {
			c := cell{bits: k + more, delta: (f+j)<<k - states, value: value, extra: more}
			if j >= j0 {
				c.bits, c.delta = k-1+more, (j-j0)<<(k-1)
			}
			out = append(out, c)
		}
	}
	return out, true
}

// backwards reads bits from the end of what it has.
type backwards struct {
	b    []byte
	acc  uint64
	have int
	bad  bool
}

// from begins at the end of b, where rest (-7 to 0) bits don't count.
func from(b []byte, rest int) *backwards {
	r := &backwards{b: b}
	n := 8
	if rest == 0 {
		n = 7
	}
	var last [8]byte // where there is less, what isn't there isn't asked for
	k := min(n, len(b))
	copy(last[n-k:], b[len(b)-k:])
	r.acc, r.have, r.b = binary.LittleEndian.Uint64(last[:]), rest+8*n, b[:len(b)-k]
	r.bad = r.have < 64 && r.acc>>r.have != 0
	return r
}

// fill reads as many bytes as there is room for.
func (r *backwards) fill() {
	for r.have <= 64-8-1 && len(r.b) > 0 {
		r.acc = r.acc<<8 | uint64(r.b[len(r.b)-1])
		r.b, r.have = r.b[:len(r.b)-1], r.have+8
	}
}

func (r *backwards) pull(n int) int {
	if n > r.have {
		r.bad = true
		return 0
	}
	r.have -= n
	out := r.acc >> r.have
	r.acc &= 1<<r.have - 1
	return int(out)
}

// take decodes a symbol or a value, and goes on to the next state.
func (r *backwards) take(table []cell, state *int) int {
	if *state >= len(table) || *state < 0 {
		r.bad = true
		return 0
	}
	c := table[*state]
	got := r.pull(c.bits)
	*state = c.delta + got>>c.extra
	return c.value + got&(1<<c.extra-1)
}

// block unpacks a block, and says how long it is.
func block(o *output, b []byte) (used int, ok bool) {
	h, ok := readHead(b)
	if !ok {
		return 0, false
	}
	rest := b[h.size:]
	literals, ok := literalsOf(h, rest[:h.litBytes])
	if !ok {
		return 0, false
	}
	before := len(o.b)
	if !matches(o, h, literals, rest[h.litBytes:h.litBytes+h.lmdBytes]) {
		return 0, false
	}
	raw := int(binary.LittleEndian.Uint32(b[4:]))
	return h.size + h.litBytes + h.lmdBytes, len(o.b)-before == raw
}

func literalsOf(h head, b []byte) ([]byte, bool) {
	table, ok := cells(h.freq, statesLit, nil)
	if !ok {
		return nil, false
	}
	out := make([]byte, h.literals)
	if len(out) == 0 {
		return out, true
	}
	r := from(b, h.litBits)
	for i := range out {
		if i%lanes == 0 {
			r.fill()
		}
		out[i] = byte(r.take(table, &h.litStates[i%lanes]))
		if r.bad {
			return nil, false
		}
	}
	return out, true
}

// matches puts literals and matches in their order.
func matches(o *output, h head, literals, b []byte) bool {
	tableL, okL := cells(h.freqL, statesL, extraL)
	tableM, okM := cells(h.freqM, statesM, extraM)
	tableD, okD := cells(h.freqD, statesD, extraD)
	if !okL || !okM || !okD {
		return false
	}
	if h.matches == 0 {
		return true
	}
	r := from(b, h.lmdBits)
	back := 0
	for range h.matches {
		r.fill()
		l, m := r.take(tableL, &h.stateL), r.take(tableM, &h.stateM)
		d := r.take(tableD, &h.stateD)
		if d != 0 {
			back = d
		}
		if r.bad || l > len(literals) || !o.literals(literals[:l]) || !o.match(back, m) {
			return false
		}
		literals = literals[l:]
	}
	return true
}

// Package lzfsetest packs as LZFSE and LZVN do, for tests only: no package of the system packs so. What it makes is
// read by other programs, too (see the tests of hfsplus).
package lzfsetest

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/bits"
)

// What a stream consists of; see package lzfse.
const (
	blockEnd, blockPlain, blockTwo, blockLZVN = "bvx$", "bvx-", "bvx2", "bvxn"
	twoHead                                   = 32

	symbolsL, symbolsM, symbolsD, symbolsLit = 20, 20, 64, 256
	statesL, statesM, statesD, statesLit     = 64, 64, 256, 1024
	lanes                                    = 4

	opEnd, opMedium, opManyL, opManyM = 0x06, 0xA0, 0xE0, 0xF0
	lowLarge, lowSame, many           = 7, 6, 16
)

// extraL, extraM and extraD are how many bits more a symbol has.
var (
	extraL = []uint8{0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 2, 3, 5, 8}
	extraM = []uint8{0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 3, 5, 8, 11}
	extraD = []uint8{0, 0, 0, 0, 1, 1, 1, 1, 2, 2, 2, 2, 3, 3, 3, 3, 4, 4, 4, 4, 5, 5, 5, 5, 6, 6, 6, 6, 7, 7, 7, 7, 8,
		8, 8, 8, 9, 9, 9, 9, 10, 10, 10, 10, 11, 11, 11, 11, 12, 12, 12, 12, 13, 13, 13, 13, 14, 14, 14, 14, 15, 15, 15,
		15}
)

// pieces are literals and the match after them, by a plain search for what was there before.
type piece struct {
	literals    []byte
	match, back int
}

func piecesOf(b []byte, mostL, mostM, mostBack int) (out []piece) {
	last := map[string]int{}
	from := 0
	for i := 0; i < len(b); {
		match, at := 0, 0
		if i+4 <= len(b) {
			if j, ok := last[string(b[i:i+4])]; ok && j < i && i-j <= mostBack {
				for at = j; match < mostM && i+match < len(b) && b[j+match] == b[i+match]; {
					match++
				}
			}
			last[string(b[i:i+4])] = i
		}
		if match < 4 && i-from < mostL {
			i++
			continue
		}
		p := piece{literals: b[from:i]}
		if match >= 4 {
			p.match, p.back = match, i-at
		}
		out = append(out, p)
		i += p.match
		from = i
	}
	if from == len(b) {
		return out
	}
	return append(out, piece{literals: b[from:]})
}

// PackLZVN packs by large literals and matches, with all forms of both.
func PackLZVN(b []byte) []byte {
	var out []byte
	back := 0
	put := func(l []byte) {
		for len(l) > 0 {
			n := min(len(l), 271)
			if n >= many {
				out = append(out, opManyL, byte(n-many))
			} else {
				out = append(out, opManyL|byte(n))
			}
			out, l = append(out, l[:n]...), l[n:]
		}
	}
	for _, p := range piecesOf(b, 1<<20, 1<<20, 0xFFFF) {
		few := p.literals[max(0, len(p.literals)-3):]
		put(p.literals[:len(p.literals)-len(few)])
		n := min(p.match, 10)
		if p.match < 3 {
			put(few)
			continue
		}
		l := byte(len(few))
		n = min(n, [4]int{10, 8, 6, 4}[l]) // longer ones are other operations, or none
		switch rest := p.match; {
		case p.back == back && l > 0:
			out = append(out, l<<6|byte(n-3)<<3|lowSame)
		case p.back < 0x600:
			out = append(out, l<<6|byte(n-3)<<3|byte(p.back>>8), byte(p.back))
		case p.back < 0x4000:
			n = min(rest, 34)
			m := n - 3
			out = append(out, opMedium|l<<3|byte(m>>2))
			out = binary.LittleEndian.AppendUint16(out, uint16(p.back<<2|m&3))
		default:
			out = append(out, l<<6|byte(n-3)<<3|lowLarge)
			out = binary.LittleEndian.AppendUint16(out, uint16(p.back))
		}
		out, back = append(out, few...), p.back
		for rest := p.match - n; rest > 0; {
			k := min(rest, 271)
			if k >= many {
				out = append(out, opManyM, byte(k-many))
			} else {
				out = append(out, opManyM|byte(k))
			}
			rest -= k
		}
	}
	return append(out, opEnd, 0, 0, 0, 0, 0, 0, 0)
}

// encoder is the table of an encoder for one kind of symbols.
type encoder struct {
	freq, start []int
	states      int
}

func encoderOf(counts []int, states int) encoder {
	e := encoder{freq: make([]int, len(counts)), start: make([]int, len(counts)), states: states}
	total, left := 0, states
	for _, c := range counts {
		total += c
	}
	most := 0
	for s, c := range counts {
		if c > 0 {
			e.freq[s] = max(1, c*states/total)
			left -= e.freq[s]
		}
		if e.freq[s] > e.freq[most] {
			most = s
		}
	}
	for left < 0 {
		for s := range e.freq {
			if e.freq[s] > 1 && left < 0 {
				e.freq[s]--
				left++
			}
		}
	}
	if total > 0 {
		e.freq[most] += left
	}
	at := 0
	for s, f := range e.freq {
		e.start[s] = at
		at += f
	}
	return e
}

// forwards collects bits; a decoder reads them from the end.
type forwards struct {
	b    []byte
	acc  uint64
	have int
}

func (w *forwards) push(v uint64, n int) {
	for n > 0 {
		k := min(n, 8)
		w.acc |= (v & (1<<k - 1)) << w.have
		v, n, w.have = v>>k, n-k, w.have+k
		for w.have >= 8 {
			w.b, w.acc, w.have = append(w.b, byte(w.acc)), w.acc>>8, w.have-8
		}
	}
}

// end gives the bytes and how many bits of the last one don't count, as a number from -7 to 0.
func (w *forwards) end() ([]byte, int) {
	if w.have == 0 {
		return w.b, 0
	}
	return append(w.b, byte(w.acc)), w.have - 8
}

// encode pushes a symbol: the decoder that is in the new state gives it and goes to the old one.
func (e encoder) encode(w *forwards, state *int, symbol int) {
	f := e.freq[symbol]
	k := bits.LeadingZeros32(uint32(f)) - bits.LeadingZeros32(uint32(e.states))
	j0 := 2*e.states>>k - f
	old := *state
	for j := range f {
		delta, n := (f+j)<<k-e.states, k
		if j >= j0 {
			delta, n = (j-j0)<<(k-1), k-1
		}
		if old >= delta && old < delta+1<<n {
			w.push(uint64(old-delta), n)
			*state = e.start[symbol] + j
			return
		}
	}
	panic("no state leads there")
}

// symbolOf is the symbol of a value, and its extra bits.
func symbolOf(extra []uint8, value int) (symbol, rest int) {
	base := 0
	for s, x := range extra {
		if value < base+1<<x {
			return s, value - base
		}
		base += 1 << x
	}
	panic(fmt.Sprint(value, " is too large"))
}

// packBlock makes one block of up to 10,000 matches.
func packBlock(raw []byte) []byte {
	ps := piecesOf(raw, 315, 2359, 262139)
	var literals []byte
	type triple struct{ s, rest [3]int }
	all := make([]triple, 0, len(ps))
	counts := [3][]int{make([]int, symbolsL), make([]int, symbolsM), make([]int, symbolsD)}
	extras := [3][]uint8{extraL, extraM, extraD}
	back := 0
	for _, p := range ps {
		literals = append(literals, p.literals...)
		d := p.back
		if p.match == 0 {
			d = max(back, 1)
		}
		if d == back {
			d = 0 // as before
		} else {
			back = d
		}
		var x triple
		for i, v := range [3]int{len(p.literals), p.match, d} {
			x.s[i], x.rest[i] = symbolOf(extras[i], v)
			counts[i][x.s[i]]++
		}
		all = append(all, x)
	}
	for len(literals)%lanes != 0 {
		literals = append(literals, 0)
	}
	of := make([]int, symbolsLit)
	for _, c := range literals {
		of[c]++
	}
	lit := encoderOf(of, statesLit)
	var litStates [lanes]int
	w := &forwards{}
	w.push(0, 64) // so that there is enough to begin with
	for i := len(literals) - 1; i >= 0; i-- {
		lit.encode(w, &litStates[i%lanes], int(literals[i]))
	}
	litBytes, litBits := w.end()
	es := [3]encoder{encoderOf(counts[0], statesL), encoderOf(counts[1], statesM), encoderOf(counts[2], statesD)}
	var states [3]int
	w = &forwards{}
	w.push(0, 64)
	for i := len(all) - 1; i >= 0; i-- {
		for k := 2; k >= 0; k-- {
			w.push(uint64(all[i].rest[k]), int(extras[k][all[i].s[k]]))
			es[k].encode(w, &states[k], all[i].s[k])
		}
	}
	lmdBytes, lmdBits := w.end()
	freqs := packFrequencies(es[0].freq, es[1].freq, es[2].freq, lit.freq)
	h := make([]byte, twoHead)
	le := binary.LittleEndian
	copy(h, blockTwo)
	le.PutUint32(h[4:], uint32(len(raw)))
	le.PutUint64(h[8:], uint64(len(literals))|uint64(len(litBytes))<<20|uint64(len(all))<<40|uint64(litBits+7)<<60)
	v := uint64(len(lmdBytes))<<40 | uint64(lmdBits+7)<<60
	for i, s := range litStates {
		v |= uint64(s) << (10 * i)
	}
	le.PutUint64(h[16:], v)
	le.PutUint64(h[24:], uint64(twoHead+len(freqs))|uint64(states[0])<<32|uint64(states[1])<<42|uint64(states[2])<<52)
	return bytes.Join([][]byte{h, freqs, litBytes, lmdBytes}, nil)
}

// packFrequencies packs each as the decoder's tables say.
func packFrequencies(all ...[]int) []byte {
	w := &forwards{}
	codes := map[int][2]int{0: {0, 2}, 1: {2, 2}, 2: {1, 3}, 3: {5, 3}, 4: {3, 5}, 5: {11, 5}, 6: {19, 5}, 7: {27, 5}}
	for _, freq := range all {
		for _, f := range freq {
			switch {
			case f < 8:
				w.push(uint64(codes[f][0]), codes[f][1])
			case f < 24:
				w.push(uint64(7|(f-8)<<4), 8)
			default:
				w.push(uint64(15|(f-24)<<4), 14)
			}
		}
	}
	b, _ := w.end()
	return b
}

// Pack packs into a stream of LZFSE with blocks of every kind.
func Pack(b []byte) []byte {
	const most = 20_000
	var out []byte
	for i := 0; len(b) > 0; i++ {
		n := min(len(b), most)
		raw := b[:n]
		b = b[n:]
		switch i % 3 {
		case 0:
			out = append(out, packBlock(raw)...)
		case 1:
			out = binary.LittleEndian.AppendUint32(append(out, blockPlain...), uint32(n))
			out = append(out, raw...)
		default:
			v := PackLZVN(raw)
			out = binary.LittleEndian.AppendUint32(append(out, blockLZVN...), uint32(n))
			out = append(binary.LittleEndian.AppendUint32(out, uint32(len(v))), v...)
		}
	}
	return append(out, blockEnd...)
}

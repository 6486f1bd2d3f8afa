package realmode

import "golang.org/x/arch/x86/x86asm"

// step runs one instruction (Intel 64 and IA-32 Architectures Software Developer's Manual, volume 2).
func (m *Machine) step(at int) error {
	in, err := x86asm.Decode(m.mem[at:at+16], 16)
	if err != nil {
		return stuck("at %#x there is no instruction that a processor knows", at)
	}
	m.ip = (m.ip + uint32(in.Len)) & 0xFFFF
	n := size(in)
	a, b := in.Args[0], in.Args[1]
	switch in.Op {
	case x86asm.NOP, x86asm.CLI, x86asm.STI, x86asm.PAUSE:
	case x86asm.MOV:
		m.put(a, n, m.value(b, n))
	case x86asm.MOVZX:
		m.put(a, n, m.value(b, in.MemBytes|widthOf(b)))
	case x86asm.LEA:
		if mem, ok := b.(x86asm.Mem); ok {
			mem.Segment = x86asm.ES // only the offset is wanted
			m.set(a.(x86asm.Reg), uint32(m.address(mem)-int(m.seg[x86asm.ES])<<4))
		}
	case x86asm.XCHG:
		x, y := m.value(a, n), m.value(b, n)
		m.put(a, n, y)
		m.put(b, n, x)
	case x86asm.ADD, x86asm.ADC, x86asm.SUB, x86asm.SBB, x86asm.CMP, x86asm.AND, x86asm.OR, x86asm.XOR, x86asm.TEST,
		x86asm.INC, x86asm.DEC, x86asm.NEG, x86asm.NOT:
		m.arithmetic(in.Op, a, b, n)
	case x86asm.SHL, x86asm.SHR, x86asm.SAR, x86asm.ROL, x86asm.ROR, x86asm.RCL, x86asm.RCR:
		m.shift(in.Op, a, n, m.value(b, 1)&0x1F)
	case x86asm.MUL, x86asm.DIV, x86asm.IMUL:
		return m.multiply(in, n)
	case x86asm.MOVSX:
		from := in.MemBytes | widthOf(b)
		m.put(a, n, extended(m.value(b, from), from)&mask(n))
	case x86asm.CBW:
		m.set(x86asm.AX, extended(m.get(x86asm.AL), 1))
	case x86asm.CWDE:
		m.set(x86asm.EAX, extended(m.get(x86asm.AX), 2))
	case x86asm.CWD:
		m.set(x86asm.DX, uint32(int32(extended(m.get(x86asm.AX), 2))>>31))
	case x86asm.CDQ:
		m.set(x86asm.EDX, uint32(int32(m.get(x86asm.EAX))>>31))
	case x86asm.BT:
		m.carry = m.value(a, n)>>(m.value(b, n)%uint32(8*n))&1 == 1
	case x86asm.CLC, x86asm.STC, x86asm.CMC, x86asm.CLD, x86asm.STD, x86asm.LAHF, x86asm.SAHF, x86asm.PUSHF,
		x86asm.POPF:
		m.flags(in.Op)
	case x86asm.PUSH, x86asm.POP, x86asm.PUSHA, x86asm.POPA, x86asm.PUSHAD, x86asm.POPAD:
		m.stack(in, n)
	case x86asm.LDS, x86asm.LES:
		if mem, ok := b.(x86asm.Mem); ok {
			from := m.address(mem)
			m.set(a.(x86asm.Reg), m.load(from, 2))
			m.seg[map[x86asm.Op]x86asm.Reg{x86asm.LDS: x86asm.DS,
				x86asm.LES: x86asm.ES}[in.Op]] = uint16(m.load(from+2, 2))
		}
	case x86asm.IN:
		m.set(a.(x86asm.Reg), m.port(m.value(b, 2)))
	case x86asm.OUT:
	case x86asm.INT:
		return m.interrupt(byte(m.value(a, 1)))
	case x86asm.HLT:
		return stuck("it stops the processor")
	default:
		return m.further(in, n)
	}
	return nil
}

// further runs strings and jumps.
func (m *Machine) further(in x86asm.Inst, n int) error {
	switch in.Op {
	case x86asm.MOVSB, x86asm.MOVSW, x86asm.MOVSD, x86asm.STOSB, x86asm.STOSW, x86asm.STOSD, x86asm.LODSB, x86asm.LODSW,
		x86asm.LODSD, x86asm.CMPSB, x86asm.CMPSW, x86asm.SCASB, x86asm.SCASW:
		m.strings(in)
		return nil
	}
	if taken, ok := m.jump(in); ok {
		if rel, is := in.Args[0].(x86asm.Rel); is && taken {
			m.ip = uint32(int32(m.ip)+int32(rel)) & 0xFFFF
			if int(rel) == -in.Len && in.Op == x86asm.JMP {
				return stuck("it waits for ever")
			}
		}
		return nil
	}
	switch in.Op {
	case x86asm.JMP:
		m.ip = m.value(in.Args[0], 2) & 0xFFFF
	case x86asm.LJMP, x86asm.LCALL:
		seg, off, ok := m.far(in)
		if !ok {
			return unclear("a far jump of a kind that isn't known")
		}
		if in.Op == x86asm.LCALL {
			m.push(2, uint32(m.seg[x86asm.CS]))
			m.push(2, m.ip)
		}
		m.seg[x86asm.CS], m.ip = seg, off
	case x86asm.CALL:
		m.push(n, m.ip)
		if rel, is := in.Args[0].(x86asm.Rel); is {
			m.ip = uint32(int32(m.ip)+int32(rel)) & 0xFFFF
		} else {
			m.ip = m.value(in.Args[0], 2) & 0xFFFF
		}
	case x86asm.RET:
		m.ip = m.pop(n) & 0xFFFF
		m.set(x86asm.SP, m.get(x86asm.SP)+m.value(in.Args[0], 2))
	case x86asm.LRET:
		m.ip = m.pop(n) & 0xFFFF
		m.seg[x86asm.CS] = uint16(m.pop(n))
	case x86asm.ARPL, x86asm.LAR, x86asm.LSL, x86asm.LLDT, x86asm.LTR, x86asm.SLDT, x86asm.STR, x86asm.VERR,
		x86asm.VERW, x86asm.UD1, x86asm.UD2:
		return stuck("at %#x there is no instruction that a processor knows in this mode",
			m.linear(x86asm.CS, m.ip)-in.Len)
	default:
		return unclear("the instruction %v", in.Op)
	}
	return nil
}

// size is how many bytes an instruction works on.
func size(in x86asm.Inst) int {
	for _, a := range in.Args {
		if r, ok := a.(x86asm.Reg); ok && !segment(r) {
			return width(r)
		}
		if a == nil || in.Op == x86asm.PUSH || in.Op == x86asm.POP {
			break
		}
	}
	if in.MemBytes > 0 {
		return min(in.MemBytes, 4)
	}
	return max(2, in.DataSize/8)
}

// extended is a value of n bytes with its sign in all of them.
func extended(v uint32, n int) uint32 {
	by := 32 - 8*n
	return uint32(int32(v<<by) >> by)
}

func segment(r x86asm.Reg) bool {
	return r >= x86asm.ES && r <= x86asm.GS
}

func widthOf(a x86asm.Arg) int {
	if r, ok := a.(x86asm.Reg); ok {
		return width(r)
	}
	return 0
}

// far is where a far jump leads: two numbers, or a place in memory that holds them.
func (m *Machine) far(in x86asm.Inst) (seg uint16, off uint32, ok bool) {
	if mem, is := in.Args[0].(x86asm.Mem); is {
		at := m.address(mem)
		return uint16(m.load(at+2, 2)), m.load(at, 2), true
	}
	s, ok1 := in.Args[0].(x86asm.Imm)
	o, ok2 := in.Args[1].(x86asm.Imm)
	return uint16(s), uint32(o) & 0xFFFF, ok1 && ok2
}

// arithmetic does what sets the flags by its result.
func (m *Machine) arithmetic(op x86asm.Op, a, b x86asm.Arg, n int) {
	x, y := uint64(m.value(a, n)), uint64(m.value(b, n))
	carry := uint64(0)
	if m.carry {
		carry = 1
	}
	top := uint64(1) << (8*n - 1)
	var r uint64
	switch op {
	case x86asm.ADC:
		y += carry
		fallthrough
	case x86asm.ADD:
		r = x + y
		m.carry, m.over = r>>(8*n)&1 == 1, (x^r)&(y^r)&top != 0
	case x86asm.SBB:
		y += carry
		fallthrough
	case x86asm.SUB, x86asm.CMP:
		r = x - y
		m.carry, m.over = x < y, (x^y)&(x^r)&top != 0
	case x86asm.INC:
		r = x + 1
		m.over = r&uint64(mask(n)) == top
	case x86asm.DEC:
		r = x - 1
		m.over = x == top
	case x86asm.NEG:
		r = -x
		m.carry, m.over = x != 0, x == top
	case x86asm.NOT:
		m.put(a, n, ^uint32(x))
		return
	case x86asm.AND, x86asm.TEST:
		r, m.carry, m.over = x&y, false, false
	case x86asm.OR:
		r, m.carry, m.over = x|y, false, false
	case x86asm.XOR:
		r, m.carry, m.over = x^y, false, false
	}
	m.zero, m.sign = r&uint64(mask(n)) == 0, r&top != 0
	if op != x86asm.CMP && op != x86asm.TEST {
		m.put(a, n, uint32(r)&mask(n))
	}
}

func (m *Machine) shift(op x86asm.Op, a x86asm.Arg, n int, by uint32) {
	v, bits := m.value(a, n), uint32(8*n)
	for range by {
		low, high := v&1 == 1, v>>(bits-1)&1 == 1
		in := map[x86asm.Op]bool{x86asm.SAR: high, x86asm.ROR: low, x86asm.RCR: m.carry, x86asm.ROL: high,
			x86asm.RCL: m.carry}[op]
		bit := uint32(0)
		if in {
			bit = 1
		}
		switch op {
		case x86asm.SHL, x86asm.ROL, x86asm.RCL:
			v, m.carry = (v<<1|bit)&mask(n), high
		default:
			v, m.carry = v>>1|bit<<(bits-1), low
		}
	}
	m.put(a, n, v)
	if by > 0 {
		m.zero, m.sign = v == 0, v>>(bits-1)&1 == 1
	}
}

// multiply multiplies or divides, by the accumulator or, with two operands, by a register.
func (m *Machine) multiply(in x86asm.Inst, n int) error {
	low, high := [5]x86asm.Reg{1: x86asm.AL, 2: x86asm.AX, 4: x86asm.EAX}[n],
		[5]x86asm.Reg{1: x86asm.AH, 2: x86asm.DX, 4: x86asm.EDX}[n]
	by := uint64(m.value(in.Args[0], n))
	if in.Op == x86asm.IMUL && in.Args[1] != nil {
		y := in.Args[1]
		if in.Args[2] != nil {
			by, y = uint64(m.value(in.Args[1], n)), in.Args[2]
		}
		m.put(in.Args[0], n, uint32(by*uint64(m.value(y, n)))&mask(n))
		return nil
	}
	if in.Op != x86asm.DIV {
		r := uint64(m.get(low)) * by
		m.set(low, uint32(r)&mask(n))
		m.set(high, uint32(r>>(8*n))&mask(n))
		m.carry = r>>(8*n) != 0
		m.over = m.carry
		return nil
	}
	whole := uint64(m.get(high))<<(8*n) | uint64(m.get(low))
	if by == 0 || whole/by > uint64(mask(n)) {
		return stuck("it divides by nothing")
	}
	m.set(low, uint32(whole/by))
	m.set(high, uint32(whole%by))
	return nil
}

// flags does what is about flags alone.
func (m *Machine) flags(op x86asm.Op) {
	bit := func(on bool, at uint) uint32 {
		if on {
			return 1 << at
		}
		return 0
	}
	all := bit(m.carry, 0) | bit(m.zero, 6) | bit(m.sign, 7) | bit(m.down, 10) | bit(m.over, 11) | 2
	take := func(v uint32) { m.carry, m.zero, m.sign = v&1 != 0, v&0x40 != 0, v&0x80 != 0 }
	switch op {
	case x86asm.CLC:
		m.carry = false
	case x86asm.STC:
		m.carry = true
	case x86asm.CMC:
		m.carry = !m.carry
	case x86asm.CLD:
		m.down = false
	case x86asm.STD:
		m.down = true
	case x86asm.LAHF:
		m.set(x86asm.AH, all)
	case x86asm.SAHF:
		take(m.get(x86asm.AH))
	case x86asm.PUSHF:
		m.push(2, all)
	case x86asm.POPF:
		v := m.pop(2)
		take(v)
		m.down, m.over = v&(1<<10) != 0, v&(1<<11) != 0
	}
}

func (m *Machine) stack(in x86asm.Inst, n int) {
	wide := in.DataSize / 8
	regs := []x86asm.Reg{x86asm.EAX, x86asm.ECX, x86asm.EDX, x86asm.EBX, x86asm.ESP, x86asm.EBP, x86asm.ESI, x86asm.EDI}
	switch in.Op {
	case x86asm.PUSH:
		if r, ok := in.Args[0].(x86asm.Reg); !ok || segment(r) {
			n = max(2, wide)
		}
		m.push(n, m.value(in.Args[0], n))
	case x86asm.POP:
		if r, ok := in.Args[0].(x86asm.Reg); !ok || segment(r) {
			n = max(2, wide)
		}
		m.put(in.Args[0], n, m.pop(n))
	case x86asm.PUSHA, x86asm.PUSHAD:
		was := m.get(x86asm.SP)
		for _, r := range regs {
			v := m.get(r)
			if r == x86asm.ESP {
				v = was
			}
			m.push(max(2, wide), v)
		}
	case x86asm.POPA, x86asm.POPAD:
		for i := len(regs) - 1; i >= 0; i-- {
			v := m.pop(max(2, wide))
			if regs[i] == x86asm.ESP {
				continue
			}
			if wide < 4 {
				v = m.get(regs[i])&^0xFFFF | v
			}
			m.set(regs[i], v)
		}
	}
}

// strings runs the instructions that walk over memory, with their repetition.
func (m *Machine) strings(in x86asm.Inst) {
	n := map[x86asm.Op]int{x86asm.MOVSW: 2, x86asm.STOSW: 2, x86asm.LODSW: 2, x86asm.CMPSW: 2, x86asm.SCASW: 2,
		x86asm.MOVSD: 4, x86asm.STOSD: 4, x86asm.LODSD: 4}[in.Op]
	n = max(1, n)
	step := uint32(n)
	if m.down {
		step = -step
	}
	repeat, until := repeats(in)
	for range 0x10000 {
		if repeat && m.get(x86asm.CX) == 0 {
			return
		}
		si, di := m.linear(x86asm.DS, m.get(x86asm.SI)), m.linear(x86asm.ES, m.get(x86asm.DI))
		compared := false
		switch in.Op {
		case x86asm.MOVSB, x86asm.MOVSW, x86asm.MOVSD:
			for i := range n {
				k, o := (di+i)%memory, (si+i)%memory
				m.mem[k], m.from[k] = m.mem[o], m.from[o]
			}
		case x86asm.STOSB, x86asm.STOSW, x86asm.STOSD:
			m.store(di, n, m.get(x86asm.EAX))
		case x86asm.LODSB, x86asm.LODSW, x86asm.LODSD:
			m.set([5]x86asm.Reg{1: x86asm.AL, 2: x86asm.AX, 4: x86asm.EAX}[n], m.load(si, n))
		case x86asm.CMPSB, x86asm.CMPSW:
			m.arithmetic(x86asm.CMP, x86asm.Imm(m.load(si, n)), x86asm.Imm(m.load(di, n)), n)
			compared = true
		default:
			m.arithmetic(x86asm.CMP, x86asm.Imm(m.get(x86asm.EAX)), x86asm.Imm(m.load(di, n)), n)
			compared = true
		}
		name := in.Op.String()
		if name[:3] != "STO" && name[:3] != "SCA" {
			m.set(x86asm.SI, m.get(x86asm.SI)+step)
		}
		if name[:3] != "LOD" {
			m.set(x86asm.DI, m.get(x86asm.DI)+step)
		}
		if !repeat {
			return
		}
		m.set(x86asm.CX, m.get(x86asm.CX)-1)
		if compared && m.zero == until {
			return
		}
	}
}

// repeats says whether an instruction is repeated, and at which result of a comparison that ends.
func repeats(in x86asm.Inst) (repeat, until bool) {
	for _, p := range in.Prefix {
		switch p & 0xFF {
		case x86asm.PrefixREP & 0xFF:
			return true, false
		case x86asm.PrefixREPN & 0xFF:
			return true, true
		}
	}
	return false, false
}

// jump says whether a jump with a condition, a loop or a plain near one is taken; not ok for anything else.
func (m *Machine) jump(in x86asm.Inst) (taken, ok bool) {
	if _, is := in.Args[0].(x86asm.Rel); !is || in.Op == x86asm.CALL {
		return false, false
	}
	less := m.sign != m.over
	switch in.Op {
	case x86asm.JMP:
		return true, true
	case x86asm.JE:
		return m.zero, true
	case x86asm.JNE:
		return !m.zero, true
	case x86asm.JB:
		return m.carry, true
	case x86asm.JAE:
		return !m.carry, true
	case x86asm.JA:
		return !m.carry && !m.zero, true
	case x86asm.JBE:
		return m.carry || m.zero, true
	case x86asm.JS:
		return m.sign, true
	case x86asm.JNS:
		return !m.sign, true
	case x86asm.JL:
		return less, true
	case x86asm.JGE:
		return !less, true
	case x86asm.JLE:
		return less || m.zero, true
	case x86asm.JG:
		return !less && !m.zero, true
	case x86asm.JO:
		return m.over, true
	case x86asm.JNO:
		return !m.over, true
	case x86asm.JCXZ:
		return m.get(x86asm.CX) == 0, true
	case x86asm.LOOP, x86asm.LOOPE, x86asm.LOOPNE:
		m.set(x86asm.CX, m.get(x86asm.CX)-1)
		more := m.get(x86asm.CX) != 0
		return more && (in.Op == x86asm.LOOP || m.zero == (in.Op == x86asm.LOOPE)), true
	}
	return false, false
}

// port is what a machine's keyboard controller and its switch for the twenty-first address line say.
func (m *Machine) port(n uint32) uint32 {
	switch n {
	case 0x60, 0x64:
		return 0
	case 0x92:
		return 2
	}
	return 0xFFFFFFFF
}

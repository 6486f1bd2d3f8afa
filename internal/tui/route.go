package tui

// mostBack is how many steps Esc leads back at the most.
const mostBack = 32

// route is which step is open, and the way that led there.
type route struct {
	step   step
	before []step // where Esc leads back to
}

// to opens a step and remembers the one before; false when it is open already.
func (r *route) to(s step) bool {
	if s == r.step {
		return false
	}
	r.before = append(r.before, r.step)
	if len(r.before) > mostBack {
		r.before = r.before[1:]
	}
	r.step = s
	return true
}

// backward opens the step that led here; false when there is none.
func (r *route) backward() bool {
	n := len(r.before)
	if n == 0 {
		return false
	}
	r.step, r.before = r.before[n-1], r.before[:n-1]
	return true
}

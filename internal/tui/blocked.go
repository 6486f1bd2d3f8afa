package tui

// unless keeps a binding as long as there is no reason why it can't act now. With one it isn't offered, and says the
// reason when it is pressed all the same.
func (m *model) unless(why string, b binding) binding {
	if why != "" {
		b.show, b.do = "", acts(func() { m.say("%s", why) })
	}
	return b
}

// unlessTyped is unless for what opens a line to type: the reason stays in a box that swallows what is typed.
func (m *model) unlessTyped(why string, b binding) binding {
	if why != "" {
		b.show, b.do = "", acts(func() { m.prompt.refuse(why) })
	}
	return b
}

// noRun is the reason against whatever can't be done beside a run; empty when none is on.
func (m *model) noRun() string {
	if m.runPage.running() {
		return m.runPage.snap.Title + " is on: wait for it, or see step 6."
	}
	return ""
}

// first is the first of some reasons.
func first(whys ...string) string {
	for _, w := range whys {
		if w != "" {
			return w
		}
	}
	return ""
}

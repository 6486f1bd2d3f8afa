package tui

import (
	"os"
	"path/filepath"
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
)

func newInput(width int) *textinput.Model {
	t := textinput.New()
	t.Prompt = ""
	t.SetWidth(width)
	t.CharLimit = 1000 // folders and passphrases may be long
	still := t.Styles()
	still.Cursor.Blink = false
	t.SetStyles(still)
	t.Focus()
	return &t
}

// ask lets a line be typed in a box at the row that it is about.
func (m *prompt) ask(label, now string, then func(string)) {
	m.typing = newInput(max(10, min(promptWide, m.wide-8)-1)) // and the cursor
	m.typing.SetValue(now)
	m.label, m.typed, m.live, m.left, m.refused = strings.TrimSuffix(strings.TrimSpace(label), ":"), then, nil, nil, ""
	m.says, m.wrong, m.paths = "", false, false
}

// askPath is ask for a file or a folder: Tab completes it.
func (m *prompt) askPath(label, now string, then func(string)) {
	m.ask(label, now, then)
	m.paths = true
}

// refuse says why a line can't be typed now. What is typed for it all the same must not act as commands: it goes
// nowhere until the box is closed.
func (m *prompt) refuse(why string) { m.refused = why }

// promptWide is how wide a box for a line is at the most.
const promptWide = 96

// over lays the box with what is typed over the lines of the body, under a row of it, or at its foot for -1.
func (m *prompt) over(body []string, row, w int) []string {
	box := m.box(w)
	if box == nil {
		return body
	}
	at := row + 1
	if row < 0 || at+len(box) > len(body) {
		at = len(body) - len(box)
	}
	if row >= 0 && at <= row && row-len(box) >= 0 { // no room below: above it
		at = row - len(box)
	}
	for i, l := range box {
		if k := at + i; k >= 0 && k < len(body) {
			body[k] = fit(l, w)
		}
	}
	return body
}

// box is the frame with what is asked, what is typed, and how that is understood; nil when nothing is asked.
func (m *prompt) box(w int) []string {
	question := m.runPage.question()
	if m.typing == nil && m.refused == "" && question == "" {
		return nil
	}
	wide := min(promptWide+4, w-4)
	frame := m.th.keyStyle
	title, inner := m.th.sentence(m.label), []string{}
	switch {
	case question != "":
		title, frame = "‼ A run is under way", m.th.caution
		inner = m.th.wrap(question, wide-4)
	case m.refused != "":
		title, frame = "Not now", m.th.caution
		inner = m.th.wrap(m.refused, wide-4)
	default:
		if words := keyboardWords(m.model); words != "" {
			title += " · keyboard: " + words
		}
		inner = append(inner, m.typing.View())
		paint := m.th.dim
		if m.wrong {
			paint = m.th.bad
		}
		for _, l := range m.th.wrap(m.says, wide-4) {
			inner = append(inner, paint.Render(l))
		}
	}
	title = ansi.Truncate(" "+title+" ", wide-4, "…")
	out := []string{"  " + frame.Render("╭─"+title+strings.Repeat("─", max(0, wide-3-ansi.StringWidth(title)))+"╮")}
	for _, l := range inner {
		out = append(out, "  "+frame.Render("│")+" "+fit(l, wide-4)+" "+frame.Render("│"))
	}
	return append(out, "  "+frame.Render("╰"+strings.Repeat("─", wide-2)+"╯"))
}

func (m *prompt) onPaste(msg tea.PasteMsg) tea.Cmd {
	switch {
	case m.lastPage.confirm != nil:
		return nil // the last check is typed, not pasted
	case m.typing != nil:
		return m.typeOn(msg)
	}
	return nil
}

// typeOn gives the line that is being typed a key or a pasted text, and shows what it would come to.
func (m *prompt) typeOn(msg tea.Msg) tea.Cmd {
	t, cmd := m.typing.Update(msg)
	*m.typing = t
	if m.live != nil {
		m.live(m.typing.Value())
		if m.step == stepDates {
			cmd = tea.Batch(cmd, m.replan())
		}
	}
	return cmd
}

// bindings while a line is typed.
func (m *prompt) bindings() []binding {
	if m.refused != "" {
		return []binding{{"esc enter", "Esc", "close it", "", acts(func() { m.refused = "" })}}
	}
	out := []binding{{"enter", "Enter", "take it", "", leads(m.take)}, {"esc", "Esc", "leave it", "", leads(m.leave)}}
	if m.paths {
		out = append(out, binding{"tab", "Tab", "complete", "complete the name of the folder or file",
			acts(m.complete)})
	}
	return out
}

// complete goes on with the path that is typed as far as only one thing can be meant, and says what else may be.
func (m *prompt) complete() {
	text, all := completed(m.typing.Value())
	m.typing.SetValue(text)
	m.typing.CursorEnd()
	m.says = ""
	if len(all) > 1 {
		m.says = strings.Join(all, "  ")
	}
	if len(all) == 0 {
		m.says = "Nothing there begins like that."
	}
}

// mostNames bounds how many names of a folder are offered.
const mostNames = 40

// completed completes a path: what all names that begin so have in common, and those names.
func completed(text string) (string, []string) {
	if home, err := os.UserHomeDir(); err == nil && (text == "~" || strings.HasPrefix(text, "~/")) {
		text = home + text[1:]
	}
	dir, begin := filepath.Split(text)
	look := dir
	if look == "" {
		look = "."
	}
	entries, err := os.ReadDir(look)
	if err != nil {
		return text, nil
	}
	common, found := "", false
	var all []string
	for _, e := range entries {
		name := e.Name()
		if !strings.HasPrefix(name, begin) || begin == "" && strings.HasPrefix(name, ".") {
			continue
		}
		if e.IsDir() {
			name += "/"
		}
		if all = append(all, name); !found {
			common, found = name, true
		}
		for !strings.HasPrefix(name, common) {
			common = common[:len(common)-1]
		}
	}
	if found {
		text = dir + common
	}
	return text, all[:min(len(all), mostNames)]
}

// close puts the box away.
func (m *prompt) close() {
	m.typing, m.live, m.refused, m.says, m.wrong = nil, nil, "", "", false
}

// take does what the line was typed for.
func (m *prompt) take() tea.Cmd {
	text, then := m.typing.Value(), m.typed
	m.close()
	m.readyPage.ready.leaveTyping()
	then(text) // may ask for the next thing
	cmd := m.pending
	m.pending = nil
	return tea.Batch(cmd, m.replan())
}

func (m *prompt) leave() tea.Cmd {
	left := m.left
	m.close()
	m.datesPage.wished = nil
	m.readyPage.ready.leaveTyping()
	if left != nil {
		left()
	}
	return m.replan()
}

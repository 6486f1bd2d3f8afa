package tui

import (
	"context"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/inside"
	"twinshelf/internal/run"
	"twinshelf/internal/takeout"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// markKey tells marks of different dates apart.
func (l *lookingIn) markKey(name string) string {
	if l.in.Twin != nil {
		return l.in.Twin.ID + " " + l.label(name)
	}
	return l.label(name)
}

func (l *lookingIn) isMarked(name string) bool {
	for _, x := range l.marked {
		if l.part != nil && x.key == l.markKey(name) {
			return true
		}
	}
	return false
}

// markChosen marks the chosen item, or takes the mark away, and goes on to the next.
func (m *insidePage) markChosen() {
	l := &m.inside
	e, ok := l.chosen()
	if !ok || e.Err != nil {
		return
	}
	key := l.markKey(e.Name)
	for i, x := range l.marked {
		if x.key == key {
			l.marked = append(l.marked[:i:i], l.marked[i+1:]...)
			l.at = min(l.at+1, len(l.shown)-1)
			return
		}
	}
	c, err := workshop.ChoiceOf(m.ctx, l.part, e.Item, strings.TrimPrefix(path.Join(l.path, e.Name), "./"))
	if err != nil {
		m.fail(sentence(err))
		return
	}
	l.marked = append(l.marked, marked{key, c})
	l.at = min(l.at+1, len(l.shown)-1)
}

// toTake are the marked items, or the chosen one.
func (l *lookingIn) toTake(ctx context.Context) ([]takeout.Choice, string, error) {
	if len(l.marked) > 0 {
		var all []takeout.Choice
		for _, x := range l.marked {
			all = append(all, x.choice)
		}
		return all, units.Plural(len(all), "marked item"), nil
	}
	if l.part == nil {
		if l.at >= len(l.in.Parts) {
			return nil, "", nil
		}
		p := l.in.Parts[l.at]
		t, err := p.Tree(ctx)
		if err != nil {
			return nil, "", err
		}
		root, err := t.Root()
		if err != nil {
			return nil, "", err
		}
		c, err := workshop.ChoiceOf(ctx, p, root, ".")
		return []takeout.Choice{c}, p.Name(), err
	}
	e, ok := l.chosen()
	if !ok || e.Err != nil {
		return nil, "", e.Err
	}
	c, err := workshop.ChoiceOf(ctx, l.part, e.Item, strings.TrimPrefix(path.Join(l.path, e.Name), "./"))
	return []takeout.Choice{c}, e.Name, err
}

// askTake asks how and where to.
func (m *insidePage) askTake() {
	l := &m.inside
	if m.runPage.running() {
		m.fail("A run is under way already: see step 6.")
		return
	}
	choices, what, err := l.toTake(m.ctx)
	if err != nil {
		m.fail(sentence(err))
		return
	}
	if len(choices) == 0 {
		return
	}
	n := menu{title: "Take out " + inside.Visible(what) + " of " + l.in.Title + ": how?", choices: []choice{
		{name: "into a folder", about: "what is there stays; items of the same name are left out and listed"},
		{name: "into a folder, keep both", about: "where there is something else by a name, what is taken out gets " +
			"its date after the name"},
		{name: "into a folder, replace", about: "writes over what has the same name there"},
		{name: "as a tar file", about: "keeps owners, exact times, links and attributes on any drive"},
		{name: "as a zip file", about: "opens everywhere; keeps names, folders and times"}}}
	n.then = func(chosen []int) tea.Cmd {
		way := chosen[0]
		label, suggestion := "Into which folder? ", "twinshelf-out"
		if way == 3 {
			label, suggestion = "Name of the tar file: ", "taken-out-"+l.in.Tag()+".tar"
		} else if way == 4 {
			label, suggestion = "Name of the zip file: ", "taken-out-"+l.in.Tag()+".zip"
		}
		if home, err := os.UserHomeDir(); err == nil {
			suggestion = filepath.Join(home, suggestion)
		}
		m.prompt.askPath(label, suggestion, func(where string) {
			if where = strings.TrimSpace(where); where != "" {
				m.prompt.pending = m.take(choices, way, where)
			}
		})
		return nil
	}
	m.menus.offer(n)
}

func (m *insidePage) take(choices []takeout.Choice, way int, where string) tea.Cmd {
	l := &m.inside
	to := workshop.Taking{}
	to.Tag = l.in.Tag()
	var file *os.File
	switch {
	case way < 3:
		to.Folder, to.Clash = where, []takeout.Clash{takeout.Skip, takeout.KeepBoth, takeout.Replace}[way]
	default:
		var err error
		if file, err = workshop.NewFile(where); err != nil {
			m.fail(sentence(err))
			return nil
		}
		if way == 3 {
			to.Tar = file
		} else {
			to.Zip = file
		}
	}
	r, report, err := m.w.StartTake(m.ctx, "Taking out of "+l.in.Title, choices, to)
	if err != nil {
		m.fail(sentence(err))
		return nil
	}
	l.marked = nil
	up := m.lanes().up
	up.spots = nil
	down := nothing(writing(m.th, ""), where)
	return m.runPage.start(work{run: r, lanes: []lanes{{up: up, down: down}},
		stopped: "Cancelling keeps what is whole in a folder; taken out again, it goes on.",
		after: func(s run.Snapshot) tea.Cmd {
			if file != nil {
				_ = file.Sync()
				_ = file.Close()
				if s.State != run.Done {
					_ = os.Remove(where)
				}
			}
			if rep := report(); rep != nil {
				m.runPage.result = takenLines(m.th, rep, where)
			}
			return nil
		}})
}

func takenLines(th theme, r *takeout.Report, where string) []string {
	out := []string{th.good.Render(r.Words() + "."), "In " + where}
	for _, x := range r.Renamed {
		out = append(out,
			th.caution.Render(fmt.Sprintf("%s is called %s: %s", inside.Visible(x.Path), inside.Visible(x.As),
				x.Why)))
	}
	for i, x := range r.Gaps {
		if i == 50 {
			out = append(out, th.bad.Render(fmt.Sprintf("… and %d more with gaps", r.GapCount-i)))
			break
		}
		out = append(out, th.bad.Render("Has a gap: "+inside.Visible(x.Path)+": "+x.Why))
	}
	for i, x := range r.Left {
		if i == 50 {
			out = append(out, th.bad.Render(fmt.Sprintf("… and %d more", r.LeftOut-i)))
			break
		}
		out = append(out, th.bad.Render("left out: "+inside.Visible(x.Path)+": "+x.Why))
	}
	if len(r.Lost) > 0 {
		out = append(out, th.dim.Render("not kept there: "+strings.Join(r.Lost, ", ")))
	}
	return out
}

package tui

import (
	"os"
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/ready"
	"twinshelf/internal/stick/drive"
	"twinshelf/internal/workshop"
)

// A starting stick is a purpose of Ready: it is drafted from a base, which is read in the background, and carried out
// like every other layout.

// stickPurpose is how it stands among the purposes.
var stickPurpose = choice{name: "a starting stick", about: "starts other PCs into Twin Shelf; the rest of the " +
	"drive can hold a shelf, records and papers. It is made of a base, which \"twinshelf stick base\" collects"}

// stickData is what the rest of a stick can be.
type stickData struct {
	choice
	data  drive.Data
	renew bool
}

// stickDrafted is a stick as it would be, for the disk at a path as it was looked at.
type stickDrafted struct {
	draft       *ready.Draft
	path, state string
	err         error
}

// offerStick asks for the base, and what the rest of the drive is for.
func offerStick(m *readyPage) {
	m.prompt.askPath("File with the base (twinshelf stick base makes one): ", "", func(text string) {
		if text = strings.TrimSpace(text); text != "" {
			offerStickData(m, text)
		}
	})
}

func offerStickData(m *readyPage, from string) {
	var all []stickData
	if m.target != nil && m.target.Survey != nil && drive.IsStick(m.target.Survey) {
		all = append(all, stickData{choice: choice{name: "renew its system", about: "it is a starting stick: " +
			"everything beside the system stays"}, renew: true})
	}
	all = append(all,
		stickData{choice: choice{name: "a shelf, on exFAT", about: "every system reads and writes it"},
			data: drive.Data{Kind: "exFAT", Label: "shelf"}},
		stickData{choice: choice{name: "a shelf, on ext4", about: "safer when it is pulled out; only Linux reads it"},
			data: drive.Data{Kind: "ext4", Label: "shelf"}},
		stickData{choice: choice{name: "nothing", about: "records are lost when a machine is switched off, but " +
			"for what lies on shelves"}})
	n := menu{title: "What is the rest of the drive for?"}
	for _, d := range all {
		n.choices = append(n.choices, d.choice)
	}
	n.then = func(chosen []int) tea.Cmd { return draftStick(m, from, all[chosen[0]]) }
	m.menus.offer(n)
}

// draftStick reads the base and drafts the stick in the background.
func draftStick(m *readyPage, from string, is stickData) tea.Cmd {
	d, ctx := m.target, m.ctx
	m.say("The base is being read …")
	return func() tea.Msg {
		msg := stickDrafted{path: d.Path, state: d.Fingerprint}
		var program []byte
		if program, msg.err = workshop.StickProgram(""); msg.err != nil {
			return msg
		}
		f, err := os.Open(from)
		if err != nil {
			msg.err = err
			return msg
		}
		defer f.Close()
		system, err := drive.Read(ctx, f, program)
		if err != nil {
			msg.err = err
			return msg
		}
		msg.draft, msg.err = workshop.DraftStick(d, system, is.data, is.renew)
		return msg
	}
}

// onStick takes the drafted stick, unless another disk is the target by now.
func onStick(m *readyPage, msg stickDrafted) tea.Cmd {
	switch {
	case msg.err != nil:
		m.fail(sentence(msg.err))
		return nil
	case m.target == nil || m.target.Path != msg.path || m.target.Fingerprint != msg.state:
		return nil
	}
	m.edit(func(d *ready.Draft) error {
		*d = *msg.draft
		return nil
	})
	m.say("The plan is that of a starting stick: Enter shows what would be done.")
	return m.replan()
}

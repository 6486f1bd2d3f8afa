package cli

import (
	"fmt"

	"twinshelf/internal/machine"
	"twinshelf/internal/scene"
	"twinshelf/internal/workshop"
)

// undertaking is work that changes a disk or a shelf. Every command shows it, asks and carries it out in the same way.
type undertaking struct {
	// summaries say what will be done to each target; each is confirmed by itself.
	summaries []workshop.Summary
	// targets name what is confirmed, one for each summary, where there are several; together is shown instead of the
	// summaries where one says it for all.
	targets  []string
	together *workshop.Summary
	// plan ends it after it was shown; planned is what it says then as JSON.
	plan    bool
	planned any
	// drawTo is the file that the plan is drawn into; empty for none.
	drawTo string
	drawn  func() *scene.Scene
	// show shows it where the summaries alone don't; nil otherwise.
	show func()
	// doubts need a yes of their own before anything is confirmed, more are asked after the confirmation of each
	// target.
	doubts []doubt
	more   func(target int) []doubt
	// confirm are the confirmations that were given by flags, in the order of the summaries.
	confirm []string
	// work does it, and says the result.
	work func() error
}

// doubt is something that may be a mistake. A flag says yes to it.
type doubt struct {
	says, flag string
	yes        bool
}

// undertake shows, asks, and works.
func (o *options) undertake(u undertaking) error {
	if u.drawTo != "" {
		if err := workshop.SaveDrawing(u.drawn(), u.drawTo); err != nil {
			return err
		}
	}
	if u.plan && o.json {
		return o.print(u.planned)
	}
	if !o.json {
		o.showUndertaking(u)
	}
	if u.drawTo != "" && !o.json {
		o.say("Drawn: %s.", u.drawTo)
	}
	if u.plan {
		return nil
	}
	if words := machine.Look("/").Power.Warning(); words != "" && !o.quiet {
		fmt.Fprintln(o.err, "twinshelf: "+words)
	}
	if err := o.agreeAll(u.doubts); err != nil {
		return err
	}
	for i, s := range u.summaries {
		given := ""
		if i < len(u.confirm) {
			given = u.confirm[i]
		}
		whose := ""
		if len(u.summaries) > 1 {
			whose = fmt.Sprintf("%s, %d of %d", u.targets[i], i+1, len(u.summaries))
		}
		if err := o.confirm(s, whose, given); err != nil {
			return err
		}
		if u.more == nil {
			continue
		}
		if err := o.agreeAll(u.more(i)); err != nil {
			return err
		}
	}
	return u.work()
}

func (o *options) showUndertaking(u undertaking) {
	shown := u.summaries
	if u.together != nil {
		shown = []workshop.Summary{*u.together}
	}
	for _, s := range shown {
		if s.Head != "" {
			o.showSummary(s)
		}
	}
	if u.show != nil {
		u.show()
	}
}

func (o *options) agreeAll(doubts []doubt) error {
	for _, d := range doubts {
		if d.yes {
			continue
		}
		if err := o.agree(d.says, d.flag); err != nil {
			return err
		}
	}
	return nil
}

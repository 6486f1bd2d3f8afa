// Package tui is the full screen. It shows and asks; the work is done below.
package tui

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"sync"
	"syscall"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"twinshelf/internal/run"
	"twinshelf/internal/workshop"
)

// lookEvery is how often it is looked whether disks were attached or taken away.
const lookEvery = 2 * time.Second

// drawnEach is how often a second it is looked whether there is something to draw, which costs a slow machine something
// also while nothing changes; quicker than people see it.
const drawnEach = 20

// askQuit is sent when the program is asked to end from outside.
type askQuit struct{}

// Run opens the full screen on a workshop, drawn with a set of Glyphs, and returns when it is left.
func Run(ctx context.Context, w *workshop.Workshop, glyphs string) error {
	if t := os.Getenv("TERM"); t == "dumb" || t == "" {
		return errors.New("this terminal can't show a full screen; use the commands instead: \"twinshelf --help\" " +
			"lists them")
	}
	if st, err := os.Stdout.Stat(); err != nil || st.Mode()&os.ModeCharDevice == 0 {
		return errors.New("the output is no terminal; use the commands instead: \"twinshelf --help\" lists them")
	}
	ctx, cancel := context.WithCancel(context.WithoutCancel(ctx))
	m := newModel(ctx, w)
	m.few = Glyphs(glyphs).few()
	if w.Notice != "" {
		m.fail(sentence(errors.New(w.Notice)))
	} else if overdue := w.Overdue(time.Now()); len(overdue) > 0 {
		said := overdue[0]
		if more := len(overdue) - 1; more > 0 {
			said += fmt.Sprintf(" (and %d more; \"twinshelf routine list\" tells)", more)
		}
		m.fail(sentence(errors.New(said)))
	}
	opts := []tea.ProgramOption{tea.WithoutSignalHandler(), tea.WithFPS(drawnEach)}
	if os.Getenv("NO_COLOR") != "" {
		opts = append(opts, tea.WithColorProfile(colorprofile.ASCII))
	}
	p := tea.NewProgram(m, opts...)
	w.FarAsks = asksOnScreen(p.Send)
	sigs := make(chan os.Signal, 1)
	signal.Notify(sigs, syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP)
	defer signal.Stop(sigs)
	ended := make(chan struct{})
	look := time.NewTicker(lookEvery)
	defer look.Stop()
	told := make(chan bool, 1) // to end, with nobody left to ask
	var asking sync.WaitGroup
	asking.Go(func() {
		for {
			select {
			case s := <-sigs:
				if s == syscall.SIGINT {
					p.Send(askQuit{})
					continue
				}
				select {
				case told <- true:
				default:
				}
				p.Quit()
			case <-look.C:
				p.Send(lookForNew{})
			case <-ended:
				return
			}
		}
	})
	_, err := p.Run()
	cancel()
	close(ended)
	asking.Wait()
	if m.runPage.run != nil { // a run that was going on ends in good order
		<-m.runPage.run.Ended()
	}
	m.routinesPage.working.Wait()
	if err != nil {
		return fmt.Errorf("the screen ended: %w", err)
	}
	select {
	case <-told:
		return m.cancelled()
	default:
		return nil
	}
}

// cancelled says what state it leaves that the program was told to end.
func (m *model) cancelled() error {
	c := &run.CutOff{Leaves: "nothing was going on", Err: context.Canceled}
	if m.runPage.run == nil || m.runPage.snap.Over() {
		return c
	}
	switch err := m.runPage.run.Wait(); {
	case err == nil:
		c.Leaves = "the work was done before it ended"
	case errors.Is(err, context.Canceled):
		c.Leaves = m.runPage.leaves()
	default:
		c.Leaves = "the work failed: " + err.Error()
	}
	return c
}

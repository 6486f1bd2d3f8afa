package workshop

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/routine"
	"twinshelf/internal/units"
)

// How long one who is told may take, how often a web address is tried, and how long it is waited before it is tried
// again, each time twice as long.
const (
	tellWithin = time.Minute
	tellTries  = 3
	tellPause  = 2 * time.Second
	mostReply  = 64 << 10
)

// Message is what those who are told of a run get as JSON.
type Message struct {
	Routine string `json:"routine_name"`
	Machine string `json:"machine,omitempty"`
	routine.Entry
}

// notice is what somebody is told: in words, as JSON, and what matters most for a program's environment.
type notice struct {
	subject string
	text    string
	body    any
	env     []string
}

// tellers are ways of telling; tests have others.
type tellers struct {
	client   *http.Client
	sendmail string
	pause    time.Duration
	mail     *mailer // nil where mail goes by sendmail
}

func usualTellers() tellers {
	return tellers{client: newClient(), sendmail: "/usr/sbin/sendmail", pause: tellPause}
}

// newClient goes nowhere else than it was told: what it posts isn't for whom it would be sent on to.
func newClient() *http.Client {
	return &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

// tellRun tells everybody who wants to know what became of a run, and gives in words what went wrong with that. It
// goes on when the run itself was cancelled.
func (w *Workshop) tellRun(ctx context.Context, r *routine.Routine, e *routine.Entry) (problems []string) {
	ctx = context.WithoutCancel(ctx)
	t := w.tellersNow()
	m := Message{r.Name, r.Machine, *e}
	for _, to := range r.Tell {
		if to.On == routine.EachRun || to.On == routine.OnFailure && !e.Outcome.Well() {
			problems = append(problems, t.tell(ctx, to, m.notice())...)
		}
	}
	if r.Heartbeat != "" && e.Outcome.Well() {
		within, end := context.WithTimeout(ctx, tellWithin)
		defer end()
		if err := t.web(within, http.MethodGet, r.Heartbeat, nil); err != nil {
			problems = append(problems, fmt.Sprintf("the heartbeat failed: %v", err))
		}
	}
	return problems
}

// tell tells one, and gives in words what went wrong with that.
func (t tellers) tell(ctx context.Context, to routine.Tell, n notice) []string {
	ctx, end := context.WithTimeout(ctx, tellWithin)
	defer end()
	body, err := json.Marshal(n.body)
	switch {
	case err != nil:
	case to.Way == routine.ByCommand:
		err = t.command(ctx, to.To, n, body)
	case to.Way == routine.ByMail && t.mail != nil:
		err = t.mail.send(ctx, to.To, n)
	case to.Way == routine.ByMail:
		err = t.sendMail(ctx, to.To, n)
	case to.Way == routine.ByWeb:
		err = t.web(ctx, http.MethodPost, to.To, body)
	}
	if err != nil {
		return []string{fmt.Sprintf("nobody could be told by %s: %v", to.Way, err)}
	}
	return nil
}

// command runs a program with the message on its standard input, and what matters most in its environment.
func (t tellers) command(ctx context.Context, line string, n notice, body []byte) error {
	words := strings.Fields(line)
	cmd := exec.CommandContext(ctx, words[0], words[1:]...)
	cmd.Stdin = bytes.NewReader(body)
	cmd.WaitDelay = time.Second
	cmd.Env = append(withoutSecrets(os.Environ()), n.env...)
	out, err := cmd.CombinedOutput()
	if said := strings.TrimSpace(string(out)); err != nil && said != "" {
		err = fmt.Errorf("%w: %s", err, units.Visible(said[:min(len(said), 200)]))
	}
	return err
}

// withoutSecrets is an environment without what opens shelves: a program that is told has no use for it.
func withoutSecrets(env []string) []string {
	return slices.DeleteFunc(env, func(v string) bool {
		return strings.HasPrefix(v, "TWINSHELF_") && strings.Contains(v, "PASSPHRASE")
	})
}

func (m *Message) notice() notice {
	return notice{fmt.Sprintf("%s: %s", m.Routine, m.Outcome), m.text(), m, []string{"TWINSHELF_ROUTINE=" + m.Routine,
		"TWINSHELF_OUTCOME=" + string(m.Outcome), "TWINSHELF_SAYS=" + m.Says}}
}

// text is the message in words, with what to do.
func (m *Message) text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "The routine \"%s\" on this machine: %s.\n\n%s\n\n", m.Routine, m.Outcome, m.Says)
	fmt.Fprintf(&b, "It began %s and ended %s.\n", units.Moment(m.Began), units.Moment(m.Ended))
	for _, l := range m.Log {
		fmt.Fprintf(&b, "  %s\n", l)
	}
	if !m.Outcome.Well() {
		fmt.Fprintf(&b, "\n\"twinshelf routine show '%s'\" tells more, \"twinshelf routine run '%s'\" runs it again.\n",
			m.Routine, m.Routine)
	}
	return b.String()
}

// sendMail hands a message to the system's own sendmail.
func (t tellers) sendMail(ctx context.Context, to string, n notice) error {
	cmd := exec.CommandContext(ctx, t.sendmail, "-i", "-t")
	cmd.WaitDelay = time.Second
	cmd.Stdin = strings.NewReader("To: " + to + "\n" + n.letter())
	out, err := cmd.CombinedOutput()
	if errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("this machine has no %s, and no mail server was named "+
			"(\"twinshelf routine mail\")", t.sendmail)
	}
	if said := strings.TrimSpace(string(out)); err != nil && said != "" {
		err = fmt.Errorf("%w: %s", err, units.Visible(said[:min(len(said), 200)]))
	}
	return err
}

// web asks an HTTPS address, and tries again where that may help. Errors name its host alone: the rest of an address
// may be a secret.
func (t tellers) web(ctx context.Context, method, to string, body []byte) error {
	u, err := url.Parse(to)
	if err != nil {
		return errors.New("its address can't be read")
	}
	pause := t.pause
	for try := 1; ; try++ {
		again, err := t.ask(ctx, method, to, body)
		if err == nil {
			return nil
		}
		if !again || try == tellTries {
			return fmt.Errorf("%s: %w (%s)", u.Hostname(), err, units.Plural(try, "attempt"))
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s: %w", u.Hostname(), err)
		case <-time.After(pause):
		}
		pause *= 2
	}
}

func (t tellers) ask(ctx context.Context, method, to string, body []byte) (again bool, err error) {
	q, err := http.NewRequestWithContext(ctx, method, to, bytes.NewReader(body))
	if err != nil {
		return false, errors.New("its address can't be used")
	}
	if body != nil {
		q.Header.Set("Content-Type", "application/json")
	}
	q.Header.Set("User-Agent", "twinshelf")
	a, err := t.client.Do(q)
	if err != nil {
		if inner := (*url.Error)(nil); errors.As(err, &inner) {
			err = inner.Err // without the address
		}
		return true, err
	}
	defer a.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(a.Body, mostReply))
	if a.StatusCode >= 200 && a.StatusCode < 300 {
		return false, nil
	}
	return a.StatusCode >= 500 || a.StatusCode == http.StatusTooManyRequests, errors.New(a.Status)
}

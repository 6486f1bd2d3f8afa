package workshop

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"os"
	"os/exec"
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

// Message is what those who are told get as JSON.
type Message struct {
	Routine string `json:"routine_name"`
	Machine string `json:"machine,omitempty"`
	routine.Entry
}

// tellers are ways of telling; tests have others.
type tellers struct {
	client   *http.Client
	sendmail string
	pause    time.Duration
}

func usualTellers() tellers { return tellers{newClient(), "/usr/sbin/sendmail", tellPause} }

// newClient goes nowhere else than it was told: what it posts isn't for whom it would be sent on to.
func newClient() *http.Client {
	return &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

// tell tells everybody who wants to know what became of a run, and gives in words what went wrong with that. It goes on
// when the run itself was cancelled.
func (t tellers) tell(ctx context.Context, r *routine.Routine, e *routine.Entry) (problems []string) {
	ctx = context.WithoutCancel(ctx)
	m := Message{r.Name, r.Machine, *e}
	body, err := json.Marshal(m)
	if err != nil {
		return []string{err.Error()}
	}
	for _, to := range r.Tell {
		if to.Failures && e.Outcome.Well() {
			continue
		}
		within, end := context.WithTimeout(ctx, tellWithin)
		switch to.Way {
		case routine.ByCommand:
			err = t.command(within, to.To, &m, body)
		case routine.ByMail:
			err = t.mail(within, to.To, &m)
		case routine.ByWeb:
			err = t.web(within, to.To, body)
		}
		end()
		if err != nil {
			problems = append(problems, fmt.Sprintf("nobody could be told by %s: %v", to.Way, err))
		}
	}
	return problems
}

// command runs a program with the message on its standard input, and what matters most in its environment.
func (t tellers) command(ctx context.Context, line string, m *Message, body []byte) error {
	words := strings.Fields(line)
	cmd := exec.CommandContext(ctx, words[0], words[1:]...)
	cmd.Stdin = bytes.NewReader(body)
	cmd.WaitDelay = time.Second
	cmd.Env = append(os.Environ(), "TWINSHELF_ROUTINE="+m.Routine, "TWINSHELF_OUTCOME="+string(m.Outcome),
		"TWINSHELF_SAYS="+m.Says)
	out, err := cmd.CombinedOutput()
	if said := strings.TrimSpace(string(out)); err != nil && said != "" {
		err = fmt.Errorf("%w: %s", err, units.Visible(said[:min(len(said), 200)]))
	}
	return err
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

// mail hands the message to the system's own sendmail.
func (t tellers) mail(ctx context.Context, to string, m *Message) error {
	cmd := exec.CommandContext(ctx, t.sendmail, "-i", "-t")
	cmd.WaitDelay = time.Second
	cmd.Stdin = strings.NewReader(fmt.Sprintf("To: %s\nSubject: %s\nMIME-Version: 1.0\n"+
		"Content-Type: text/plain; charset=utf-8\nContent-Transfer-Encoding: 8bit\n\n%s", to,
		mime.QEncoding.Encode("utf-8", fmt.Sprintf("Twin Shelf: %s: %s", m.Routine, m.Outcome)), m.text()))
	out, err := cmd.CombinedOutput()
	if errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("this machine has no %s", t.sendmail)
	}
	if said := strings.TrimSpace(string(out)); err != nil && said != "" {
		err = fmt.Errorf("%w: %s", err, units.Visible(said[:min(len(said), 200)]))
	}
	return err
}

// web posts the message to an HTTPS address, and tries again where that may help. Errors name its host alone: the rest
// of an address may be a secret.
func (t tellers) web(ctx context.Context, to string, body []byte) error {
	u, err := url.Parse(to)
	if err != nil {
		return errors.New("its address can't be read")
	}
	pause := t.pause
	for try := 1; ; try++ {
		again, err := t.post(ctx, to, body)
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

func (t tellers) post(ctx context.Context, to string, body []byte) (again bool, err error) {
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, to, bytes.NewReader(body))
	if err != nil {
		return false, errors.New("its address can't be used")
	}
	q.Header.Set("Content-Type", "application/json")
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

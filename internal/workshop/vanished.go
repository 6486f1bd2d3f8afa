package workshop

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/zeebo/blake3"

	"twinshelf/internal/keeping"
	"twinshelf/internal/settings"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

// Nothing in a shelf's folder says what its newest state is: somebody who can write there can take twins, marks and
// rules away, or put the whole folder back to an earlier state. This machine remembers what it saw, and says what is
// missing.

// the parts of what is remembered as gone.
const (
	goneTwin  = "twin "
	goneMark  = "mark "
	goneRules = "rules"
)

// state fills in what is remembered of a shelf beside its twins.
func state(ctx context.Context, s *shelf.Shelf, k *settings.Known) {
	if marks, err := s.Pins(ctx); err == nil {
		for id := range marks {
			k.Marks = append(k.Marks, id)
		}
		slices.Sort(k.Marks)
		k.Marks = k.Marks[:min(len(k.Marks), mostRemembered)]
	}
	if rules, err := keeping.ReadRules(ctx, s); err == nil {
		b, _ := json.Marshal(rules)
		sum := blake3.Sum256(append([]byte(k.ID+"\n"), b...)) // of a sealed shelf nothing else is to be told here
		k.Rules = hex.EncodeToString(sum[:16])
	}
}

// vanished are the things of an earlier visit that are gone and of which the journal doesn't say so.
func vanished(ctx context.Context, s *shelf.Shelf, old, now *settings.Known) []string {
	var gone []string
	for _, id := range old.Holds {
		if !slices.Contains(now.Holds, id) {
			gone = append(gone, goneTwin+id)
		}
	}
	for _, id := range old.Marks {
		if !slices.Contains(now.Marks, id) && slices.Contains(now.Holds, id) {
			gone = append(gone, goneMark+id)
		}
	}
	if old.Rules != "" && old.Rules != now.Rules {
		gone = append(gone, goneRules)
	}
	for _, g := range old.Gone { // still gone
		id := strings.TrimPrefix(strings.TrimPrefix(g, goneTwin), goneMark)
		back := strings.HasPrefix(g, goneTwin) && slices.Contains(now.Holds, id) || strings.HasPrefix(g, goneMark) &&
			slices.Contains(now.Marks, id)
		if !back && !slices.Contains(gone, g) {
			gone = append(gone, g)
		}
	}
	if len(gone) == 0 {
		return nil
	}
	events, _ := s.Journal(ctx)
	rules, _ := keeping.ReadRules(ctx, s)
	return slices.DeleteFunc(gone, func(g string) bool {
		return slices.ContainsFunc(events, func(e shelf.Event) bool {
			if g == goneRules { // told of lately, and it is still so
				lately := strings.HasPrefix(e.What, "rules") || e.What == "rule set" &&
					e.Why == rules.For(e.Machine).Words()
				return lately && e.When.After(old.Seen.Add(-time.Minute))
			}
			return e.Twin != "" && strings.HasSuffix(g, e.Twin) && strings.HasPrefix(e.What, "discarded")
		})
	})
}

// Missing says in words what this machine saw on the open shelf and doesn't find any more.
func (w *shelves) Missing() []string {
	s := w.shelf()
	if s == nil {
		return nil
	}
	w.mu.Lock()
	i := slices.IndexFunc(w.State.Shelves, func(k settings.Known) bool { return k.ID == s.Head().ID })
	var k settings.Known
	if i >= 0 {
		k = w.State.Shelves[i]
	}
	w.mu.Unlock()
	if len(k.Gone) == 0 {
		return nil
	}
	var twins, marks []string
	var out []string
	for _, g := range k.Gone {
		switch {
		case strings.HasPrefix(g, goneTwin):
			twins = append(twins, strings.TrimPrefix(g, goneTwin))
		case strings.HasPrefix(g, goneMark):
			marks = append(marks, strings.TrimPrefix(g, goneMark))
		default:
			out = append(out, "the rules aren't those that were here, and the journal doesn't say that they were "+
				"changed")
		}
	}
	const accept = "; \"twinshelf shelf show --accept\" stops saying so"
	if len(marks) > 0 {
		out = append(out, fmt.Sprintf("%s for ever when this machine saw the shelf last, and no longer: %s",
			was(len(marks)), some(marks)))
	}
	if len(twins) > 0 {
		out = append(out,
			fmt.Sprintf("%s gone that this machine saw here, and the journal doesn't say that anybody discarded "+
				"them: %s. The folder may have been put back to an earlier state, or somebody took them away",
				are(len(twins)), some(twins)))
	}
	out[len(out)-1] += accept
	return out
}

func was(n int) string {
	if n == 1 {
		return "1 twin was kept"
	}
	return fmt.Sprintf("%d twins were kept", n)
}

func are(n int) string {
	if n == 1 {
		return "1 twin is"
	}
	return fmt.Sprintf("%d twins are", n)
}

// some are the first few of many.
func some(all []string) string {
	const most = 5
	if len(all) <= most {
		return strings.Join(all, ", ")
	}
	return strings.Join(all[:most], ", ") + fmt.Sprintf(" and %s", units.Plural(len(all)-most, "other"))
}

// Unkeep takes the mark away by which a twin is kept for ever; here it isn't missed.
func (w *shelves) Unkeep(ctx context.Context, id string) error {
	s := w.shelf()
	if s == nil {
		return ErrNoShelf
	}
	if err := s.Unkeep(ctx, id); err != nil {
		return err
	}
	_ = w.amend(s, func(k *settings.Known) { // a comfort, not a need
		k.Marks = slices.DeleteFunc(slices.Clone(k.Marks), func(m string) bool { return m == id })
	})
	return nil
}

// amend changes what is remembered of a shelf.
func (w *shelves) amend(s *shelf.Shelf, change func(*settings.Known)) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	i := slices.IndexFunc(w.State.Shelves, func(k settings.Known) bool { return k.ID == s.Head().ID })
	if i < 0 {
		return nil
	}
	k := w.State.Shelves[i]
	change(&k)
	return w.State.Remember(k, false)
}

// AcceptMissing stops pointing out what is missing now.
func (w *shelves) AcceptMissing() error {
	s := w.shelf()
	if s == nil {
		return ErrNoShelf
	}
	return w.amend(s, func(k *settings.Known) { k.Gone = nil })
}

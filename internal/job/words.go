package job

import (
	"fmt"
	"strings"
	"time"

	"twinshelf/internal/units"
)

// Words say what a work came to, in one line.
func (d Done) Words() string {
	r := d.Result
	if r == nil {
		return "no end is on record: it is under way, or was cut off"
	}
	took := units.Duration(time.Duration(r.Seconds * float64(time.Second)))
	words := []string{"done in " + took}
	switch r.State {
	case "done":
	case "cancelled":
		words[0] = "cancelled after " + took
	default:
		words[0] = "failed after " + took + ": " + r.Error
	}
	if r.Twin != "" {
		words = append(words, fmt.Sprintf("%s used, %s newly stored, twin %s", units.Bytes(r.Used),
			units.Bytes(r.Added), r.Twin))
	}
	if r.Unread > 0 {
		words = append(words, units.Bytes(r.Unread)+" of the source couldn't be read")
	}
	if v := r.Verdict(); v != "" {
		words = append(words, v)
	}
	return strings.Join(words, "; ")
}

// Verdict says in a few words what the proof came to; empty without one.
func (r *Result) Verdict() string {
	switch failed := r.Failed(); {
	case len(r.Claims) == 0:
		return ""
	case failed == 1:
		return fmt.Sprintf("1 of %d claims doesn't hold", len(r.Claims))
	case failed > 1:
		return fmt.Sprintf("%d of %d claims don't hold", failed, len(r.Claims))
	}
	return fmt.Sprintf("all %d claims hold", len(r.Claims))
}

// Failed is how many claims don't hold.
func (r *Result) Failed() int {
	n := 0
	for _, c := range r.Claims {
		if !c.Holds {
			n++
		}
	}
	return n
}

// About are what is known of the case, each with what it is.
func (c Case) About() [][2]string {
	machine := strings.TrimSpace(strings.Join([]string{c.Maker, c.Model}, " "))
	if c.Serial != "" {
		machine = strings.TrimPrefix(machine+", serial "+c.Serial, ", ")
	}
	var out [][2]string
	for _, f := range [][2]string{{"Number", c.Number}, {"Customer", c.Customer}, {"Contact", c.Contact},
		{"Machine", c.Machine}, {"Device", machine}, {"Asked for", c.Asked}, {"Technician", c.Technician}} {
		if f[1] != "" {
			out = append(out, f)
		}
	}
	return out
}

// State says in a word how a work ended.
func (d Done) State() string {
	if d.Result == nil {
		return "no end on record"
	}
	return d.Result.State
}

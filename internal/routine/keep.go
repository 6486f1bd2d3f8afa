package routine

import (
	"slices"

	"twinshelf/internal/keeping"
)

// presets are rules that have a name: how often it runs tells which one is meant.
var presets = map[string]string{
	"hourly": "one an hour for 1 day, then one a day for 1 month, then one a week for ever; never fewer than 3",
	"daily":  "one a day for 1 month, then one a week for 1 year, then one a month for ever; never fewer than 3",
	"weekly": "one a week for 3 months, then one a month for ever; never fewer than 3",
}

const presetNames = "hourly, daily and weekly"

// Leaving sorts what a rule drops: what the last run that ended well named goes now, the rest is named for the next
// one. So nothing goes that wasn't told before.
func Leaving(fates []keeping.Fate, history []Entry) (now, next []keeping.Fate) {
	var said []string
	for _, e := range slices.Backward(history) {
		if e.Outcome.Well() {
			said = e.Leaving
			break
		}
	}
	for _, f := range fates {
		switch {
		case !f.Goes:
		case slices.Contains(said, f.ID):
			now = append(now, f)
		default:
			next = append(next, f)
		}
	}
	return now, next
}

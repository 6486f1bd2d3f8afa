package prove

import (
	"strings"
	"testing"

	"twinshelf/internal/shelf"
)

// TestAnswers: what claims come to for those who ask; nothing is answered with yes that no claim says.
func TestAnswers(t *testing.T) {
	claim := func(topic shelf.Topic, about, says string, holds bool) shelf.Claim {
		return shelf.Claim{Topic: topic, About: about, Says: says, Holds: holds, Evidence: "as read"}
	}
	for name, c := range map[string]struct {
		of     string
		claims []shelf.Claim
		want   [3]Verdict
		words  [3]string
	}{
		"nothing": {"Heron", nil, [3]Verdict{NotHere, CantSay, CantSay}, [3]string{"meant to start", "Nothing", ""}},
		"all well": {"Heron", []shelf.Claim{claim(shelf.TopicStart, "start", "it should start by UEFI", true),
			claim(shelf.TopicContents, "part 1", "equals", true), claim(shelf.TopicSound, "table", "agrees", true)},
			[3]Verdict{Yes, Yes, Yes}, [3]string{"It should start by UEFI.", "every byte", "health"}},
		"can't be told": {"Heron", []shelf.Claim{claim(shelf.TopicStart, "start", asPlanned+"whether it starts "+
			"can't be told",
			true)}, [3]Verdict{CantSay, CantSay, CantSay}, [3]string{"Whether it starts can't be told.", "", ""}},
		"all bad": {"Heron", []shelf.Claim{claim(shelf.TopicStart, "start", "it should start by UEFI", false),
			claim(shelf.TopicContents, "part 1", "equals", true), claim(shelf.TopicContents, "part 2", "equals", false),
			claim(shelf.TopicSound, "part 2", "is whole", false)},
			[3]Verdict{No, No, No}, [3]string{"Doesn't hold", "Part 2: as read.", "Part 2: as read."}},
		"the shelf": {shelf.OnShelf, []shelf.Claim{claim("", "part 1", "can be read", true), claim("", "table",
			"same", true)},
			[3]Verdict{NotHere, Yes, Yes}, [3]string{"A twin starts nothing", "read from the shelf", "looked at when"}},
	} {
		got := Answers(&shelf.Proof{Of: c.of, Claims: c.claims})
		for i, a := range got {
			if a.Verdict != c.want[i] || !strings.Contains(a.Words, c.words[i]) {
				t.Errorf("%s: %s %s, %q; not %s, %q", name, a.Question, a.Verdict, a.Words, c.want[i], c.words[i])
			}
		}
	}
}

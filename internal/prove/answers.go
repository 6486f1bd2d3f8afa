package prove

import (
	"fmt"
	"strings"

	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

// Verdict is an answer in a word.
type Verdict string

const (
	Yes     Verdict = "yes"
	No      Verdict = "no"
	CantSay Verdict = "can't be told"
	NotHere Verdict = "not a question here"
)

// Answer is what a proof says to one of the questions that people ask.
type Answer struct {
	Question string
	Verdict  Verdict
	Words    string // in a sentence
	Claims   []shelf.Claim
}

// Answers says what a proof's claims come to: does it start, is everything there, is it sound.
func Answers(p *shelf.Proof) []Answer {
	by := map[shelf.Topic][]shelf.Claim{}
	for _, c := range p.Claims {
		by[topicOf(c)] = append(by[topicOf(c)], c)
	}
	return []Answer{starts(p, by[shelf.TopicStart]), everything(p, by[shelf.TopicContents]),
		sound(p, by[shelf.TopicSound])}
}

// topicOf is the topic of a claim; those of older versions tell by what they are about.
func topicOf(c shelf.Claim) shelf.Topic {
	switch {
	case c.Topic != "":
		return c.Topic
	case c.About == "start":
		return shelf.TopicStart
	case c.About == "table":
		return shelf.TopicSound
	}
	return shelf.TopicContents
}

func failing(claims []shelf.Claim) (out []shelf.Claim) {
	for _, c := range claims {
		if !c.Holds {
			out = append(out, c)
		}
	}
	return out
}

// sayings are claims in a sentence.
func sayings(claims []shelf.Claim, of func(shelf.Claim) string) string {
	var all []string
	for _, c := range claims {
		all = append(all, of(c))
	}
	text := strings.Join(all, "; ")
	if text == "" {
		return ""
	}
	return strings.ToUpper(text[:1]) + text[1:] + "."
}

func starts(p *shelf.Proof, claims []shelf.Claim) Answer {
	a := Answer{Question: "Does it start?", Claims: claims}
	says := func(c shelf.Claim) string { return strings.TrimPrefix(c.Says, asPlanned) }
	bad := failing(claims)
	switch {
	case len(claims) == 0 && p.OfShelf():
		a.Verdict, a.Words = NotHere, "A twin starts nothing by itself. The plan in Fit says whether its target should."
	case len(claims) == 0:
		a.Verdict, a.Words = NotHere, "Nothing on the disk is meant to start a machine."
	case len(bad) > 0:
		a.Verdict = No
		a.Words = sayings(bad, func(c shelf.Claim) string {
			return "doesn't hold: " + says(c) + " " +
				"(" + c.Evidence + ")"
		})
	case strings.HasPrefix(claims[0].Says, asPlanned):
		a.Verdict, a.Words = CantSay, sayings(claims, says)
	default:
		a.Verdict, a.Words = Yes, sayings(claims, says)
	}
	return a
}

func everything(p *shelf.Proof, claims []shelf.Claim) Answer {
	a := Answer{Question: "Is everything there?", Claims: claims, Verdict: Yes}
	if bad := failing(claims); len(bad) > 0 {
		a.Verdict = No
		a.Words = sayings(bad, func(c shelf.Claim) string { return c.About + ": " + c.Evidence })
		return a
	}
	if len(claims) == 0 {
		a.Verdict, a.Words = CantSay, "Nothing was compared."
		return a
	}
	if a.Words = fmt.Sprintf("%s read back from the target, every byte as it was planned.",
		units.Bytes(p.Read)); p.OfShelf() {
		a.Words = fmt.Sprintf("%s read from the shelf, every block as it was captured.", units.Bytes(p.Read))
	}
	return a
}

func sound(p *shelf.Proof, claims []shelf.Claim) Answer {
	a := Answer{Question: "Are its table and its file systems sound?", Claims: claims, Verdict: Yes}
	bad := failing(claims)
	switch {
	case len(claims) == 0 && p.OfShelf():
		a.Verdict, a.Words = NotHere, "They are as they were captured; on a target they are looked at again."
	case len(claims) == 0:
		a.Verdict, a.Words = CantSay, "Nothing of them is known here."
	case len(bad) > 0:
		a.Verdict = No
		a.Words = sayings(bad, func(c shelf.Claim) string { return c.About + ": " + c.Evidence })
	case p.OfShelf():
		a.Words = "The table names the parts of the twin; file systems are looked at when it is on a target."
	default:
		a.Words = "Each was looked at on the target itself. Nothing is said about the health of the drive."
	}
	return a
}

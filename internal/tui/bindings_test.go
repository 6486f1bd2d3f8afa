package tui

import (
	"os"
	"slices"
	"strings"
	"testing"
)

// keysPage is where the keys of all pages are listed; TWINSHELF_UPDATE=1 writes it anew.
const keysPage = "../../docs/keys.md"

// keyed is a page with its bindings.
type keyed struct {
	title string
	keys  []binding
}

// onReady is Ready with the kiosk's disk.
func onReady(t *testing.T) *model { return key(onDisk(opened(t), "Sandmartin S 64"), "e").(*model) }

// pagesWithKeys are all pages and panes in states in which all their keys work.
func pagesWithKeys(t *testing.T) []keyed {
	t.Helper()
	mm := opened(t).(*model)
	at := func(keys ...string) *model { return key(opened(t), keys...).(*model) }
	thin := at("4", "t")
	grown := at("4", "g")
	inside := at("4", "i", "right")
	listMenu := at("4", "x")
	listMenu.menus.menu = &menu{several: true, choices: []choice{{name: "one"}}}
	ready := onReady(t)
	view := at("4", "i")
	view.insidePage.inside.viewing = &viewing{}
	proof := at()
	proof.proofPage.written = "somewhere"
	diff, find := &diffing{}, &finding{}
	inside.insidePage.inside.diffing = diff
	diffKeys := inside.diffPane.bindings()
	inside.insidePage.inside.diffing, inside.insidePage.inside.finding = nil, find
	findKeys := inside.findPane.bindings()
	inside.insidePage.inside.finding = nil
	return []keyed{
		{"On every page", mm.anywhere()},
		{"1 Bench", at("1").benchPage.bindings()},
		{"2 Ready", ready.readyPage.bindings()},
		{"3 Capture", mm.capturePage.bindings()},
		{"4 Dates", at("4").datesPage.bindings()},
		{"4 Dates, while what would go by the rule is shown", thin.datesPage.thinBindings()},
		{"4 Dates, while the growth is shown", grown.datesPage.growthBindings()},
		{"5 Fit", mm.fitPage.every(true)},
		{"6 Run, while one is on", mm.runPage.onBindings()},
		{"7 Proof", proof.proofPage.bindings()},
		{"Inside", inside.insidePage.bindings()},
		{"Inside, a file", view.viewPane.bindings()},
		{"Inside, what a search found", findKeys},
		{"Inside, how two dates differ", diffKeys},
		{"A list to choose from", listMenu.menus.bindings()},
		{"A line to type", mm.prompt.bindings()},
		{"The last page", mm.lastPage.bindings()},
	}
}

// TestKeys holds the bindings of all pages to what they promise.
func TestKeys(t *testing.T) {
	pages := pagesWithKeys(t)
	t.Run("page", func(t *testing.T) { keysArePaged(t, pages) })
	t.Run("collide", func(t *testing.T) { keysDontCollide(t, pages) })
	t.Run("meaning", func(t *testing.T) { oneLetterOneMeaning(t, pages) })
}

// verbOf is what Enter does, without what it acts on at this moment.
func verbOf(b binding) string {
	for _, verb := range []string{"capture", "restore", "copy", "write"} {
		if b.show == "Enter" && strings.HasPrefix(b.does, verb+" ") {
			return verb
		}
	}
	return b.does
}

// keysArePaged: docs/keys.md lists the keys as the pages have them.
func keysArePaged(t *testing.T, pages []keyed) {
	var b strings.Builder
	b.WriteString("# Keys\n\nThe bottom line of the screen shows the keys that work now, ? explains them. These are " +
		"all; the pages' own\ntables are the source of this one.\n")
	for _, e := range pages {
		b.WriteString("\n## " + e.title + "\n| key | does | |\n| --- | --- | --- |\n")
		for _, k := range shown(e.keys) {
			b.WriteString("| `" + k.show + "` | " + verbOf(k) + " | " + k.more + " |\n")
		}
	}
	if os.Getenv("TWINSHELF_UPDATE") != "" {
		if err := os.WriteFile(keysPage, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	have, err := os.ReadFile(keysPage)
	if err != nil || string(have) != b.String() {
		t.Errorf("docs/keys.md isn't what the pages say (%v): TWINSHELF_UPDATE=1 go test -run TestKeys "+
			"./internal/tui", err)
	}
}

// keysDontCollide: on no page does a key do two things, the keys that move up and down in lists do nothing else
// anywhere, and what is shown says what it does.
func keysDontCollide(t *testing.T, pages []keyed) {
	for _, e := range pages {
		seen := map[string]string{}
		for _, b := range e.keys {
			if b.do == nil || b.keys == "" || b.show != "" && b.does == "" {
				t.Errorf("%s: %+v does nothing, or doesn't say what", e.title, b)
			}
			for _, k := range strings.Fields(b.keys) {
				if was, twice := seen[k]; twice &&
					!(slices.Contains([]string{"up", "down", "esc"}, k) && b.show == "") {
					t.Errorf("%s: %s does %q and %q", e.title, k, was, b.does)
				}
				seen[k] = b.does
				others := strings.Fields(b.keys)
				if (k == "j" || k == "k") && !slices.Contains(others, "up") ||
					(k == "h" || k == "l") && !slices.Contains(others, "left") && !slices.Contains(others, "right") {
					t.Errorf("%s: %s, which moves in lists, does %q", e.title, k, b.does)
				}
			}
		}
	}
}

// oneLetterOneMeaning: what is done on several pages has the same letter on all of them.
func oneLetterOneMeaning(t *testing.T, pages []keyed) {
	letters := map[string]string{}
	for _, e := range pages {
		for _, b := range shown(e.keys) {
			switch b.does {
			case "choose", "part", "row", "disk", "close it", "leave it", "take it", "size", "date":
				continue
			}
			if was, known := letters[b.does]; known && was != b.show {
				t.Errorf("%s: %s is %s here and %s elsewhere", e.title, b.does, b.show, was)
			}
			letters[b.does] = b.show
		}
	}
}

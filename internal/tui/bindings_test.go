package tui

import (
	"os"
	"slices"
	"strings"
	"testing"

	"twinshelf/internal/firmware"
	"twinshelf/internal/machine"
	"twinshelf/internal/routine"
	"twinshelf/internal/workshop"
)

// keysPage is where the keys of all pages are listed; TWINSHELF_UPDATE=1 writes it anew.
const keysPage = "../../docs/keys.md"

// keyed is a page with its bindings.
type keyed struct {
	title string
	keys  []binding
}

// pagesWithKeys are all pages and panes in states in which all their keys work. One screen goes through them all: to
// open the bench anew for each takes most of a test's time.
func pagesWithKeys(t *testing.T) []keyed {
	t.Helper()
	mm := opened(t).(*model)
	mm.welcomePage.stick, mm.welcomePage.who = &workshop.Stick{Display: true}, uefiMachine()
	mm.welcomePage.found = []workshop.FoundShelf{{Name: "Oak"}}
	at := func(keys ...string) *model { return key(onDisk(afresh(mm), "Sandmartin S 64"), keys...).(*model) }
	out := []keyed{{"On every page", mm.anywhere()}}
	add := func(title string, keys []binding) { out = append(out, keyed{title, keys}) }
	add("0 This machine, where it was started from a stick", mm.welcomePage.bindings())
	add("1 Bench", at("1").benchPage.bindings())
	add("2 Ready", at("e").readyPage.bindings())
	add("3 Capture", at().capturePage.bindings())
	add("4 Dates", at("4").datesPage.bindings())
	add("4 Dates, while what would go by the rule is shown", at("4", "t").datesPage.thinBindings())
	add("4 Dates, while the growth is shown", at("4", "g").datesPage.growthBindings())
	add("5 Fit", at().fitPage.every(true))
	add("6 Run, while one is on", mm.runPage.onBindings())
	proof := at()
	proof.proofPage.written = "somewhere"
	add("7 Proof", proof.proofPage.bindings())
	proof.proofPage.written = ""
	routines := at("9").routinesPage
	routines.list = []*routine.Standing{{Routine: &routine.Routine{Name: "Desk"}}}
	add("9 Routines", routines.bindings())
	routines.list = nil
	add("Inside", at("4", "i", "right").insidePage.bindings())
	view := at("4", "i")
	view.insidePage.inside.viewing = &viewing{}
	add("Inside, a file", view.viewPane.bindings())
	inside := at("4", "i", "right")
	inside.insidePage.inside.finding = &finding{}
	add("Inside, what a search found", inside.findPane.bindings())
	inside.insidePage.inside.diffing, inside.insidePage.inside.finding = &diffing{}, nil
	add("Inside, how two dates differ", inside.diffPane.bindings())
	inside.insidePage.inside.diffing = nil
	listMenu := at("4", "x")
	listMenu.menus.menu = &menu{several: true, choices: []choice{{name: "one"}}}
	add("A list to choose from", listMenu.menus.bindings())
	add("A line to type", mm.prompt.bindings())
	add("The last page", mm.lastPage.bindings())
	return out
}

// uefiMachine is a computer with firmware that keeps start entries.
func uefiMachine() *machine.Machine {
	return &machine.Machine{Maker: "Ternworks", Model: "W2", Serial: "TW-2291", Keyboard: true,
		Start: firmware.Start{UEFI: true, Bits: 64, SecureTold: true}}
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

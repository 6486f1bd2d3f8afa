package keeping

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/shelf"
	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/span"
)

func at(text string) time.Time {
	t, err := time.Parse("2006-01-02 15:04", text)
	if err != nil {
		panic(err)
	}
	return t
}

func TestRuleWords(t *testing.T) {
	for _, text := range []string{
		"every one for 2 days, then one a day for 5 weeks, then one a month for ever",
		"every one for ever",
		"one every 6 hours for 2 days, then one a week for 1 year, older ones go",
		"one an hour for 1 day, then one a day for 1 month, then one a week for ever",
	} {
		g, err := ParseRule(text)
		if err != nil {
			t.Errorf("%q: %v", text, err)
			continue
		}
		if got := (Rule{Generations: g}).Words(); got != text {
			t.Errorf("%q became %q", text, got)
		}
		again, err := ParseRule((Rule{Generations: g}).Words())
		if err != nil || !slices.Equal(g, again) {
			t.Errorf("%q: %v %v", text, again, err)
		}
	}
	for text, want := range map[string]string{
		"":                                  "not understood",
		"sometimes":                         "not understood",
		"one a fortnight for ever":          "not understood",
		"one a day for 0 weeks":             "not understood",
		"one a day for ever, one a week":    "never begins",
		"one a week for 1 month, one a day": "denser",
		"one every -3 days":                 "not understood",
	} {
		if _, err := ParseRule(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func TestReadRule(t *testing.T) {
	for _, r := range []Rule{{}, {Floor: 5}, {Generations: []Generation{{0, 48}, {24, 0}}, Floor: 3, Auto: true},
		{Generations: []Generation{{24, 24 * 7}}, Floor: 1}} {
		want := r
		if len(r.Generations) == 0 {
			want.Floor = UsualFloor // a rule that keeps everything needs none
		} else if r.Floor == 0 {
			want.Floor = UsualFloor
		}
		if got, err := ReadRule(r.Words()); err != nil || got.Words() != want.Words() || got.Auto != want.Auto {
			t.Errorf("%q became %q: %v", r.Words(), got.Words(), err)
		}
	}
	for _, bad := range []string{"one a day; never fewer than none", "one a day; please", "",
		"one a day; never fewer than -1"} {
		if _, err := ReadRule(bad); err == nil {
			t.Errorf("%q is taken", bad)
		}
	}
}

func dated(now time.Time, ages ...time.Duration) []*shelf.Twin {
	var out []*shelf.Twin
	for i, a := range ages {
		out = append(out, &shelf.Twin{ID: fmt.Sprint("t", i), Machine: "Kiosk", Taken: now.Add(-a),
			Disks: []shelf.TwinDisk{{}}})
	}
	return out
}

func TestThinning(t *testing.T) {
	now := at("2026-11-25 12:00")
	const d = 24 * time.Hour
	g, err := ParseRule("every one for 2 days, then one a day for 2 weeks, then one a week for 10 weeks")
	if err != nil {
		t.Fatal(err)
	}
	ages := []time.Duration{time.Hour, 2 * time.Hour, 30 * time.Hour, 3*d + time.Hour, 3*d + 2*time.Hour,
		3*d + 20*time.Hour, 22 * d, 23 * d, 28 * d, 100 * d, 200 * d}
	goes := func(r Rule, pins map[string]shelf.Pin, change func([]*shelf.Twin)) string {
		twins := dated(now, ages...)
		if change != nil {
			change(twins)
		}
		var out []string
		for _, f := range Thin(twins, pins, r, now) {
			if f.Goes {
				out = append(out, f.ID)
			}
			if f.Why == "" {
				t.Errorf("%s: no reason", f.ID)
			}
		}
		return strings.Join(out, " ")
	}
	for what, c := range map[string]struct {
		got, want string
	}{
		"the rule":   {goes(Rule{Generations: g}, nil, nil), "t4 t7 t9 t10"},
		"no rule":    {goes(Rule{}, nil, nil), ""},
		"floor":      {goes(Rule{Generations: g, Floor: 6}, nil, nil), "t7 t9 t10"},
		"high floor": {goes(Rule{Generations: g, Floor: 100}, nil, nil), ""},
		"kept":       {goes(Rule{Generations: g}, map[string]shelf.Pin{"t10": {}, "t4": {}}, nil), "t7 t9"},
		"only old": {goes(Rule{Generations: []Generation{{0, 1}}}, nil,
			func(tw []*shelf.Twin) { tw[0].Taken = tw[1].Taken }), "t1 t2 t3 t4 t5 t6 t7 t8 t9 t10"},
		"none but one quiet": {goes(Rule{Generations: []Generation{{0, 1}}}, nil, func(tw []*shelf.Twin) {
			for _, x := range tw[:10] {
				x.Disks[0].Missing.Add(span.At(0, 1))
			}
		}), "t1 t2 t3 t4 t5 t6 t7 t8 t9"},
	} {
		if c.got != c.want {
			t.Errorf("%s: %q goes, want %q", what, c.got, c.want)
		}
	}
	if got := Thin(nil, nil, Rule{Generations: g}, now); len(got) != 0 {
		t.Error("nothing to thin")
	}
}

// TestThinningLetsTheHistoryReach: however often it is applied as time goes on, the newest stays, the
// floor holds, and every slot that had a twin keeps one.
func TestThinningLetsTheHistoryReach(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	g, _ := ParseRule("every one for 2 days, then one a day for 3 weeks, then one a month for ever")
	rule := Rule{Generations: g, Floor: 3}
	now := at("2024-01-01 08:00")
	var twins []*shelf.Twin
	for i := range 800 {
		now = now.Add(time.Duration(r.IntN(40)) * time.Hour)
		twins = append(twins,
			&shelf.Twin{ID: fmt.Sprint("t", i), Machine: "Kiosk", Taken: now, Disks: []shelf.TwinDisk{{}}})
		var stay []*shelf.Twin
		for _, f := range Thin(twins, nil, rule, now) {
			if !f.Goes {
				stay = append(stay, f.Twin)
			}
		}
		if len(stay) < min(3, len(twins)) || stay[0].Taken != now {
			t.Fatalf("round %d: %d stay", i, len(stay))
		}
		twins = stay
		slices.Reverse(twins)
	}
	if reach := now.Sub(twins[0].Taken); reach < now.Sub(at("2024-01-01 08:00"))-62*24*time.Hour {
		t.Errorf("it reaches back %s only", reach)
	}
	if len(twins) > 90 {
		t.Errorf("%d twins are left", len(twins))
	}
}

func TestPreviewAndApply(t *testing.T) {
	s := shelftest.New(t)
	a, b := shelftest.Content(40, 1), shelftest.Content(40, 2)
	mixed := append(append([][]byte{}, a[:20]...), b[:20]...)
	old := shelftest.Commit(t, s, "Kiosk", a)
	shelftest.Commit(t, s, "Kiosk", mixed)
	shelftest.Commit(t, s, "Kiosk", b)
	g, _ := ParseRule("one a year for ever")
	if err := SetRule(t.Context(), s, "", Rule{Generations: g}); err != nil {
		t.Fatal(err)
	}
	if err := SetRule(t.Context(), s, "Ticket desk", Rule{}); err != nil {
		t.Fatal(err)
	}
	p, err := PreviewThinning(t.Context(), s, "", time.Now())
	if err != nil {
		t.Fatal(err)
	}
	if p.Goes != 2 || len(p.Machines) != 1 || p.Back == 0 || p.Machines[0].Reach.IsZero() {
		t.Errorf("%+v", p)
	}
	if twins, _ := s.Twins(t.Context()); len(twins) != 3 {
		t.Error("a preview dropped something")
	}
	if only, err := RoomOf(t.Context(), s, []*shelf.Twin{old}); err != nil || only >= p.Back {
		t.Errorf("one alone: %d of %d, %v", only, p.Back, err)
	}
	if n, err := Apply(t.Context(), s, p); n != 2 || err != nil {
		t.Fatal(n, err)
	}
	f := gaveBack(t, s, false)
	if d := f.Bytes - p.Back; d < -200_000 || d > 200_000 {
		t.Errorf("said %d, came back %d", p.Back, f.Bytes)
	}
	if twins, _ := s.Twins(t.Context()); len(twins) != 1 {
		t.Errorf("%d twins are left", len(twins))
	}
	if events, _ := s.Journal(t.Context()); len(events) != 5 ||
		!strings.Contains(events[1].Why, "thinned: a newer one") {
		t.Errorf("%+v", events)
	}
	if r, err := ReadRules(t.Context(), shelftest.Reopen(t, s)); err != nil || len(r.Usual.Generations) != 1 ||
		len(r.For("Ticket desk").Generations) != 0 {
		t.Errorf("%+v %v", r, err)
	}
}

func TestForesight(t *testing.T) {
	now := at("2026-11-25 12:00")
	twin := func(m string, daysAgo int, added int64) *shelf.Twin {
		return &shelf.Twin{Machine: m, Taken: now.AddDate(0, 0, -daysAgo), Added: added}
	}
	f := Foresee([]*shelf.Twin{twin("Kiosk", 70, 50e9), twin("Kiosk", 35, 1e9), twin("Kiosk", 0, 1e9),
		twin("Desk", 10, 80e9)}, 132e9, 20e9, now)
	if f.PerWeek < 0.19e9 || f.PerWeek > 0.21e9 || f.Machines[0].Machine != "Kiosk" || f.Machines[1].PerWeek != 0 {
		t.Errorf("%+v", f)
	}
	if weeks := f.Full.Sub(now).Hours() / 24 / 7; weeks < 95 || weeks > 105 {
		t.Errorf("full in %.0f weeks", weeks)
	}
	if f := Foresee(nil, 0, 1, now); f.PerWeek != 0 || !f.Full.IsZero() || !strings.Contains(f.Words(), "no pace") {
		t.Errorf("%+v", f)
	}
}

// TestGrown: what twins brought is summed up at evenly spaced moments.
func TestGrown(t *testing.T) {
	day := func(n int) time.Time { return time.Date(2026, 5, n, 9, 0, 0, 0, time.UTC) }
	twins := []*shelf.Twin{{Taken: day(21), Added: 4}, {Taken: day(1), Added: 100}, {Taken: day(11), Added: 20}}
	for _, c := range []struct {
		twins []*shelf.Twin
		n     int
		want  []int64
	}{
		{twins, 3, []int64{100, 120, 124}},
		{twins, 5, []int64{100, 100, 120, 120, 124}},
		{twins[:1], 3, []int64{0, 0, 4}},
		{nil, 2, []int64{0, 0}},
		{twins, 1, []int64{124}},
		{twins, 0, []int64{}},
	} {
		from, to, got := Grown(c.twins, c.n)
		if !slices.Equal(got, c.want) {
			t.Errorf("%d twins at %d moments: %v, not %v", len(c.twins), c.n, got, c.want)
		}
		if len(c.twins) == 3 && c.n > 0 && (!from.Equal(day(1)) || !to.Equal(day(21))) {
			t.Errorf("from %s to %s", from, to)
		}
	}
}

// TestFatesWithAnotherTwin: what a rule drops once the coming twin stands on the shelf too.
func TestFatesWithAnotherTwin(t *testing.T) {
	s := shelftest.New(t)
	now := time.Now().Add(time.Minute)
	tw := shelftest.Commit(t, s, "Kiosk", shelftest.Content(3, 1))
	shelftest.Commit(t, s, "Ticket desk", shelftest.Content(3, 2))
	rule, err := ReadRule("one a year for ever; never fewer than 1")
	if err != nil {
		t.Fatal(err)
	}
	goes := func(coming *shelf.Twin) (ids []string) {
		t.Helper()
		fates, err := FatesWith(t.Context(), s, rule, "Kiosk", coming, now)
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range fates {
			ids = append(ids, f.ID)
		}
		return ids
	}
	if ids := goes(nil); len(ids) != 0 {
		t.Errorf("alone: %v", ids)
	}
	coming := &shelf.Twin{ID: shelf.NewTwinID(now), Machine: "Kiosk", Taken: now}
	if ids := goes(coming); !slices.Equal(ids, []string{tw.ID}) && tw.Taken.Year() == now.Year() {
		t.Errorf("with another one: %v, not %s", ids, tw.ID)
	}
	// a clock that goes wrong
	past := &shelf.Twin{ID: shelf.NewTwinID(now), Machine: "Kiosk", Taken: now.AddDate(0, 0, -1)}
	if ids := goes(past); len(ids) != 0 {
		t.Errorf("the coming one itself: %v", ids)
	}
	if err := s.Keep(t.Context(), tw.ID, "as it came"); err != nil {
		t.Fatal(err)
	}
	if ids := goes(coming); len(ids) != 0 {
		t.Errorf("kept for ever: %v", ids)
	}
	ids, err := s.TwinIDs(t.Context())
	if twins, _ := s.Twins(t.Context()); err != nil || len(ids) != 2 || !slices.Contains(ids, tw.ID) ||
		ids[0] < ids[1] ||
		len(twins) != 2 {
		t.Errorf("%v", ids)
	}
}

package sizes

import (
	"errors"
	"strings"
	"testing"

	"twinshelf/internal/units"
)

var room = Room{Disk: 1_000_204_886_016, Rest: 600 * units.GB, Used: func(name string) (int64, error) {
	if name == "ticket desk" {
		return 118 * units.GB, nil
	}
	return 0, errors.New("no twin of that machine")
}}

func TestParse(t *testing.T) {
	for text, want := range map[string]int64{
		"250 GB": 250 * units.GB, "250gb": 250 * units.GB, "465 GiB": 465 * units.GiB, "1.2 TB": 1_200_000_000_000,
		"1,2 TB": 1_200_000_000_000, "0.5t": 500 * units.GB,
		"1 500 mb": 1_500 * units.MB, "4096 bytes": 4096, "25%": 250_051_221_504, "100 %": room.Disk,
		"12.5 percent": 125_025_610_752,
		"rest":         room.Rest, "the REST": room.Rest, "rest/2": 300 * units.GB, "rest / 3": 200 * units.GB,
		"rest/1.5":                       400 * units.GB,
		"everything used on Ticket desk": 118 * units.GB,
		"as large as everything used on Ticket desk plus half": 177 * units.GB,
		"used on ticket desk plus 20%":                         141_600_000_000,
		"used on ticket desk plus 50 GB":                       168 * units.GB,
		"used on ticket desk plus as much again":               236 * units.GB,
		"0.000000001 tb":                                       1000,
	} {
		got, err := Parse(text, room)
		if err != nil || got.Bytes != want || !strings.Contains(got.Words, units.Binary(want)) ||
			got.Rest != strings.Contains(strings.ToLower(text), "rest") {
			t.Errorf("%q: %+v %v, want %d", text, got, err, want)
		}
	}
}

func TestWhatIsNoSize(t *testing.T) {
	for text, word := range map[string]string{
		"": "nothing was written", "  ": "nothing was written", "250": "no unit",
		"250 furlongs": "no unit that is known", "0 GB": "nothing at all", "-5 GB": "doesn't begin",
		"101%": "more than all", "rest/0": "doesn't say", "rest/": "doesn't say", "rest/x": "doesn't say",
		"9999999 PB": "no disk", "1.000.000 GB": "more than one way", "GB": "doesn't begin",
		"٣ GB": "aren't 0 to 9", "used on the Wreck": "no twin", "used on ticket desk plus": "no twin",
		"used on ticket desk plus lots": "doesn't begin", "1e3 GB": "no unit that is known",
	} {
		if got, err := Parse(text, room); err == nil || !strings.Contains(err.Error(), word) {
			t.Errorf("%q: %+v %v, want %q", text, got, err, word)
		}
	}
	if _, err := Parse("used on x", Room{Disk: 1 << 40, Rest: 1 << 40}); err == nil ||
		!strings.Contains(err.Error(), "nothing is known") {
		t.Errorf("%v", err)
	}
}

func TestSlipsArePointedOut(t *testing.T) {
	for text, want := range map[string]string{
		"250 TB": "was 250 GB meant", "250 MB": "was 250 GB meant", "250 GB": "", "512 MiB": "", "700 GB": "",
		"2 TB": "", "1.2 PB": "", "2 GB": "", "400 PB": "",
	} {
		got, err := Parse(text, room)
		if err != nil || !strings.Contains(got.Hint, want) || want == "" && got.Hint != "" {
			t.Errorf("%q: %q %v", text, got.Hint, err)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"250 GB", "rest/2", "25%", "used on ticket desk plus half", "1,2,3", "rest/0.0000001",
		"９ GB"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if got, err := Parse(s, room); err == nil && (got.Bytes <= 0 || got.Bytes > most) {
			t.Errorf("%q: %d", s, got.Bytes)
		}
	})
}
